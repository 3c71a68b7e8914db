"""Whether a light of the three no longer grows towards white."""

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.types import Floats

TOP = (100.0, 96.0, 92.0, 86.0)  # percent: where clipping shows
FLAT = 0.35  # of the slope below: a light that grows by less is clipped
DOUBTED = 0.9  # of the slope below, where any curve this bright grows faster
SHORT = 0.97  # of the light that a power of the signal would give at white: what ends at 98.6 percent is short of it by as much
LEAST_SLOPE = 0.6  # percent of light a percent of signal, of any curve this near to white


def clipped(xyz: Floats, levels: Floats, target: Target) -> list[int]:
    """Return which of the three lights no longer grow towards white: XYZ (n, 3) of greys at falling levels in percent."""
    light = xyz @ target.inverse_matrix.T
    found = []
    for channel in range(3):
        slopes = np.diff(light[::-1, channel]) / np.diff(levels[::-1])  # upwards
        below = slopes[0]
        usual = max(below, LEAST_SLOPE / 100.0 * light[-1, channel])
        if usual > 0 and slopes[-1] < FLAT * usual:
            found.append(channel)
    return found


def may_clip(xyz: Floats, target: Target) -> bool:
    """Return whether any light grows less than it should towards white: XYZ (3, 3) of greys at 100, 90 and 80 percent."""
    light = xyz @ target.inverse_matrix.T
    upper, lower = light[0] - light[1], light[1] - light[2]
    return bool((upper < DOUBTED * np.maximum(lower, 1e-9)).any())


def surely_grows(xyz: Floats, levels: Floats, target: Target) -> bool:
    """Return whether all three lights go on growing to white: XYZ (3, 3) of greys at falling levels in percent, white first.

    As below it, by a power of the signal. A light that ends at 98 percent of it is 4 percent short of that.
    """
    white, upper, lower = np.maximum(xyz @ target.inverse_matrix.T, 1e-9)
    powers = np.log(upper / lower) / np.log(levels[1] / levels[2])
    return bool((white > SHORT * upper * (levels[0] / levels[1]) ** powers).all())
