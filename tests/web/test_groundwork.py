"""Groundwork: checks from the settings and from people, levels, warm-up, patterns and the pattern screen."""

import datetime as dt
import itertools
import re
import threading

import numpy as np
import pytest
from django.core.cache import cache
from django.urls import reverse
from PIL import Image

from fenvik.core.signal.patterns import PATTERNS, Signal
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.services import note_found
from fenvik.web.groundwork.models import Answer, CheckAnswer
from fenvik.web.groundwork.services import AnswerError, answer_check, watch_warm_up
from fenvik.web.groundwork.state import rows_of, warning_of
from fenvik.web.groundwork.warm import keep_warmth, watching
from fenvik.web.groundwork.words import warm_up_fact, warmth_words, when
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose, PassState, Reading
from fenvik.web.passes.script import Script, Scripted
from fenvik.web.passes.services import ask_to_pause, ask_to_stop, start_pass
from fenvik.web.patterns.models import LookedAt, Screen
from fenvik.web.patterns.services import ScreenNumberError, drawn, find_by_number, new_number, screen_of, set_range
from fenvik.web.stops.scenes import load_tuning
from fenvik.web.trail.facts import trail_of
from fenvik.web.visits.models import Tuning
from tests.web.served import until

pytestmark = pytest.mark.django_db


def act(client, tuning, name, **data):
    return client.post(reverse("act", args=(tuning.pk, name)), {"stop": "groundwork", **data})


def page(client, tuning, query=""):
    return client.get(reverse("stop", args=(tuning.pk, "groundwork")) + query).content.decode()


def rows(tuning):
    from fenvik.web.controls.values import values_of

    fresh = Tuning.objects.select_related("display__menu_map", "display__room").get(pk=tuning.pk)
    return {
        row.check.id: row
        for row in rows_of(fresh, values_of(fresh), CheckAnswer.objects.filter(tuning=tuning).order_by("id"))
    }


def groundwork_of(tuning, person):
    return next(s for s in trail_of(load_tuning(person.firm_id, tuning.pk)).stops if s.id == "groundwork")


def test_the_settings_sheet_says_what_it_knows(signed_in, person, tuning, now):
    assert rows(tuning)["energy"].state == "open"
    note_found(tuning_id=tuning.pk, actor=person, typed={"eco-1": "Low", "pq-5": "10", "eco-2": "off"}, now=now)
    known = rows(tuning)
    assert (known["energy"].state, known["energy"].words) == ("wrong", "Energy care stands at Low")
    assert (known["sharpness"].state, known["ambient"].state) == ("right", "right")
    act(signed_in, tuning, "turned", **{"value-eco-1": "Off", "seen": "0"})
    assert rows(tuning)["energy"].words == "as it should be: Energy care at Off, changed from Low"


def test_left_on_wants_a_reason_and_holds_only_for_that_value(signed_in, person, tuning, now):
    note_found(tuning_id=tuning.pk, actor=person, typed={"pq-4": "Low"}, now=now)
    answer = act(signed_in, tuning, "answer", check="motion", answer="left-on", after="Low", because=" ")
    assert "Say why it is left on" in signed_in.get(answer["Location"]).content.decode()
    assert not CheckAnswer.objects.exists()
    act(signed_in, tuning, "answer", check="motion", answer="left-on", after="Low", because="the client likes it")
    assert rows(tuning)["motion"].words == "Smooth motion left at Low, because the client likes it"
    assert rows(tuning)["motion"].is_done
    act(signed_in, tuning, "turned", **{"value-pq-4": "High", "seen": "0"})
    assert rows(tuning)["motion"].state == "wrong"


def test_what_no_control_tells_is_answered_by_a_person_and_can_be_taken_back(person, tuning, now):
    for answer, after, words in (
        (Answer.RIGHT, "", "as it should be"), (Answer.CHANGED, "all alike", "changed from something else to all alike"),
        (Answer.OPEN, "", "not looked at yet"),
    ):  # fmt: skip
        answer_check(tuning_id=tuning.pk, actor=person, check_id="inputs", answer=answer, after=after, now=now)
        assert rows(tuning)["inputs"].words == words
    with pytest.raises(AnswerError):
        answer_check(tuning_id=tuning.pk, actor=person, check_id="inputs", answer="maybe", now=now)
    with pytest.raises(AnswerError):
        answer_check(tuning_id=tuning.pk, actor=person, check_id="signal", answer="right", after="8k", now=now)


def test_a_signal_that_does_not_fit_is_warned_of_at_every_stop(signed_in, person, tuning, now):
    said = {"mode": "m3", "signal": "hdr10", "input": "1", "on_minutes": 3, "notices": [], "at": now.isoformat()}
    tuning.display.said = said
    tuning.display.save()
    Tuning.objects.update(mode_id="m2")
    known = rows(tuning)
    assert known["signal"].warning
    assert "The display shows HDR10 now, and this tuning is for SDR" in known["signal"].words
    assert known["mode"].state == "wrong"
    Tuning.objects.update(mode_id="")
    assert rows(tuning)["mode"].state == "open"
    tuning.display.said = said | {"modes": [{"id": "m3", "label": "film "}]}  # paired, and its menu not read over the link
    tuning.display.save()
    assert rows(tuning)["mode"].words == "the display is in Film"
    Tuning.objects.update(mode_id="m2")
    assert "signal does not fit" in signed_in.get(reverse("stop", args=(tuning.pk, "found"))).content.decode()
    tuning.display.said = said | {"at": (now - dt.timedelta(minutes=2)).isoformat()}
    tuning.display.save()
    assert warning_of(Tuning.objects.select_related("display").get()) == ""  # what was so then may be otherwise now
    assert (rows(tuning)["mode"].state, rows(tuning)["signal"].state) == ("open", "open")
    # What was right then was looked at, and is asked again before anything is read.
    before = now - dt.timedelta(minutes=2)
    tuning.display.said = said | {"mode": "m2", "signal": "sdr", "at": before.isoformat()}
    tuning.display.save()
    at = when(before.isoformat())
    assert (rows(tuning)["mode"].state, rows(tuning)["mode"].words) == ("right", f"the display was in Film {at}")
    assert rows(tuning)["signal"].words == f"the display showed SDR {at}"
    Tuning.objects.update(mode_id="", picture_mode="Called otherwise")
    assert (rows(tuning)["mode"].state, rows(tuning)["signal"].state) == ("open", "right"), "which mode is meant is not known"
    Tuning.objects.update(mode_id="m2", picture_mode="Film")
    tuning.display.said["at"] = (now - dt.timedelta(days=400)).isoformat()
    tuning.display.save()
    assert re.fullmatch(r"the display was in Film on \d+ \w+ 20\d\d", rows(tuning)["mode"].words)


def test_a_person_may_say_which_signal_plays(person, tuning, now):
    answer_check(tuning_id=tuning.pk, actor=person, check_id="signal", answer="right", after="hdr10", now=now)
    assert rows(tuning)["signal"].state == "wrong"
    answer_check(tuning_id=tuning.pk, actor=person, check_id="signal", answer="right", after="sdr", now=now)
    assert rows(tuning)["signal"].state == "right"


def test_the_trail_says_what_is_next_and_when_all_is_done(signed_in, person, equipped, now):
    stop = groundwork_of(equipped, person)
    assert not stop.done
    assert "more" in stop.fact
    for row in rows(equipped).values():
        if row.control is not None and row.state == "wrong":
            act(
                signed_in,
                equipped,
                "turned",
                **{f"value-{row.control['id']}": row.off, "seen": str(ControlChange.objects.count())},
            )
    for check in ("mode", "inputs"):
        answer_check(tuning_id=equipped.pk, actor=person, check_id=check, answer="right", now=now)
    answer_check(tuning_id=equipped.pk, actor=person, check_id="signal", answer="right", after="sdr", now=now)
    stop = groundwork_of(equipped, person)
    assert stop.done
    assert stop.fact.endswith("warm-up not watched")
    assert "Ready to be measured" in page(signed_in, equipped)


def warm_pass(tuning, person, now, minutes=30.0, loss=0.0):
    """A warm-up pass with readings of half a minute's distance, as a worker would have stored them."""
    made = watch_warm_up(tuning_id=tuning.pk, actor=person, now=now)
    start = now - dt.timedelta(minutes=minutes)
    rng = np.random.default_rng(1)
    for i in range(int(minutes * 2)):
        y = 110 * (1 - loss * np.exp(-i / 2 / 14)) * (1 + rng.normal(0, 0.001))
        at = start + dt.timedelta(seconds=30 * i)
        Reading.objects.create(
            pass_of=made, index=0, label="100 %", r=235, g=235, b=235, x=0.95 * y, y=y, z=1.09 * y, seconds=1, clock=i,
            started_at=at, at=at,
        )
    return made


def has_settled(made):
    """Whether the pass says so, led by what is stored of it."""
    script = Script(made, Scripted(watching, keep_warmth))
    script.lead(made.readings.count(), made.patches)
    return script.is_over


def test_a_warm_up_pass_says_when_it_has_settled(signed_in, person, equipped, now):
    made = warm_pass(equipped, person, now)
    assert has_settled(made)
    made.refresh_from_db()
    assert made.summary["settled_at"]
    assert "settled at" in warm_up_fact([made], now)
    body = page(signed_in, equipped, "?view=warm-up&table=1")
    assert "It settled at" in body
    assert body.count("<tr>") > 60
    Pass.objects.update(state=PassState.DONE, finished_at=now)
    found = start_pass(tuning_id=equipped.pk, actor=person, now=now)
    assert found.circumstance.settled_at
    assert "The display had settled at" in warmth_words(found.circumstance)


@pytest.mark.django_db(transaction=True)
def test_going_on_before_it_has_settled_is_possible_and_remembered(signed_in, person, equipped, now):
    made = warm_pass(equipped, person, now, minutes=15, loss=0.055)
    assert not has_settled(made)
    assert "warm-up:" in groundwork_of(equipped, person).fact
    started = start_pass(tuning_id=equipped.pk, actor=person, now=now)  # the warm-up gives way
    made.refresh_from_db()
    assert made.state == PassState.STOPPED
    assert "measured before the display had settled" in warmth_words(started.circumstance)
    engine.run(started.pk)
    found = signed_in.get(reverse("stop", args=(equipped.pk, "found"))).content.decode()
    assert "measured before the display had settled" in found


@pytest.mark.django_db(transaction=True)
def test_a_warm_up_goes_on_with_what_it_has_seen_after_a_worker_s_end_and_a_pause(person, equipped, now, settings):
    settings.WARM_UP_INTERVAL_S = 0.02
    made = watch_warm_up(tuning_id=equipped.pk, actor=person, now=now)
    for wanted, is_end in ((4, True), (8, False)):
        runner = threading.Thread(target=engine.run, args=(made.pk,))
        runner.start()
        until(lambda wanted=wanted: made.readings.count() >= wanted)
        if is_end:
            engine.stopping.set()
        else:
            ask_to_pause(pass_id=made.pk, actor=person, now=now)
        runner.join(20)
        engine.stopping.clear()
        made.refresh_from_db()
        assert made.summary["readings"] == made.readings.count() >= wanted
    assert made.state == PassState.PAUSED


@pytest.mark.django_db(transaction=True)
def test_a_warm_up_pass_waits_between_readings_and_hears_that_it_is_to_stop(person, equipped, now, settings):
    settings.WARM_UP_INTERVAL_S = 0.5
    made = watch_warm_up(tuning_id=equipped.pk, actor=person, now=now)
    assert (made.repeat, made.interval_s, list(made.patches[0]["rgb"])) == (True, 0.5, [235, 235, 235])
    runner = threading.Thread(target=engine.run, args=(made.pk,))
    runner.start()
    until(lambda: Reading.objects.count() >= 3)
    ask_to_stop(pass_id=made.pk, actor=person, now=now)
    runner.join(90)
    made.refresh_from_db()
    assert made.state == PassState.STOPPED
    at = list(Reading.objects.order_by("id").values_list("started_at", flat=True))
    assert len(at) >= 3
    assert all((later - earlier).total_seconds() >= 0.49 for earlier, later in itertools.pairwise(at))
    assert made.summary["readings"] >= 3


def test_every_pattern_has_its_page_and_three_examples(signed_in, tuning):
    for name, pattern in PATTERNS.items():
        assert pattern.look_for[:30] in page(signed_in, tuning, f"?view=patterns&pattern={name}")
    for how in ("low", "right", "high"):
        answer = signed_in.get(reverse("example", args=(name, how)))
        assert answer["Content-Type"] == "image/png"
    assert signed_in.get(reverse("example", args=(name, "sideways"))).status_code == 404


def test_a_pattern_is_shown_on_the_source_with_its_options(signed_in, equipped, bench):
    act(signed_in, equipped, "show", view="patterns", pattern="checkerboard", **{"o-across": "8", "o-start": "black"})
    picture = bench.world.picture
    assert picture.chart == "checkerboard"
    assert (picture.codes[2, 2] == 16).all()
    assert LookedAt.objects.get().pattern == "checkerboard"
    answer = act(signed_in, equipped, "show", view="patterns", pattern="patch", **{"o-size": "0", "o-red": "55"})
    body = answer.content.decode()
    assert answer.status_code == 422
    assert "Size goes from 0.1 to 100 % of the screen." in body
    assert 'value="55"' in body
    assert bench.world.picture.chart == "checkerboard"


def test_a_pattern_does_not_disturb_a_pass(signed_in, equipped, person, now, bench):
    start_pass(tuning_id=equipped.pk, actor=person, now=now)
    answer = act(signed_in, equipped, "show", view="patterns", pattern="steps")
    assert "is using Brook P1" in signed_in.get(answer["Location"]).content.decode()
    assert bench.world.picture.chart == ""


def test_without_anything_to_show_it_on_it_says_what_to_do(signed_in, tuning):
    answer = act(signed_in, tuning, "show", view="patterns", pattern="steps")
    assert "nothing open yet that could show it" in signed_in.get(answer["Location"]).content.decode()


def test_old_and_new_value_are_kept_with_the_pattern(signed_in, person, tuning, now):
    note_found(tuning_id=tuning.pk, actor=person, typed={"pic-3": "50"}, now=now)
    act(signed_in, tuning, "look-by", view="patterns", pattern="black-level", **{"value-pic-3": "47", "seen": "0"})
    row = LookedAt.objects.get()
    assert (row.pattern, row.control, row.before, row.after) == ("black-level", "pic-3", 50, 47)
    assert "Brightness 50 → 47" in page(signed_in, tuning, "?view=patterns&pattern=black-level")
    answer = act(
        signed_in, tuning, "look-by", view="patterns", pattern="black-level", **{"value-pic-3": "470", "seen": "1"}
    )
    assert answer.status_code == 422
    assert "Brightness goes from 0 to 100; 470 is outside." in answer.content.decode()


def test_levels_go_step_by_step_and_show_their_patterns(signed_in, person, equipped, bench):
    answer = act(signed_in, equipped, "step", view="levels", to="white-level")
    assert answer["Location"].endswith("?view=levels&step=white-level")
    assert bench.world.picture.chart == "white-level"
    act(
        signed_in, equipped, "step", view="levels", step="white-level", done="white-level", to="black-level",
        **{"value-pic-2": "88", "seen": "0"},
    )
    assert bench.world.picture.chart == "black-level"
    assert ControlChange.objects.get().after == 88
    assert LookedAt.objects.get(step="white-level").after == 88
    assert "White level" in page(signed_in, equipped, "?view=levels&step=black-level")


def test_levels_of_an_hdr_signal_have_words_and_patterns_of_their_own(signed_in, tuning, person, now):
    Tuning.objects.filter(pk=tuning.pk).update(signal="hdr10", target_name="bt2020-pq")
    address = reverse("stop", args=(tuning.pk, "groundwork")) + "?view=levels&step="
    assert "The signal says how bright" in signed_in.get(address + "light").content.decode()
    white = signed_in.get(address + "white-level").content.decode()
    assert "every display ends somewhere" in white
    assert "ramp-grey" in white
    Tuning.objects.filter(pk=tuning.pk).update(signal="sdr", target_name="bt709-bt1886")
    assert "White before black" in signed_in.get(address + "white-level").content.decode()


def test_the_screen_is_found_by_its_number_once_and_for_a_while(client, person, tuning, now):
    cache.clear()
    screen = new_number(visit_id=tuning.visit_id, actor=person, now=now)
    for wrong in ("", "12", "x" * 50):
        with pytest.raises(ScreenNumberError):
            find_by_number(number=wrong, where="here", now=now)
    with pytest.raises(ScreenNumberError):
        find_by_number(number=screen.number, where="here", now=now + dt.timedelta(minutes=16))
    assert client.post(reverse("screen-number"), {"number": screen.number})["Location"] == reverse(
        "screen", args=(screen.token,)
    )
    with pytest.raises(ScreenNumberError):
        find_by_number(number=screen.number, where="here", now=now)
    for _ in range(12):
        answer = client.post(reverse("screen-number"), {"number": "1"})
    assert "Too many numbers" in answer.content.decode()


def test_its_pictures_are_exact_at_any_size(client, person, tuning):
    screen = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id)
    set_range(visit_id=tuning.visit_id, actor=person, driver_range="limited")
    Screen.objects.update(picture={"kind": "pattern", "pattern": "clipping", "options": {}})
    answer = client.get(reverse("screen-picture", args=(screen.token,)), {"w": "333", "h": "222"})
    import io

    got = np.asarray(Image.open(io.BytesIO(answer.content)))
    np.testing.assert_array_equal(got, PATTERNS["clipping"].drawn(333, 222, Signal(8, "limited")).codes)
    for wrong in ({"w": "9999999", "h": "9"}, {"w": "a", "h": "b"}, {}):
        assert client.get(reverse("screen-picture", args=(screen.token,)), wrong).status_code == 404
    assert client.get(reverse("screen", args=("no such token",))).status_code == 404


def test_what_the_page_says_is_checked(client, person, tuning, now):
    screen = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id)
    address = reverse("screen-drawn", args=(screen.token,))
    assert client.post(address, "no json", content_type="application/json").status_code == 400
    good = {"revision": 10**6, "width": 1920, "height": 1080, "exact": True, "awake": False}
    assert client.post(address, good, content_type="application/json").status_code == 200
    screen.refresh_from_db()
    assert (screen.shown, screen.size, screen.is_open) == (
        0,
        "1920 × 1080",
        True,
    )  # it cannot have drawn what was never asked
    large = good | {"width": 8192, "height": 8192}
    assert client.post(address, large, content_type="application/json").status_code == 400
    # Pictures are drawn for the size that it has told, and its address is good for a few days.
    picture = reverse("screen-picture", args=(screen.token,))
    assert [client.get(picture, {"w": w, "h": 1080}).status_code for w in (1920, 1921)] == [200, 404]
    Screen.objects.update(until=now)
    assert client.get(picture, {"w": 1920, "h": 1080}).status_code == 404
    assert screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id).token != screen.token
    assert drawn(token="nobody", revision=1, size=(1, 1), exact=True, awake=True, now=now) is None


def test_a_screen_belongs_to_its_visit_and_is_no_instrument_elsewhere(signed_in, person, tuning, now):
    screen = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id)
    act(signed_in, tuning, "use-screen")
    tuning.refresh_from_db()
    assert tuning.source == screen.device
    assert (tuning.bits, tuning.range) == (8, "full")
    assert "Pattern screen" in signed_in.get(reverse("stop", args=(tuning.pk, "instruments"))).content.decode()
    assert "Pattern screen" not in signed_in.get(reverse("instruments")).content.decode()


def test_another_firm_cannot_reach_any_of_it(client, stranger, equipped, person, now):
    sheet = equipped.sheets.get()
    screen_of(visit_id=equipped.visit_id, firm_id=person.firm_id)
    client.force_login(stranger, backend="django.contrib.auth.backends.ModelBackend")
    for name in (
        "note", "answer", "show", "open-screen", "identify", "driver-range", "use-screen", "step", "watch", "keep-menu",
        "keep-place", "look", "pair",
    ):
        assert act(client, equipped, name).status_code == 404, name
    for name in ("sheet", "sheet-json", "sheet-csv"):
        assert client.get(reverse(name, args=(sheet.pk,))).status_code == 404
    assert Pass.objects.filter(purpose=PassPurpose.WARM_UP).count() == 0


def test_a_pattern_finds_its_controls_by_role_or_by_name_or_offers_all(signed_in, person, tuning, now):
    from fenvik.standins.models import projector_menu
    from fenvik.web.demo.build import menu_map_of, typed_sheet

    tuning.display.menu_map = menu_map_of(person.firm, "Loftlight", "L4", projector_menu(), "c2")
    tuning.display.save()
    note_found(tuning_id=tuning.pk, actor=person, typed=typed_sheet(projector_menu(), "c2"), now=now)
    assert 'name="value-cv-red-x"' in page(signed_in, tuning, "?view=patterns&pattern=convergence")
    assert 'name="value-ln-focus"' in page(signed_in, tuning, "?view=patterns&pattern=focus")
    body = page(signed_in, tuning, "?view=patterns&pattern=uniformity")
    assert 'name="other-value"' in body
    act(
        signed_in, tuning, "look-by", view="patterns", pattern="uniformity", control="pic-1", seen="0",
        **{"other-value": "55"},
    )
    assert ControlChange.objects.get().after == 55
    assert LookedAt.objects.get().label == "Laser"


def test_a_free_patch_says_its_codes(signed_in, tuning):
    assert "Sent as 235, 235, 235 on 16: 8 bit, limited range." in page(
        signed_in, tuning, "?view=patterns&pattern=patch"
    )


def test_a_rate_that_does_not_fit_the_screen_is_said(client, signed_in, person, tuning):
    screen = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id)
    told = {"revision": 0, "width": 1920, "height": 1080, "exact": True, "awake": True, "hz": 59.94}
    client.post(reverse("screen-drawn", args=(screen.token,)), told, content_type="application/json")
    body = page(signed_in, tuning, "?view=patterns&pattern=cadence")
    assert "draws 60 times a second; 24 pictures a second do not fit evenly" in body
    Screen.objects.update(picture={"kind": "pattern", "pattern": "cadence", "options": {"rate": "30"}})
    assert "30 pictures a second fit evenly" in page(signed_in, tuning, "?view=patterns&pattern=cadence")


def test_what_was_seen_is_noted_and_stands_at_its_check(signed_in, person, tuning, now):
    act(signed_in, tuning, "note-seen", view="patterns", pattern="overscan", note="left edge cut by two marks")
    assert "left edge cut by two marks" in page(signed_in, tuning, "?view=patterns&pattern=overscan")
    body = page(signed_in, tuning, "?view=checks&check=overscan")
    assert "Look at it: " in body
    assert "left edge cut by two marks" in body
    answer = act(signed_in, tuning, "note-seen", view="patterns", pattern="overscan", note=" ")
    assert "Say what was seen" in signed_in.get(answer["Location"]).content.decode()


def test_colours_of_all_patterns_are_chosen_once(signed_in, person, tuning):
    screen = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id)
    act(signed_in, tuning, "pattern-colours", view="patterns", colours="p3d65 in bt2020")
    screen.refresh_from_db()
    assert screen.colours == "p3d65 in bt2020"
    assert 'value="p3d65 in bt2020" selected' in page(signed_in, tuning, "?view=patterns")
    act(signed_in, tuning, "pattern-colours", view="patterns", colours="mine")
    screen.refresh_from_db()
    assert screen.colours == "p3d65 in bt2020"


@pytest.mark.parametrize(
    "body", ["", "[]", '{"pattern": 3, "options": 4}', '{"pattern": "no"}', '{"pattern": "patch", "options": {"size": "x"}}']
)
def test_a_choice_on_the_screen_that_is_none_changes_nothing(client, person, tuning, body):
    screen = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id)
    answer = client.post(reverse("screen-choose", args=(screen.token,)), body, content_type="application/json")
    assert answer.status_code in (400, 409)
    assert answer.json()["error"]
    screen.refresh_from_db()
    assert screen.revision == 0
