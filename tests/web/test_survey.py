"""A survey of modes and presets: read in one go, put back, one table, the best start."""

import uuid

import pytest
from django.urls import reverse

from fenvik.core.analysis.standing import Standing, best_of
from fenvik.standins.rpc import Refusal
from fenvik.web.controls.values import values_of
from fenvik.web.groundwork import survey as survey_module
from fenvik.web.groundwork.survey import lines_of, survey
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from fenvik.web.passes.services import ask_to_stop, resume
from fenvik.web.visits.models import Tuning
from tests.web.adjustable import adjustable

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def at_once(monkeypatch):
    monkeypatch.setattr(survey_module, "SETTLES_S", 0.0)  # stand-ins change at once


def modes_page(client, tuning):
    return client.get(reverse("stop", args=(tuning.pk, "groundwork")) + "?view=modes").content.decode()


def act(client, tuning, name, **data):
    return client.post(reverse("act", args=(tuning.pk, name)), {"stop": "groundwork", "view": "modes", **data})


def test_every_mode_is_read_over_the_link_and_the_display_stands_as_before(person, bench, now, signed_in, settings):
    tuning = adjustable(person, bench, now, index=3, mode="Expert")
    display = bench.displays[3]
    display.choose_mode(tuning.mode_id)
    sdr = [m for m in display.menu.modes.values() if "sdr" in m.signals]
    assert act(signed_in, tuning, "survey", what="modes").status_code == 302
    pass_ = Pass.objects.get(purpose=PassPurpose.SURVEY)
    assert len(pass_.patches) == 7 * len(sdr)
    assert "0 of" in modes_page(signed_in, tuning)
    engine.run(pass_.pk)
    assert display.mode == tuning.mode_id
    lines = lines_of(Pass.objects.get(pk=pass_.pk))
    assert [line.at["mode"] for line in lines] == [m.id for m in sdr]
    # By true light: each mode's own white, and not that of the one before.
    for line in lines:
        display.choose_mode(line.at["mode"])
        white = pass_.readings.get(index=7 * lines.index(line))
        assert white.label == f"100 %, {line.at['label']}"
        assert line.standing.luminance == white.y
    assert len({round(line.standing.luminance, 2) for line in lines}) == len(lines)
    assert sum(line.best for line in lines) == 1
    page = modes_page(signed_in, tuning)
    assert "best start" in page
    assert "is the best start: its greys are off by" in page
    # The survey's readings are no readings of the tuning's own picture.
    assert "not measured yet" in page


def test_of_many_modes_those_that_are_named_are_read(person, bench, now, signed_in, monkeypatch):
    tuning = adjustable(person, bench, now, index=3, mode="Expert")
    display = bench.displays[3]
    told = display.methods["modes"]

    async def many(params):
        more = [{"id": f'x{i} "/&' + "i" * 70, "label": "Extra <b>" + "l" * 90, "signals": ["sdr"]} for i in range(30)]
        return [*await told(params), *more]

    monkeypatch.setitem(display.methods, "modes", many)
    answer = act(signed_in, tuning, "survey", what="modes", named="brilliant, Nothing like it")
    assert "no mode Nothing like it for this signal" in signed_in.get(answer["Location"]).content.decode()
    act(signed_in, tuning, "survey", what="modes", named="brilliant, EXPERT")
    pass_ = Pass.objects.get(purpose=PassPurpose.SURVEY)
    assert list(dict.fromkeys(row["at"]["label"] for row in pass_.patches)) == ["Brilliant", "Expert"]
    ask_to_stop(pass_id=pass_.pk, actor=person, now=now)
    act(signed_in, tuning, "survey", what="modes")
    pass_ = Pass.objects.filter(purpose=PassPurpose.SURVEY).latest("pk")
    assert len(pass_.patches) == 7 * 32
    assert max(len(row["label"]) for row in pass_.patches) == 80


@pytest.mark.parametrize("how", ["refused", "ignored", "left"])
def test_a_mode_that_cannot_be_read_is_passed_over_with_the_reason(person, bench, now, signed_in, monkeypatch, how):
    tuning = adjustable(person, bench, now, index=3, mode="Expert")
    display = bench.displays[3]
    told, chosen, told_state = (display.methods[name] for name in ("modes", "choose", "state"))
    gone = [{"id": "gone", "label": "Gone, really", "signals": ["sdr"]}]
    shown = []  # what it claims to show instead of the mode that it stands in
    monkeypatch.setattr("fenvik.link.display.LATE_S", 0.0)

    async def many(params):
        rows = await told(params)
        return [*rows[:1], *gone, *rows[1:]]

    async def choose(params):
        shown[:] = ["gone"] if how == "left" and params["mode"] == "gone" else []
        if how == "refused" and params["mode"] == "gone":
            raise Refusal(4, "No such mode.", name="gone")
        return {} if params["mode"] == "gone" else await chosen(params)

    async def state(params):
        answer = await told_state(params)
        return answer | {"mode": shown.pop()} if shown else answer

    for name, method in {"modes": many, "choose": choose, "state": state}.items():
        monkeypatch.setitem(display.methods, name, method)
    if how == "ignored":  # paired after the menu was noted by hand: the tuning has its mode by name alone
        Tuning.objects.update(mode_id="")
    act(signed_in, tuning, "survey", what="modes", named="Gone, really; expert ,brilliant")
    pass_ = Pass.objects.get(purpose=PassPurpose.SURVEY)
    engine.run(pass_.pk)
    pass_.refresh_from_db()
    assert pass_.state == PassState.DONE
    assert display.mode == tuning.mode_id
    assert [line.at["label"] for line in lines_of(pass_) if line.standing is None] == ["Gone, really"]
    words = {"refused": "No such mode", "ignored": "accepts it and shows another", "left": "left it by itself"}[how]
    assert words in modes_page(signed_in, tuning)


def test_presets_are_read_and_the_one_that_was_set_is_set_again(person, bench, now):
    tuning = adjustable(person, bench, now, index=4, mode="Theatre")
    display = bench.displays[4]
    control = next(c for c in display.menu.described(tuning.mode_id) if c["role"] == "white-preset")
    started = survey(tuning_id=tuning.pk, actor=person, now=now, what="presets")
    engine.run(started.pk)
    lines = lines_of(Pass.objects.get(pk=started.pk))
    assert [line.at["label"] for line in lines] == control["options"]
    xs = [line.standing.xy[0] for line in lines]
    assert len({round(x, 3) for x in xs}) == len(xs)
    assert display.menu.values[tuning.mode_id][control["id"]] == control["value"]


def test_by_hand_each_mode_waits_for_one_key(equipped, person, now, signed_in):
    answer = act(signed_in, equipped, "survey", what="modes", named="Film")
    assert "compares 2 to 60 modes, and here is 1" in signed_in.get(answer["Location"]).content.decode()
    act(signed_in, equipped, "survey", what="modes", named="Film, Vivid; Film")
    pass_ = Pass.objects.get(purpose=PassPurpose.SURVEY)
    for place in ("Film", "Vivid"):
        engine.run(pass_.pk)
        pass_.refresh_from_db()
        assert (pass_.state, pass_.reason) == (PassState.PAUSED, f"Choose the mode {place} in the menu, then go on.")
        assert f"Choose the mode {place}" in modes_page(signed_in, equipped)
        resume(pass_id=pass_.pk, actor=person)
    engine.run(pass_.pk)
    pass_.refresh_from_db()
    assert pass_.state == PassState.DONE
    assert [line.read for line in lines_of(pass_)] == [7, 7]
    answer = act(signed_in, equipped, "start-from", label="Vivid", mode="")
    assert "was noted or measured in Film" in signed_in.get(answer["Location"]).content.decode()
    equipped.sheets.all().delete()
    act(signed_in, equipped, "start-from", label="Vivid", mode="")
    assert Tuning.objects.get(pk=equipped.pk).picture_mode == "Vivid"


def test_the_best_start_is_near_and_reaches_the_colours():
    def at(greys, colours, covers):
        return Standing(100.0, (0.31, 0.33), 1.0, greys, colours, covers, 2.3)

    assert best_of([]) is None
    assert best_of([at(5, 5, 0.98), at(3, 4, 0.97), at(1, 1, 0.7)]) == 1  # the nearest one lacks colours
    assert best_of([at(5, 5, 0.72), at(3, 4, 0.71)]) == 1  # where none has them, that says nothing


def test_every_gamma_is_read_and_the_best_is_set_from_there(person, bench, now, signed_in):
    tuning = adjustable(person, bench, now, index=4, mode="Theatre")
    display = bench.displays[4]
    control = next(c for c in display.menu.described(tuning.mode_id) if c["role"] == "gamma")
    assert "Read every gamma" in modes_page(signed_in, tuning)
    started = survey(tuning_id=tuning.pk, actor=person, now=now, what="gamma")
    engine.run(started.pk)
    lines = lines_of(Pass.objects.get(pk=started.pk))
    assert [line.at["label"] for line in lines] == control["options"]
    best = next(line for line in lines if line.best)
    assert best.standing.greys == min(line.standing.greys for line in lines)
    assert display.menu.values[tuning.mode_id][control["id"]] == control["value"]
    other = next(option for option in control["options"] if option != control["value"])
    seen = len(values_of(tuning).changes)
    sent = {"link": "1", "seen": str(seen), "group": str(uuid.uuid4()), f"value-{control['id']}": other}
    assert act(signed_in, tuning, "turned", **sent).status_code == 302
    assert display.menu.values[tuning.mode_id][control["id"]] == other
    assert values_of(Tuning.objects.get(pk=tuning.pk)).now[control["id"]] == other
    page = modes_page(signed_in, tuning)
    assert ("It stands at that already" in page) == (best.at["label"] == other)
