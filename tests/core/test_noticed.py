"""That something was turned is told from two readings, and noise is not taken for it."""

import numpy as np
import pytest

from fenvik.core.colour.target import TARGETS
from fenvik.core.measure.noticed import is_as_proposed, turned
from fenvik.core.measure.uncertainty import Repeatability

TARGET = TARGETS["bt709-bt1886"]
METER = Repeatability.of([[0.1, 0.004, 0.0008, 0.0008], [100.0, 0.001, 0.0002, 0.0002]])


def grey(red=1.0, green=1.0, blue=1.0):
    return 60.0 * TARGET.matrix @ np.array([red, green, blue])


@pytest.mark.parametrize(("lights", "channel"), [((1.03, 1, 1), 0), ((1, 0.97, 1), 1), ((1, 1, 1.04), 2)])
def test_a_light_that_was_turned_is_named(lights, channel):
    change = turned(grey(), grey(*lights), TARGET, METER)
    assert int(np.argmax(np.abs(change))) == channel
    assert change[channel] == pytest.approx(lights[channel] - 1.0, abs=1e-6)


def test_noise_is_not_taken_for_a_turn():
    rng = np.random.default_rng(8)
    spread = METER.covariance(grey())
    seen = [turned(*rng.multivariate_normal(grey(), spread, 2), TARGET, METER) for _ in range(1000)]
    assert sum(change is not None for change in seen) <= 2


def test_half_a_percent_is_a_display_that_wanders():
    assert turned(grey(), 1.005 * grey(), TARGET, METER) is None
    assert turned(np.zeros(3), grey(), TARGET, METER) is None


def test_what_a_nudge_would_do_is_recognised():
    proposed = np.array([0.0, -0.012, 0.004])
    assert is_as_proposed(proposed * 1.2, proposed)
    assert not is_as_proposed(-proposed, proposed)
    assert not is_as_proposed(np.array([0.01, 0.0, 0.0]), proposed)
