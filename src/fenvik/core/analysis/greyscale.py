"""What a grey's reading says: balance of the three lights, effective gamma, contrast."""

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour.metric import neutral_tolerance
from fenvik.core.colour.target import Target
from fenvik.core.types import Floats


def balance(xyz: ArrayLike, target: Target) -> Floats:
    """Return red, green and blue light in percent of the target white at the reading's own Y, shape (..., 3).

    100, 100, 100 is the target's white at any luminance; NaN where Y is not above 0.
    """
    xyz = np.asarray(xyz, dtype=np.float64)
    luminance = np.where(xyz[..., 1:2] > 0, xyz[..., 1:2], np.nan)
    result: Floats = 100.0 * (xyz / luminance) @ target.inverse_matrix.T
    return result


def effective_gamma(luminance: ArrayLike, fraction: ArrayLike, white: float) -> Floats:
    """Return ln(Y/Y100) / ln(s), shape (...); NaN at and below 0 %, at and above 100 %, and without light."""
    luminance, fraction = np.asarray(luminance, dtype=np.float64), np.asarray(fraction, dtype=np.float64)
    inside = (fraction > 0) & (fraction < 1) & (luminance > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        gamma = np.log(luminance / white) / np.log(fraction)
    return np.where(inside, gamma, np.nan)


def contrast(white: float, black: float, floor: float) -> tuple[float, bool]:
    """Return white over black, and whether it is only a lower bound: black reads below the meter's floor (cd/m²)."""
    if black < floor:
        return white / floor, True
    return white / black, False


def tolerance_percent(level: ArrayLike, target: Target, white: float, black: float, tolerance: float) -> Floats:
    """Return how far the most sensitive light may be off at grey levels (n,) before the error reaches a tolerance.

    In percent of that light, shape (n,); the error is the target's own, colour only.
    """
    level = np.asarray(level, dtype=np.float64)
    wanted = target.xyz(np.repeat(level[:, None], 3, axis=1), white, black)
    return 100.0 * neutral_tolerance(target.metric, wanted, target.matrix, target.white * white, tolerance)


def visible_percent(level: ArrayLike, target: Target, white: float, black: float, limit: float = 1.0) -> Floats:
    """Return by how much luminance may be off at grey levels (n,) before the target's error reaches a limit, percent (n,)."""
    level = np.asarray(level, dtype=np.float64)
    wanted = target.xyz(np.repeat(level[:, None], 3, axis=1), white, black)
    probe = 0.01
    error = target.metric.whole(wanted, wanted * (1.0 + probe), target.white * white)
    result: Floats = 100.0 * probe * limit / np.maximum(error, 1e-6)
    return result
