"""A hands-free run on the screen whose display does not stay as it is set: each is said where it is looked for."""

from dataclasses import replace

import pytest
from django.urls import reverse

from fenvik.link.faults import DeviceError
from fenvik.session.reading import read_once
from fenvik.standins import menu
from fenvik.standins.rpc import Refusal
from fenvik.web.adjusting import handsfree
from fenvik.web.controls.values import values_of
from fenvik.web.passes import engine, reader, services
from fenvik.web.passes.models import PassState
from fenvik.web.visits.models import Tuning
from tests.web.adjustable import adjustable
from tests.web.test_handsfree import cut_off

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def ready(person, bench, now):
    return adjustable(person, bench, now, index=3, mode="Expert")


def after_sets(display, count, act):
    """Let something happen to a display after so many of its controls were set."""
    sets, done = display.set_control, []

    def counted(mode, control, value):
        made = sets(mode, control, value)
        done.append(control)
        if len(done) == count:
            display.set_control = sets
            act()
        return made

    display.set_control = counted


def run(tuning, person, now, **more):
    started = handsfree.start(tuning_id=tuning.pk, actor=person, now=now, steps=["white", "grey"], budget=110, **more)
    engine.run(started.pk)
    started.refresh_from_db()
    return started


def is_true(bench, tuning):
    really = {c["id"]: c["value"] for c in bench.displays[3].menu.described(tuning.mode_id)}
    return values_of(Tuning.objects.get(pk=tuning.pk)).now == really


def test_a_display_that_leaves_its_mode_in_the_middle_is_put_back_into_it(ready, person, now, bench, signed_in):
    display = bench.displays[3]
    other = next(m.id for m in display.menu.modes.values() if "sdr" in m.signals and m.id != ready.mode_id)
    after_sets(display, 30, lambda: display.choose_mode(other))
    started = run(ready, person, now)
    assert started.state == PassState.DONE
    assert display.mode == ready.mode_id
    assert any("left its picture mode by itself" in note for note in started.run.notes)
    assert started.run.left_score < 0.4 * started.run.found_score
    assert is_true(bench, ready)
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
    assert "left its picture mode by itself" in page


def test_a_signal_that_falls_back_in_the_middle_is_sent_again(ready, person, now, bench):
    after_sets(bench.displays[3], 30, lambda: setattr(bench.world, "signal", replace(bench.world.signal, format="hdr10")))
    started = run(ready, person, now)
    assert (started.state, bench.world.signal.format) == (PassState.DONE, "sdr")
    assert any("showed another signal; the right one was sent again" in note for note in started.run.notes)
    assert started.run.left_score < 0.4 * started.run.found_score
    assert is_true(bench, ready)


def test_another_input_pauses_a_run_until_it_is_the_right_one_again(ready, person, now, bench):
    display = bench.displays[3]
    first, other = menu.INPUTS[:2]
    after_sets(display, 30, lambda: display.choose_input(other))
    started = run(ready, person, now)
    assert started.state == PassState.PAUSED
    assert f"The display shows {other}; what was read before was read on {first}." in started.reason
    display.choose_input(first)
    services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert any("somebody was called and set that right" in note for note in started.run.notes)
    assert started.run.left_score < 0.4 * started.run.found_score


def test_what_came_back_on_by_itself_is_set_off_again_and_the_sheet_stays_true(ready, person, now, bench):
    display = bench.displays[3]
    after_sets(display, 40, lambda: display.menu.set(ready.mode_id, "eco-2", True))
    started = run(ready, person, now)
    assert started.state == PassState.DONE
    assert any("moved by itself and was set again" in note for note in started.run.notes)
    assert display.menu.values[ready.mode_id]["eco-2"] is False
    assert started.run.left_score < 0.4 * started.run.found_score
    assert is_true(bench, ready)


def test_a_meter_that_is_not_aimed_again_ends_it_with_the_reason_and_all_is_back(ready, person, now, bench, signed_in, monkeypatch):
    before = {c["id"]: c["value"] for c in bench.displays[3].menu.described(ready.mode_id)}
    count = []

    def astray(*args, **more):
        count.append(1)
        seen = read_once(*args, **more)
        return replace(seen, xyz=tuple(0.2 * v for v in seen.xyz)) if len(count) > 30 else seen

    monkeypatch.setattr(reader, "read_once", astray)
    started = run(ready, person, now)
    for _ in range(3):  # whoever is called says that it is right, and it is not
        assert started.state == PassState.PAUSED
        assert "has lost its aim" in started.reason
        page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
        assert "has lost its aim" in page
        services.resume(pass_id=started.pk, actor=person)
        engine.run(started.pk)
        started.refresh_from_db()
    assert started.state == PassState.DONE
    assert started.run.restored
    assert any("lost its aim" in note for note in started.run.notes)
    assert {c["id"]: c["value"] for c in bench.displays[3].menu.described(ready.mode_id)} == before
    assert is_true(bench, ready)
    page = signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()
    assert "Everything was put back." in page
    assert "lost its aim" in page


def test_a_control_that_is_refused_is_left_out_also_in_a_run_that_was_cut_off(ready, person, now, bench, signed_in, monkeypatch):
    sets, refused = bench.displays[3].set_control, []

    def refuses(mode, control, value):
        if control == "wb-gr":
            refused.append(value)
            raise Refusal(8, "Not in this mode", name=control)
        return sets(mode, control, value)

    bench.displays[3].set_control = refuses
    started = handsfree.start(tuning_id=ready.pk, actor=person, now=now, steps=["white", "grey"], budget=110)
    cut_off(started, monkeypatch)
    assert refused
    engine.run(started.pk)
    started.refresh_from_db()
    assert (started.state, len(refused)) == (PassState.DONE, 1)
    assert sum("was left as it is, for the display refuses it" in note for note in started.run.notes) == 1
    assert started.run.left_score < 0.5 * started.run.found_score
    assert is_true(bench, ready)
    assert "Not in this mode" in signed_in.get(reverse("stop", args=(ready.pk, "adjust")) + "?work=hands-free").content.decode()


def test_light_that_is_too_bright_for_the_meter_ends_it_with_everything_as_it_was(ready, person, now, bench, monkeypatch):
    before, count = {c["id"]: c["value"] for c in bench.displays[3].menu.described(ready.mode_id)}, []

    def blinded(*args, **more):
        count.append(1)
        if len(count) > 40:
            raise DeviceError("The meter", DeviceError.TOO_BRIGHT, "Too bright to read.", {"ceiling": 50.0})
        return read_once(*args, **more)

    monkeypatch.setattr(reader, "read_once", blinded)
    started = run(ready, person, now)
    assert (started.state, started.run.restored) == (PassState.DONE, True)
    assert any("Too bright to read. Every control was put back." in note for note in started.run.notes)
    assert {c["id"]: c["value"] for c in bench.displays[3].menu.described(ready.mode_id)} == before
    assert len(started.readings.all()) == len(started.patches) == 40
