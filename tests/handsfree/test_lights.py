"""Light and white level by readings alone, on the stand-ins."""

import numpy as np
import pytest

from bench.displays import RandomDisplay
from bench.faulty import Faulty
from bench.hard import Hard
from bench.site import Site
from fenvik.core.analysis.clipping import clipped
from fenvik.core.colour.target import TARGETS
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.lights import lower_white_level, turn_light
from fenvik.core.procedures.steps import perform
from tests.handsfree.jobs import adjusted

TARGET = TARGETS["bt709-bt1886"]


@pytest.mark.parametrize("wanted", [60.0, 110.0, 160.0])
def test_white_is_brought_to_the_luminance_that_is_wanted(wanted):
    site = Site(0, "m2", 55)
    site.set("eco-1", "Off")
    desk = Desk(site.controls)
    site.controls[:] = site.display.menu.described("m2")
    assert perform(turn_light(desk, wanted), site)
    assert perform(desk.read((100.0,) * 3), site).xyz[1] == pytest.approx(wanted, rel=0.04)
    assert len(desk.taken) <= 8  # two of them tell how soon what is turned is seen


@pytest.mark.parametrize(("steps", "seed", "wanted", "says"), [
    (("light",), 6000, 80.0, ""), (("light",), 6002, 80.0, ""), (("light",), 6007, 81.0, ""),
    (("light",), 6004, 80.0, "at the end of its range"), (("grey",), 6001, None, "no points: it has two-point white balance alone"),
    (("white",), 6001, None, ""), (("colour",), 6002, None, "come nearer where white balance"),
])  # fmt: skip
def test_a_step_alone_does_what_was_asked_and_says_what_it_could_not(steps, seed, wanted, says):
    """Light that was asked for is not put back for a proof that differs by its noise; and nothing is that was not turned."""
    display = RandomDisplay(seed)
    job = adjusted(display, TARGET, steps, luminance=wanted)
    white = display.emitted(np.ones((1, 3)))[0, 1]
    assert not job.restored
    assert wanted is None or (abs(white / wanted - 1.0) < 0.06) != bool(says)
    assert [note for note in job.desk.notes if says in note] if says else not job.desk.notes


LAMP = {"Eco": 20.0, "Normal": 55.0, "High": 90.0}


class Lamp(Hard):
    """A display whose light is a choice, as a projector's lamp is."""

    def __init__(self, seed):
        super().__init__(seed, "none")
        self._by["light"] = lamp = {
            "id": "lamp", "label": "Lamp", "group": "picture", "kind": "choice", "role": "light", "options": [*LAMP],
            "value": "High", "default": "High",
        }  # fmt: skip
        self.controls[:] = [lamp, *(c for c in self.controls if c["role"] != "light")]

    def _value(self, role, default=0.0):
        value = super()._value(role, default)
        return LAMP[value] if role == "light" else value


class LampAndIris(Lamp):
    """One that has an iris beside it, which takes the more light away the farther it is turned up."""

    def __init__(self, seed, lamp, first):
        super().__init__(seed)
        self._by["light"]["value"] = lamp
        self.iris = {
            "id": "iris", "label": "Iris", "group": "picture", "kind": "range", "role": "light", "min": 0, "max": 10, "step": 1,
            "value": 3, "default": 0,
        }  # fmt: skip
        self.controls.insert(0 if first == "iris" else 1, self.iris)
        self._by["iris"] = self.iris

    def _value(self, role, default=0.0):
        value = super()._value(role, default)
        return value * (1.0 - 0.05 * self.iris["value"]) if role == "light" else value


@pytest.mark.parametrize(("lamp", "first", "wanted", "chosen"), [
    ("High", "lamp", 80.0, "High"), ("High", "iris", 60.0, "High"), ("Eco", "lamp", 75.0, "High"), ("Eco", "iris", 45.0, "Normal"),
])  # fmt: skip
def test_a_lamp_and_an_iris_bring_the_light_together(lamp, first, wanted, chosen):
    display = LampAndIris(60_001, "High", first)
    display.iris["value"] = 0
    most = display.emitted(np.ones((1, 3)))[0, 1]
    display._by["light"]["value"], display.iris["value"] = lamp, 3
    site = Faulty(60_001, "none", display)
    job = Job(Desk(site.controls, budget=150), TARGET, ("light",))
    job.luminance = wanted / 100.0 * most
    perform(job.run(), site)
    assert not job.restored
    assert display._by["light"]["value"] == chosen
    assert display.emitted(np.ones((1, 3)))[0, 1] / most * 100.0 == pytest.approx(wanted, rel=0.05)


@pytest.mark.parametrize(("share", "chosen"), [(0.6, "Normal"), (0.3, "Eco"), (2.0, "High")])
def test_a_lamp_that_is_a_choice_is_set_to_the_nearest_that_is_wanted(share, chosen):
    lamp = Lamp(60_001)
    site, found = Faulty(60_001, "none", lamp), lamp.truth(TARGET)
    wanted = share * lamp.emitted(np.ones((1, 3)))[0, 1]
    job = Job(Desk(site.controls, budget=150), TARGET)
    job.luminance = wanted
    perform(job.run(), site)
    assert lamp.controls[0]["value"] == chosen
    left = lamp.truth(TARGET)
    assert (job.restored, left[0] < 0.5 * found[0]) == (False, True), (found, left)
    assert any(f"Lamp at {chosen} brings white to" in note for note in job.desk.notes)
    is_off = abs(lamp.emitted(np.ones((1, 3)))[0, 1] / wanted - 1) > 0.04
    assert any("nearest it has" in note for note in job.desk.notes) == is_off


def test_a_clipped_white_is_found_by_channel_and_its_level_lowered():
    site = Site(0, "m2", 55)
    site.set("pic-2", 100)
    site.set("wb-gr", 40)
    site.controls[:] = site.display.menu.described("m2")
    desk = Desk(site.controls)
    levels = (100.0, 96.0, 92.0, 86.0)
    before = clipped(np.array([t.xyz for t in perform(desk.greys(levels), site)]), np.array(levels), TARGET)
    assert 0 in before
    assert perform(lower_white_level(desk, TARGET), site)
    assert site.display.menu.values["m2"]["pic-2"] <= 85, "at 90 and above red stands still"
    assert "red" in desk.notes[0]


def test_what_does_not_clip_is_left_alone():
    site = Site(0, "m2", 55)
    desk = Desk(site.controls)
    assert not perform(lower_white_level(desk, TARGET), site)
    assert site.sets == 0


def test_a_job_with_a_luminance_reaches_it_and_comes_right():
    site = Site(3, "q2", 55)
    job = adjusted(site, luminance=120.0, budget=170)
    white = next(t for t in job.as_left if (t.fraction == 1.0).all())
    assert white.xyz[1] == pytest.approx(120.0, rel=0.06)
    assert site.truth(TARGET)[0] < 0.6


@pytest.mark.parametrize(
    ("at", "control", "role", "by", "ends", "says"),
    [
        ((1, "p2", 103), "pic-2", "white-level", 8, (90, 96), "Clipped near white: blue."),
        ((3, "q2", 103), "pic-5", "saturation", 8, (47, 54), "of their saturation"),
        ((3, "q2", 103), "pic-5", "saturation", -20, (47, 54), "of their saturation"),
        ((3, "q2", 103), "pic-5", "saturation", -4, (46, 46), ""),
        ((3, "q2", 103), "pic-6", "tint", 20, (-4, 14), "turned by"),
    ],
)
def test_what_is_found_too_high_for_all_levels_or_colours_at_once_is_brought_back(at, control, role, by, ends, says):
    site = Site(*at)
    usual = next(c["value"] for c in site.controls if c.get("role") == role)
    site.display.set_control(at[1], control, usual + by)
    site.controls[:] = site.display.menu.described(at[1])
    job = adjusted(site)
    low, high = ends
    assert low <= site.display.menu.values[at[1]][control] <= high
    assert any(says in note for note in job.desk.notes)
    _, worst, colours, _ = site.truth(TARGET)
    assert worst < 1.5 if role == "white-level" else colours < 0.7
