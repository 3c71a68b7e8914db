"""What a display stands at is seen before anything is set or read; what does not speak for it proposes nothing."""

import uuid

import pytest
from django.urls import reverse

from fenvik.web.adjusting import handsfree, lists
from fenvik.web.adjusting.colours import hues_of
from fenvik.web.adjusting.ends import ends_of, highest
from fenvik.web.adjusting.models import ChangeList, ListKind, Run
from fenvik.web.adjusting.points import points_of
from fenvik.web.adjusting.services import read_level
from fenvik.web.adjusting.speaking import newest_white
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import SettingError, values_of
from fenvik.web.devices.standing import WrongStateError
from fenvik.web.handovers.services import PuttingBackError, make_handover
from fenvik.web.passes import engine, reader, sending
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.recent import recent_readings
from fenvik.web.passes.services import resume
from fenvik.web.results import files
from tests.web.adjustable import adjustable
from tests.web.reading import choose, fresh, run

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("impatient")]
ALL = ("grey-21", "windows", "checkerboard", "near-black", "near-white", "saturations")


@pytest.fixture
def oled(person, bench, now):
    return adjustable(person, bench, now, index=1, mode="Cinema")


def another_mode(display):
    return next(m for m in display.menu.modes.values() if "sdr" in m.signals and m.label != "Cinema")


def page(client, tuning, stop, **more):
    query = "&".join(f"{k}={v}" for k, v in more.items())
    return client.get(reverse("stop", args=(tuning.pk, stop)) + f"?{query}").content.decode()


def test_a_pass_in_another_mode_reads_nothing_and_an_act_sets_it_right(oled, person, bench, now, signed_in):
    other = another_mode(bench.displays[1])
    bench.displays[1].choose_mode(other.id)
    choose(oled, "grey-11")
    begun = run(oled, person, now)
    assert begun.state == "paused"
    assert f"The display is in {other.label}; this tuning is for Cinema." in begun.reason
    assert begun.readings.count() == 0
    assert "Choose it and go on" in page(signed_in, oled, "found")
    signed_in.post(reverse("act", args=(oled.pk, "choose-mode")), {"stop": "found", "pass": begun.pk})
    assert bench.displays[1].mode == oled.mode_id
    engine.run(begun.pk)
    begun.refresh_from_db()
    assert (begun.state, begun.readings.count()) == ("done", 11)
    assert begun.circumstance.display_mode == oled.mode_id


@pytest.mark.parametrize("keeps_on", [False, True])
def test_a_display_that_leaves_its_mode_in_the_middle_of_a_pass_pauses_it_there(oled, person, bench, now, monkeypatch, keeps_on):
    shown, other = bench.displays[1], another_mode(bench.displays[1])
    choose(oled, "grey-11")
    read = reader.Reader.read

    def leaves(self, turn, *args, **more):
        if turn.taken == 4:
            shown.choose_mode(other.id)
        return read(self, turn, *args, **more)

    monkeypatch.setattr(reader.Reader, "read", leaves)
    if keeps_on:
        begun = read_level(tuning_id=oled.pk, actor=person, now=now, keep_reading=True)
        engine.run(begun.pk)
        begun.refresh_from_db()
    else:
        begun = run(oled, person, now)
    assert (begun.state, begun.readings.count()) == ("paused", 4)
    assert f"The display is in {other.label}; this tuning is for Cinema. What was being read then was thrown away." in begun.reason
    assert begun.mend == "choose-mode"
    monkeypatch.undo()
    if not keeps_on:
        shown.choose_mode(oled.mode_id)
        resume(pass_id=begun.pk, actor=person)
        engine.run(begun.pk)
        begun.refresh_from_db()
        assert (begun.state, begun.complete, begun.readings.count()) == ("done", True, 11)


def test_nothing_is_set_while_the_display_stands_in_another_mode(oled, person, bench, now):
    other = another_mode(bench.displays[1])
    bench.displays[1].choose_mode(other.id)
    control = next(c for c in values_of(oled).controls if c.get("role") == "white.gain.red")
    with pytest.raises(WrongStateError, match="this tuning is for Cinema"):
        lists.set_over_link(tuning_id=oled.pk, actor=person, typed={control["id"]: "3"}, seen=0, now=now, group=uuid.uuid4())
    assert ControlChange.objects.count() == 0


def test_ladders_and_files_speak_for_nothing(oled, person, bench, now):
    """After window ladders, boards and near-black lists the points say what a plain pass says."""
    choose(oled, "grey-21")
    plain = run(oled, person, now)
    values = values_of(fresh(oled))
    before = points_of(fresh(oled), values, recent_readings(oled))
    white = newest_white(recent_readings(oled))
    choose(oled, *ALL, drift_every=6)
    run(oled, person, now)
    data, _, _ = files.write(plain, "csv")
    files.take_up(tuning_id=oled.pk, actor=person, data=data.replace(b"94", b"93"), purpose="left", name="x.csv", now=now)
    rows = recent_readings(oled)
    after = points_of(fresh(oled), values, rows)
    assert newest_white(rows) == pytest.approx(white, rel=0.02)
    assert after.plan.now.mean() == pytest.approx(before.plan.now.mean(), abs=0.25)
    levels = {row.label for row in rows if row.part != "main"}
    assert len([row for row in rows if row.part not in ("main", "beside")]) <= 40, "only what the tape shows"
    assert levels


def test_points_within_tolerance_are_not_proposed_and_what_is_untouched_is_said_once(oled, person, bench, now, signed_in):
    oled.tolerance = 12.0  # the mean is to be well within it
    oled.save()
    engine.run(lists.read_points(tuning_id=oled.pk, actor=person, now=now).pk)
    body = page(signed_in, oled, "adjust", work="points")
    assert "Within tolerance." in body
    assert body.count("Untouched so far") == 1
    with pytest.raises(lists.NothingToEnterError):
        lists.list_points(tuning_id=oled.pk, actor=person, now=now)


def test_light_shows_its_own_moves(person, bench, now, signed_in):
    lcd = adjustable(person, bench, now, index=3, mode="Expert", luminance=60.0)
    from fenvik.web.adjusting import lights

    engine.run(lights.read_lights(tuning_id=lcd.pk, actor=person, now=now).pk)
    light = next(c for c in values_of(fresh(lcd)).controls if c.get("role") == "light")
    body = page(signed_in, lcd, "adjust", work="light")
    turned = body.split('<ul class="nudges">')[1].split("</ul>")[0]
    assert f"value-{light['id']}" in turned
    gains = [c["id"] for c in values_of(fresh(lcd)).controls if (c.get("role") or "").startswith("white.")]
    assert not any(f"value-{name}" in turned for name in gains), "no gain is proposed for the light"


def test_one_of_several_logged_starts_no_pass_before_the_others(oled, person, bench, now, signed_in):
    rows = [c for c in values_of(oled).controls if (c.get("role") or "").startswith("white.gain.")]
    for i, control in enumerate(rows):
        signed_in.post(
            reverse("act", args=(oled.pk, "turned")),
            {"stop": "adjust", "work": "two", "control": control["id"], "other-value": str(i + 1), "seen": i},
        )
    assert ControlChange.objects.count() == len(rows) == 3
    assert not Pass.objects.filter(purpose=PassPurpose.ADJUST).exists()


def test_colours_read_before_the_light_was_changed_propose_nothing(person, bench, now):
    mixed = adjustable(person, bench, now, index=3, mode="Expert", luminance=120.0)
    from fenvik.web.adjusting import colours

    engine.run(colours.read_hues(tuning_id=mixed.pk, actor=person, names=[], now=now).pk)
    values = values_of(fresh(mixed))
    assert any(h.nudge is not None for h in hues_of(mixed, values, recent_readings(mixed)))
    light = next(c for c in values.controls if c.get("role") == "light")
    ControlChange.objects.create(
        tuning=mixed, group=uuid.uuid4(), control=light["id"], label="Light", before=values.now[light["id"]], after=1,
        at=Reading.objects.latest("id").at, by=person,
    )  # fmt: skip
    stale = hues_of(mixed, values_of(fresh(mixed)), recent_readings(mixed))
    assert all(h.is_stale and h.nudge is None for h in stale if h.parts is not None)


def test_what_hands_free_found_dead_is_not_proposed_by_hand(person, bench, now):
    mixed = adjustable(person, bench, now, index=3, mode="Expert", luminance=120.0)
    from fenvik.web.adjusting import colours

    bench.displays[3].set_control("q2", "cx-red-g", 14)
    engine.run(colours.read_hues(tuning_id=mixed.pk, actor=person, names=[], now=now).pk)
    values = values_of(fresh(mixed))
    mine = [c["id"] for c in values.controls if (c.get("role") or "").startswith("colour.red.")]
    red = next(h for h in hues_of(mixed, values, recent_readings(mixed)) if h.name == "red")
    run = Pass.objects.create(
        tuning=mixed, purpose=PassPurpose.HANDS_FREE, patches=[], meter=mixed.meter, source=mixed.source,
        meter_facts=mixed.meter.facts, bits=10, window=10, settle_s=0, average=1,
        created_at=now, finished_at=now, state="done",
    )  # fmt: skip
    Run.objects.create(pass_of=run, mode="q2", steps=["colour"], budget=90, controls=[], proof=9, dead=mine)
    told = next(h for h in hues_of(mixed, values, recent_readings(mixed)) if h.name == "red")
    assert told.nudge is None
    assert len(told.dead) == len(mine) > len(red.dead)


def test_putting_back_survives_a_break_and_no_handover_is_made_meanwhile(oled, person, bench, now):
    begun = handsfree.start(tuning_id=oled.pk, actor=person, now=now, steps=["white", "grey"], budget=90)
    engine.run(begun.pk)
    turned = len(lists.left_of(ChangeList(rows=_back_rows(begun, oled)), values_of(fresh(oled))))
    bench.displays[1].fault.start("drop", after=8)
    with pytest.raises(Exception, match="closed the connection"):
        handsfree.put_back(pass_id=begun.pk, actor=person, now=now)
    bench.displays[1].fault.start("")
    listed = lists.open_list(oled.pk)
    assert listed.kind == ListKind.BACK
    left = lists.left_of(listed, values_of(fresh(oled)))
    assert 0 < len(left) < turned
    shown = {c["id"]: c["value"] for c in bench.displays[1].menu.described(oled.mode_id)}
    assert values_of(fresh(oled)).now == shown, "what was set is logged, and nothing else"
    with pytest.raises(PuttingBackError, match="being put back"):
        make_handover(visit_id=oled.visit_id, actor=person, now=now)
    lists.enter_over_link(tuning_id=oled.pk, actor=person, list_id=listed.pk, now=now, group=uuid.uuid4())
    assert lists.open_list(oled.pk) is None


def _back_rows(run_, tuning):
    return [{"control": c["id"], "after": c["value"]} for c in run_.run.controls]


def test_hdr_is_worked_below_the_light_where_the_display_rolls_off(ready, person, now, bench):
    ready.signal, ready.target_name = "hdr10", "bt2020-pq"
    ready.save()
    choose(ready, "grey-21")
    done = run(ready, person, now)
    top = highest(fresh(ready))
    assert top == pytest.approx(100 * _pq(0.5 * done.summary["white"]), abs=0.5)
    high, low = ends_of(fresh(ready))
    assert low < high <= top < 80
    from fenvik.web.adjusting.services import work_at

    with pytest.raises(SettingError, match="no longer follows the signal"):
        work_at(tuning_id=ready.pk, actor=person, end="high", level=80.0)
    assert sending.stage_of(fresh(ready)).peak == done.summary["white"]


def _pq(luminance):
    root = (luminance / 10_000) ** (2610 / 16384)
    return ((3424 / 4096 + 2413 / 128 * root) / (1 + 2392 / 128 * root)) ** (2523 / 32)
