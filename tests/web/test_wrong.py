"""What is wrong is told from readings alone, on displays that were spoilt on purpose and in a known way."""

import dataclasses
import re

import pytest

from fenvik.web.devices.models import Device
from fenvik.web.passes import engine, services
from fenvik.web.passes.models import PassState
from fenvik.web.results.assemble import analysis_of
from fenvik.web.results.special import special_of
from fenvik.web.results.wrong import sentence

pytestmark = pytest.mark.django_db(transaction=True)
GOOD = {"wb-gr": 8, "wb-gg": 0, "wb-gb": -12}


@pytest.fixture
def spoilt(equipped, person, now, bench):
    """Return a function that spoils a mode of a stand-in, reads it and says what is wrong, the worst first."""
    equipped.source = Device.objects.get(serial="BP1-1180")
    equipped.bits, equipped.picture_mode = 10, ""
    equipped.save()

    def told(changes, *, display=0, mode="m2", lists=("grey-21", "colours-100"), wanted=None, **fields):
        shown = bench.displays[display]
        shown.choose_mode(mode)
        for control, value in changes.items():
            shown.set_control(mode, control, value)
        for name, value in fields.items():
            setattr(equipped, name, value)
        equipped.lists = {"chosen": list(lists)}
        equipped.save()
        started = services.start_pass(tuning_id=equipped.pk, actor=person, now=now)
        while True:
            engine.run(started.pk)
            started.refresh_from_db()
            if started.state != PassState.PAUSED or not started.reason.startswith("Put the meter at "):
                break
            # The person carries the meter to where the pass asks for it.
            bench.world.stand["TS2-0031"] = tuple(started.patches[started.readings.count()]["place"])
            services.resume(pass_id=started.pk, actor=person)
        assert started.state == PassState.DONE, started.reason
        analysis = analysis_of(started, equipped) if "grey-21" in lists else None
        return special_of(started, analysis, luminance=wanted).faults

    return told


@pytest.mark.parametrize(
    ("changes", "kind", "words"),
    [
        ({"wb-gb": -40}, "cast", r"Blue is \d+\.\d % low at \d+ %"),
        ({"wb-gr": 40}, "cast", r"Red is \d+\.\d % high at \d+ %"),
        ({"pic-2": 100, "wb-gr": 50, "wb-gg": 50, "wb-gb": 50}, "clipped", r"clipped from \d+ %"),
        ({"pic-3": 20}, "crushed", r"crushed up to \d+ %"),
        ({"pic-3": 85}, "contrast", r"Contrast is \d+ to 1"),
        ({"pic-4": "Soft"}, "tone", r"too bright at \d+ %"),
        ({"pic-5": 75}, "saturation", r"too saturated by \d+\.\d"),
        ({"pic-5": 30}, "saturation", r"too pale by \d+\.\d"),
        ({"pic-6": 45}, "colours", r"off by \d+\.\d on average"),
    ],
)  # fmt: skip
def test_what_was_spoilt_is_found(changes, kind, words, spoilt):
    lists = ("grey-21", "saturations", "colours-100")
    faults = {fault.kind: sentence(fault) for fault in spoilt(changes, lists=lists)}
    assert kind in faults, faults
    says, todo = faults[kind]
    assert re.search(words, says)
    assert todo


def test_what_was_not_spoilt_is_not_found(spoilt):
    assert not {"clipped", "crushed", "raised", "saturation", "dim", "bright", "uneven", "loaded"} & {
        fault.kind for fault in spoilt({}, wanted=None)
    }


def test_light_is_held_against_what_is_wanted(spoilt):
    assert {f.kind for f in spoilt({"pic-1": 2}, wanted=150.0)} & {"dim", "bright"} == {"dim"}
    assert {f.kind for f in spoilt({"pic-1": 95}, wanted=150.0)} & {"dim", "bright"} == {"bright"}


def test_the_worst_comes_first(spoilt):
    """A display with a strong cast and a tint beside it is told of in that order; the other way round in the other."""
    cast_first = [f.kind for f in spoilt({"wb-gb": -50, "wb-gr": 50, "pic-6": 10})]
    assert cast_first.index("cast") == 0


def test_a_panel_that_dims_large_windows_is_told_from_its_ladder(spoilt, bench):
    oled = next(i for i, d in enumerate(bench.displays) if d.serial == "SW65-0112")
    faults = spoilt({}, display=oled, mode="p2", lists=("grey-21", "windows"), window=50.0)
    assert "loaded" in {f.kind for f in faults}
    at = next(f for f in faults if f.kind == "loaded").facts["area"]
    assert 20.0 < at < 50.0, "the truth: its limit sets in at 22 % of mean light"


def test_a_screen_with_dark_corners_is_uneven_by_as_much_as_it_is(spoilt, bench):
    optics = bench.displays[0].optics
    optics.build = dataclasses.replace(optics.build, corner_light=0.3)
    told = spoilt({}, lists=("grey-21", "uniformity"))
    said = {fault.kind: fault for fault in told}
    assert "uneven" in said, said
    uneven = said["uneven"]
    far = 2.0 * 2 * (1 / 3) ** 2
    assert uneven.facts["share"] == pytest.approx(100.0 * (1.0 - 0.7 * far), abs=3.0)
    assert uneven.facts["index"] in (0, 2, 6, 8), "a corner"
