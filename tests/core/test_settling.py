"""How long a display takes to follow, from readings of lights that are late, slow, or both."""

import numpy as np
import pytest

from fenvik.core.measure.settling import AGREE, has_settled, next_start, settling_s


def read_on(late, slow, took, *, low=0.02, high=100.0, noise=0.0):
    """Read a rising light until it stands, each reading an average over its time; return starts, readings and the light's law."""
    rng = np.random.default_rng(1)

    def light(t):
        return np.where(t < late, low, high + (low - high) * np.exp(-np.maximum(t - late, 0.0) / max(slow, 1e-6)))

    starts, seen = [], []
    while len(seen) < 60:
        starts.append(max(next_start(starts[-1]), starts[-1] + took) if starts else 0.0)
        seen.append(float(light(np.linspace(starts[-1], starts[-1] + took, 200)).mean()) * (1 + rng.normal(0, noise)))
        if has_settled(seen) and seen[-1] > 5 * low:
            break
    return starts, seen, light


@pytest.mark.parametrize("took", [0.05, 0.2, 1.0, 3.0])
@pytest.mark.parametrize(("late", "slow"), [(0.0, 0.01), (0.0, 0.2), (0.5, 0.05), (1.2, 0.3)])
def test_after_the_wait_a_reading_is_right_within_two_percent(late, slow, took):
    starts, seen, light = read_on(late, slow, took, noise=0.001)
    wait = settling_s(starts, seen)
    reading = float(light(np.linspace(wait, wait + took, 500)).mean())
    assert reading == pytest.approx(100.0, rel=0.02)
    assert wait <= 1.3 * (late + 7 * slow + 2 * took) + 0.1, "and it is not waited for ever"


def test_a_light_that_stands_at_once_costs_next_to_nothing():
    assert settling_s([0.0, 0.2], [100.0, 100.2]) == pytest.approx(0.1)
    assert settling_s([0.0, 3.0], [99.0, 100.0]) == pytest.approx(0.1)


def test_two_readings_say_the_same_or_they_do_not():
    assert has_settled([3.0, 100.0, 100.0 * (1 + 0.5 * AGREE)])
    assert not has_settled([100.0])
    assert not has_settled([100.0, 103.0])
    assert not has_settled([0.0, 0.0]), "a picture that has not come is no light that stands"
