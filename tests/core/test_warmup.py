"""Warm-up: the fit against displays whose truth is known, and the patience to say that it cannot tell."""

import numpy as np
import pytest

from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.measure.warmup import warm_up
from fenvik.core.procedures.steps import perform
from fenvik.core.procedures.warming import watch

METER = Repeatability.of(((0.01, 0.05, 0.01, 0.01), (10, 0.0015, 0.0003, 0.0003), (100, 0.001, 0.0002, 0.0002)))


def white(minutes, *, loss, tau_minutes, blue=0.0, seed=None, slow=(0.0, 40.0)):
    at = np.arange(0.0, minutes + 1e-9, 0.5)
    gone = np.exp(-at / tau_minutes)
    y = 110.0 * (1 - loss * gone - slow[0] * np.exp(-at / slow[1]))
    xyz = np.stack([0.9505 * y, y, 1.089 * y * (1 - blue * gone)], axis=1)
    if seed is not None:
        rng = np.random.default_rng(seed)
        covariance = METER.covariance(xyz, np.ones(at.size))
        xyz = np.array([rng.multivariate_normal(a, c) for a, c in zip(xyz, covariance, strict=True)])
    return at * 60.0, xyz


def test_too_little_says_nothing():
    seconds, xyz = white(1.5, loss=0.05, tau_minutes=14)
    assert warm_up(seconds, xyz, METER) is None
    assert warm_up(seconds[:1], xyz[:1], METER) is None


def test_without_noise_the_curve_is_found():
    seconds, xyz = white(30, loss=0.055, tau_minutes=14)
    fit = warm_up(seconds, xyz, METER)
    truth = 0.055 * np.exp(-30 / 14)
    assert fit.remaining_y == pytest.approx(truth, rel=0.1)
    assert fit.final_y == pytest.approx(110, rel=0.001)
    np.testing.assert_allclose(fit.curve, xyz[:, 1], rtol=5e-4)
    assert not fit.is_settled
    # 0.055 · exp(−t/14) is 0.003 after 40.7 minutes
    assert fit.minutes_left == pytest.approx(10.7, abs=2.5)


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize(("loss", "tau"), [(0.02, 9), (0.055, 14), (0.08, 20)])
def test_it_never_calls_settled_what_is_not(loss, tau, seed):
    seconds, xyz = white(90, loss=loss, tau_minutes=tau, seed=seed)
    for count in range(5, seconds.size, 6):
        fit = warm_up(seconds[:count], xyz[:count], METER)
        if fit is not None and fit.is_settled:
            assert loss * np.exp(-seconds[count - 1] / 60 / tau) < 0.0045
            return
    raise AssertionError("it never settled")


@pytest.mark.parametrize("seed", range(4))
def test_what_it_says_is_to_come_holds_the_truth(seed):
    seconds, xyz = white(25, loss=0.055, tau_minutes=14, blue=0.012, seed=seed)
    fit = warm_up(seconds, xyz, METER)
    truth = 0.055 * np.exp(-25 / 14)
    assert abs(fit.remaining_y - truth) < 3.5 * fit.remaining_y_std + 1e-4


def test_a_display_that_is_warm_settles_within_twenty_minutes():
    seconds, xyz = white(40, loss=0.0, tau_minutes=14, seed=5)
    first = next(
        seconds[n - 1] / 60
        for n in range(5, seconds.size)
        if (f := warm_up(seconds[:n], xyz[:n], METER)) is not None and f.is_settled
    )
    assert first <= 20


def test_colour_that_still_moves_keeps_it_from_settling():
    seconds, xyz = white(12, loss=0.0, tau_minutes=14, blue=0.03)
    fit = warm_up(seconds, xyz, METER)
    assert not fit.is_settled
    assert fit.remaining_uv > 0.0005


@pytest.mark.parametrize("seed", [1])
@pytest.mark.parametrize("slow", [(0.03, 40.0), (0.03, 20.0), (0.02, 50.0)])
def test_a_second_slower_go_is_not_taken_for_the_end_of_the_first(slow, seed):
    seconds, xyz = white(90, loss=0.05, tau_minutes=3, seed=seed, slow=slow)
    for count in range(5, seconds.size, 4):
        fit = warm_up(seconds[:count], xyz[:count], METER)
        if fit is not None and fit.is_settled:
            assert slow[0] * np.exp(-seconds[count - 1] / 60 / slow[1]) < 0.007
            return


class Warming:
    """A rig before a display that warms up, with a clock of its own."""

    def __init__(self, loss):
        self.loss, self.now, self.times = loss, 1000.0, 0
        self.rng = np.random.default_rng(2)

    def read(self, percent):
        self.begun, self.times = self.now, self.times + 1
        y = 110.0 * (1 - self.loss * np.exp(-(self.now - 1000.0) / 840.0)) * (1 + self.rng.normal(0, 0.001))
        self.now += 2.0
        # The first is taken before its cap is off.
        return np.ones(3), np.zeros(3) if self.times == 1 else np.array([0.9505, 1.0, 1.089]) * y

    def clock(self):
        return self.begun

    def wait(self, seconds):
        self.now += seconds


def test_a_display_is_watched_until_it_has_settled():
    rig, heard, kept = Warming(0.055), [], []
    warmth = perform(watch(METER, every_s=30.0), rig, heard.append, kept.append)
    assert warmth.is_settled
    assert heard == ["warm-up"]
    assert 110.0 * 0.055 * np.exp(-(rig.now - 1000.0) / 840.0) < 110.0 * 0.005
    assert [each.readings for each in kept] == list(range(rig.times))
    assert kept[0].white is None
    assert kept[-1] == warmth


def test_watching_ends_when_its_time_is_over():
    rig = Warming(0.2)
    warmth = perform(watch(METER, every_s=30.0, longest_s=300.0), rig)
    assert not warmth.is_settled
    assert warmth.fit.remaining_y > 0.05
    assert 300.0 <= rig.now - 1000.0 < 340.0
