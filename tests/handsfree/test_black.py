"""What is told of black from blacks that were read with the signal lifted or lowered."""

from dataclasses import replace

import numpy as np
import pytest

from bench.displays import RandomDisplay
from bench.site import Site
from fenvik.core.colour.target import TARGETS
from fenvik.core.colour.unread import unread
from fenvik.core.models.black import POWER, black_of
from fenvik.core.procedures.scoring import errors_of
from fenvik.core.procedures.taken import Taken
from tests.handsfree.jobs import adjusted

TARGET = TARGETS["bt709-bt1886"]
WHITE, FLOOR = 120.0, 0.03


def read(signal, lift):
    """Return the black of a display whose own signal at black stands so far above its threshold."""
    return FLOOR + WHITE * max(signal + lift, 0.0) ** POWER


@pytest.mark.parametrize(("signal", "lift"), [(0.012, 0.01), (0.012, -0.02), (-0.01, 0.03), (0.0, 0.02)])
def test_signal_and_floor_are_told_from_one_black_that_changed(signal, lift):
    black = black_of(WHITE, read(signal, 0.0), [(0.0, read(signal, 0.0)), (lift, read(signal, lift))])
    assert black.signal == pytest.approx(signal, abs=1e-6)
    assert black.floor == pytest.approx(FLOOR, rel=1e-6)
    for other in (-0.015, 0.0, 0.02):
        assert black.at(other) == pytest.approx(read(signal, other), rel=1e-6)


def test_it_may_be_raised_until_it_is_seen_and_no_farther():
    black = black_of(WHITE, read(-0.01, 0.0), [(0.03, read(-0.01, 0.03))])
    most = black.most(black.found)
    assert most > 0.01
    assert black.at(most) == pytest.approx(1.12 * FLOOR, rel=1e-6)
    raised = black_of(WHITE, FLOOR, [(0.02, 1.118 * FLOOR)])
    assert raised.most(FLOOR) < 0.021, "almost seen already: hardly any more of it"
    unseen = black_of(WHITE, FLOOR, [(0.02, FLOOR)])
    assert unseen.most(FLOOR) > 0.02


def test_what_tells_nothing_changes_nothing():
    start = black_of(WHITE, FLOOR, [])
    assert start.signal is None
    assert start.at(0.0) == FLOOR
    for nothing in [(0.0, FLOOR), (0.0003, 1.1 * FLOOR), (-0.02, FLOOR), (-0.02, 1.3 * FLOOR)]:
        assert black_of(WHITE, FLOOR, [nothing]) == start
    assert black_of(WHITE, 0.0, [(0.01, 0.0), (-0.01, 0.0)]) == black_of(WHITE, 0.0, [])


def test_a_black_that_grew_too_dark_for_the_meter_was_signal_and_nothing_else():
    black = black_of(WHITE, 0.004, [(-0.03, 0.0)])
    assert black.floor == pytest.approx(0.0, abs=1e-9)
    assert black.at(-0.03) == pytest.approx(0.0, abs=1e-9)
    assert black.at(0.0) == pytest.approx(0.004)


def test_greys_are_held_against_a_black_that_fell():
    display = RandomDisplay(9175)
    found = display.emitted(np.zeros((1, 3)))[0, 1]
    job = adjusted(display)
    left = display.emitted(np.zeros((1, 3)))[0, 1]
    assert left < 0.2 * found
    assert job.balance.black < 0.2 * found
    mean, worst, _, _ = display.truth(TARGET)
    assert mean < 0.5, "0.70 with the black that was found"
    assert worst < 1.0


def test_black_that_was_read_just_below_what_is_seen_is_raised_no_farther():
    display = RandomDisplay(11115)
    found = display.emitted(np.zeros((1, 3)))[0, 1]
    adjusted(display)
    left = display.emitted(np.zeros((1, 3)))[0, 1]
    assert left < 1.3 * found, "half as bright again where a lift of 11 of 100 was taken for none"


@pytest.mark.parametrize(("index", "mode", "floor", "most"), [
    (2, "c2", 0.05, (0.9, 1.6)), (0, "m2", 0.5, (1.0, 1.6)), (1, "p2", 0.5, (0.4, 0.8)),
])  # fmt: skip
def test_a_black_that_the_meter_cannot_read_is_counted_as_is_usual_and_that_is_said(index, mode, floor, most):
    site = Site(index, mode, 55)
    site.meter.kind = replace(site.meter.kind, floor=floor)
    job = adjusted(site, replace(TARGET, unread=unread(site.display.optics.technology, floor)), ("light", "white", "grey"))
    mean, worst, _, _ = site.truth(TARGET)
    assert (job.restored, mean < most[0], worst < most[1]) == (False, True, True), (mean, worst)
    said = [note for note in job.desk.notes if "Black is too dark for the meter" in note]
    assert len(said) == (index != 1), "an OLED has none"


def test_a_grey_that_came_to_lie_below_the_meter_s_floor_is_not_called_worse():
    levels = np.array([1.0, 0.5, 0.2, 0.1, 0.0])
    fraction = np.repeat(levels[:, None], 3, axis=1)
    told = replace(TARGET, unread=unread("wrgb-oled", 0.5))
    xyz = TARGET.xyz(fraction, 30.0, 0.0)
    found, left = xyz * np.array([1.0, 1.0, 1.0, 1.8, 1.0])[:, None], np.where(xyz[:, 1:2] < 0.5, 0.0, xyz)
    errors = [errors_of([Taken(f, row, {}) for f, row in zip(fraction, rows, strict=True)], told) for rows in (found, left)]
    assert errors[0][3] > 1.0
    assert errors[1].tolist() == pytest.approx([0.0, 0.0, 0.0, 0.0, 0.0])
