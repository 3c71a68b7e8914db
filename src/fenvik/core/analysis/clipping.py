"""Whether a light of the three no longer grows towards white."""

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.types import Floats

TOP = (100.0, 96.0, 92.0, 86.0)  # percent: where clipping shows
FLAT = 0.35  # of the slope below: a light that grows by less is clipped
FLAT_BESIDE, DOUBTED_BESIDE = 0.84, 0.925  # the same, of what the light that grows most has of its slope below
DOUBTED = 0.9  # of the slope below, where any curve this bright grows faster
SHORT = 0.97  # of the light that a power of the signal would give at white: what ends at 98.6 percent is short of it by as much
LEAST_SLOPE = 0.6  # percent of light a percent of signal, of any curve this near to white


def clipped(xyz: Floats, levels: Floats, target: Target) -> list[int]:
    """Return which of the three lights no longer grow towards white: XYZ (n, 3) of greys at falling levels in percent."""
    light = xyz @ target.inverse_matrix.T
    slopes = np.diff(light[::-1], axis=0) / np.diff(levels[::-1])[:, None]  # upwards
    usual = np.maximum(slopes[0], LEAST_SLOPE / 100.0 * light[-1])
    share = np.divide(slopes[-1], usual, out=np.full(3, np.inf), where=usual > 0)
    grows = float(share[np.isfinite(share)].max(initial=0.0))
    return [channel for channel in range(3) if share[channel] < max(FLAT, FLAT_BESIDE * grows)]


def may_clip(xyz: Floats, target: Target) -> bool:
    """Return whether any light grows less than it should towards white: XYZ (3, 3) of greys at 100, 90 and 80 percent."""
    light = xyz @ target.inverse_matrix.T
    share = (light[0] - light[1]) / np.maximum(light[1] - light[2], 1e-9)
    return bool((share < max(DOUBTED, DOUBTED_BESIDE * float(share.max()))).any())


def surely_grows(xyz: Floats, levels: Floats, target: Target) -> bool:
    """Return whether all three lights go on growing to white: XYZ (3, 3) of greys at falling levels in percent, white first.

    As below it, by a power of the signal. A light that ends at 98 percent of it is 4 percent short of that.
    """
    white, upper, lower = np.maximum(xyz @ target.inverse_matrix.T, 1e-9)
    powers = np.log(upper / lower) / np.log(levels[1] / levels[2])
    return bool((white > SHORT * upper * (levels[0] / levels[1]) ** powers).all())
