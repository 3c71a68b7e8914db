"""How sure a number is: the meter's noise, carried through to errors, balance and gamma.

Everything is one standard deviation. Source of the propagation: JCGM 100 (GUM), 5.1.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.types import Floats

DARK_SHARE = 0.2  # of the floor: with less light a chromaticity is noise
STEP_STD = 0.5  # the Jacobian is taken over half a standard deviation each way: smooth at the size of the noise
TWO_SIDED_95 = 1.959964
ONE_SIDED_95 = 1.644854
CHI_SQUARE_95_OF_3 = 7.814728


@dataclass(frozen=True)
class Repeatability:
    """A meter's table of (luminance cd/m², relative std of Y, std of x, std of y) of a single reading."""

    rows: tuple[tuple[float, float, float, float], ...]

    @classmethod
    def of(cls, rows: Sequence[Sequence[float]]) -> "Repeatability":
        """Take the rows of the device link in any order."""
        return cls(tuple(sorted((float(a), float(b), float(c), float(d)) for a, b, c, d in rows)))

    def at(self, luminance: ArrayLike) -> Floats:
        """Return (relative std of Y, std of x, std of y), shape (..., 3), interpolated on log luminance."""
        table = np.asarray(self.rows)
        level = np.log(np.maximum(np.asarray(luminance, dtype=np.float64), 1e-6))
        levels = np.log(np.maximum(table[:, 0], 1e-6))
        return np.stack([np.interp(level, levels, table[:, i]) for i in (1, 2, 3)], axis=-1)

    def covariance(self, xyz: ArrayLike, average: ArrayLike = 1, floor: float = 0.0) -> Floats:
        """Return the covariance of XYZ readings (..., 3) taken with so many averages (...), shape (..., 3, 3).

        ``floor`` in cd/m²: below it a meter is no surer than there, however little it reads.
        """
        xyz = np.asarray(xyz, dtype=np.float64)
        luminance = np.maximum(xyz[..., 1], max(floor, 1e-6))
        # A reading of next to nothing has no chromaticity of its own: white stands in.
        seen = np.where((xyz[..., 1] > DARK_SHARE * luminance)[..., None], np.maximum(xyz, 0.0), luminance[..., None])
        total = seen.sum(axis=-1)
        x, y = seen[..., 0] / total, np.maximum(seen[..., 1] / total, 1e-3)
        std = self.at(luminance)
        zero, one = np.zeros_like(x), np.ones_like(x)
        # d(X, Y, Z) by d(ln Y, x, y)
        jacobian = np.stack(
            [
                np.stack([x / y * luminance, luminance / y, -x * luminance / y**2], axis=-1),
                np.stack([luminance * one, zero, zero], axis=-1),
                np.stack(
                    [(1 - x - y) / y * luminance, -luminance / y, -(1 - x) * luminance / y**2],
                    axis=-1,
                ),
            ],
            axis=-2,
        )
        variance = std**2 / np.asarray(average, dtype=np.float64)[..., None]
        result: Floats = (jacobian * variance[..., None, :]) @ np.swapaxes(jacobian, -1, -2)
        return result


def chromatic_shift(xyz: ArrayLike, luminance: float, x: float, y: float) -> Floats:
    """Return by how much XYZ (..., 3) moves where luminance is off by a share, and chromaticity by so much in x and y."""
    xyz = np.asarray(xyz, dtype=np.float64)
    total = np.maximum(xyz.sum(axis=-1), 1e-12)
    cx, cy = xyz[..., 0] / total, np.maximum(xyz[..., 1] / total, 1e-3)
    lit = xyz[..., 1]
    made = [
        cx / cy * lit * luminance + lit / cy * x - cx * lit / cy**2 * y,
        lit * luminance,
        (1 - cx - cy) / cy * lit * luminance - lit / cy * x - (1 - cx) * lit / cy**2 * y,
    ]
    return np.stack(made, axis=-1)


def same_light(first: ArrayLike, second: ArrayLike, covariance: ArrayLike) -> bool:
    """Whether two XYZ (3,) cannot be told apart at 95 %, with the covariance (3, 3) of their difference. Source: JCGM 102, 6.5."""
    apart = np.asarray(second, dtype=np.float64) - np.asarray(first, dtype=np.float64)
    known = np.asarray(covariance, dtype=np.float64)
    if not known.any():
        return not apart.any()
    return bool(apart @ np.linalg.pinv(known) @ apart < CHI_SQUARE_95_OF_3)


def spread(repeats: ArrayLike, single: ArrayLike) -> Floats:
    """Return the covariance of the mean of repeats (n, 3): the meter's own (3, 3) or the seen spread, if larger."""
    repeats, single = np.asarray(repeats, dtype=np.float64), np.asarray(single, dtype=np.float64)
    n = repeats.shape[0]
    expected: Floats = single / n
    if n < 3:  # two repeats say next to nothing about a spread
        return expected
    seen: Floats = np.atleast_2d(np.cov(repeats.T)) / n
    return seen if np.trace(seen) > np.trace(expected) else expected


def propagate(function: Callable[[Floats], Floats], values: ArrayLike, covariance: ArrayLike) -> Floats:
    """Return the std of ``function(values)``.

    ``values`` (n, k), ``covariance`` (n, k, k); ``function`` maps (m, n, k) to (m, n) or (m, n, j) without mixing the
    n readings; the result is (n,) or (n, j). The Jacobian is numerical, along the axes of the noise.
    """
    values = np.asarray(values, dtype=np.float64)
    size, axes = np.linalg.eigh(np.asarray(covariance, dtype=np.float64))
    steps = STEP_STD * np.sqrt(np.maximum(size, 0.0))[:, None, :] * axes  # (n, k, axis)
    steps = np.moveaxis(steps, -1, 0)  # (axis, n, k)
    both = function(np.concatenate([values + steps, values - steps]))
    half = steps.shape[0]
    slope = (both[:half] - both[half:]) / (2.0 * STEP_STD)
    result: Floats = np.sqrt((slope**2).sum(axis=0))
    return result


def length_std(function: Callable[[Floats], Floats], values: ArrayLike, covariance: ArrayLike) -> Floats:
    """Return the std of a length such as a colour difference, shape (n,); also where it is about zero.

    There the slope of a length vanishes although noise moves it, so the half width that the noise alone would give
    stands in: the root of the mean square that is added along each axis. Arguments as for ``propagate``.
    """
    values = np.asarray(values, dtype=np.float64)
    sloped = propagate(function, values, covariance)
    size, axes = np.linalg.eigh(np.asarray(covariance, dtype=np.float64))
    steps = np.moveaxis(np.sqrt(np.maximum(size, 0.0))[:, None, :] * axes, -1, 0)
    both = function(np.concatenate([values + steps, values - steps]))
    half = steps.shape[0]
    here = function(values[None])[0]
    # The mean of both sides' squares less the square here is the square length of a step along that axis.
    added = np.maximum(0.5 * (both[:half] ** 2 + both[half:] ** 2) - here**2, 0.0)
    widest = np.sqrt(added.max(axis=0, initial=0.0))
    return np.where(here > 2.0 * widest, sloped, np.maximum(sloped, widest))


def interval_95(length: ArrayLike, std: ArrayLike) -> tuple[Floats, Floats]:
    """Return the 95 % interval of a length; one-sided from zero where zero cannot be told from it."""
    length, std = np.asarray(length, dtype=np.float64), np.asarray(std, dtype=np.float64)
    near = length < TWO_SIDED_95 * std
    low = np.where(near, 0.0, length - TWO_SIDED_95 * std)
    return low, length + np.where(near, ONE_SIDED_95, TWO_SIDED_95) * std
