"""How a display is driven so that another white stands on it, before anything is adjusted for it.

White at one level is read, and then with each light a little weaker. Lights add up, so what one of them gives for a share of
its signal's light is known from two readings; near white that holds for a panel with a white sub-pixel too, which is why the
lights are told apart beside white and not each alone. What a candidate is read to be is fed back once.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour.space import XY, xy_to_uv, xyz_to_uv
from fenvik.core.errors import FenvikError, ShapeError
from fenvik.core.types import Floats

WEAKER = 0.85  # share of its light that is left of a light, while the other two stay
MOST_GAIN, LEAST_GAIN = 1.6, 0.45  # of a light: beyond that no white is meant
DIMMED = 0.9  # share of white at which every candidate stands: a light that must grow has somewhere to go


class DriveError(FenvikError, ValueError):
    """Readings that say nothing of how white is made, or a white that the display cannot be driven to."""

    code = "drive"


@dataclass(frozen=True)
class WhiteDrive:
    """``white`` (3,): XYZ with all lights as they are; ``lights`` (3, 3): a row a light, XYZ that all of it gives near there."""

    white: Floats
    lights: Floats

    def gains_for(self, wanted: XY, told: Sequence[tuple[ArrayLike, ArrayLike]] = ()) -> Floats:
        """Return the gains of light (3,) that bring white to x, y at DIMMED of the luminance that it has.

        ``told``: gains and the XYZ that was read with them, which correct the rest. Raises DriveError.
        """
        x, y = wanted
        aim = DIMMED * float(self.white[1]) * np.array([x / y, 1.0, (1.0 - x - y) / y])
        at, seen = np.ones(3), self.white
        if told:
            close = min(told, key=lambda one: float(np.abs(np.asarray(one[1]) - aim).sum()))
            at, seen = np.asarray(close[0], dtype=np.float64), np.asarray(close[1], dtype=np.float64)
        gains: Floats = at + np.linalg.solve(self.lights.T, aim - seen)
        if not np.isfinite(gains).all() or gains.max() > MOST_GAIN or gains.min() < LEAST_GAIN:
            raise DriveError("The display cannot be driven to that white from where it stands.")
        return gains

    def stands_at(self, gains: ArrayLike) -> tuple[float, float]:
        """Return u′v′ that gains (3,) give, by the readings."""
        du, dv = xyz_to_uv(self.white + (np.asarray(gains) - 1.0) @ self.lights)
        return float(du), float(dv)


def drive_of(white: ArrayLike, weaker: ArrayLike, left: ArrayLike = (WEAKER,) * 3) -> WhiteDrive:
    """Return the drive from XYZ of white (3,) and of white with red, green, blue weakened in turn (3, 3).

    ``left``: the share of its light that each had left, as code values allowed it. Raises DriveError, ShapeError.
    """
    whole, rows, share = np.asarray(white, np.float64), np.asarray(weaker, np.float64), np.asarray(left, np.float64)
    if whole.shape != (3,) or rows.shape != (3, 3):
        raise ShapeError(rows.shape, "(3,) and (3, 3)")
    lights = (whole - rows) / (1.0 - share)[:, None]
    if not np.isfinite(lights).all() or (lights[:, 1] <= 0).any() or np.linalg.cond(lights) > 1e4:
        raise DriveError("White does not answer to its lights: it clips there, or the picture did not change.")
    return WhiteDrive(whole, lights)


def off(read: ArrayLike, wanted: XY) -> float:
    """Return how far a white that was read, XYZ (3,), lies from a wanted one, in u′v′."""
    return float(np.hypot(*(xyz_to_uv(np.asarray(read)) - xy_to_uv(wanted))))
