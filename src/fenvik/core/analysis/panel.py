"""What a panel is, from five readings: its primaries, its white, its peak and its black, as a display's mapping wants them told."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour.space import XY, xyz_to_xy
from fenvik.core.errors import FenvikError, ShapeError

LEAST_AREA = 0.02  # of the triangle in x y: three lights that span less are no primaries


class PanelError(FenvikError, ValueError):
    """Readings that are no panel's."""

    code = "panel"


@dataclass(frozen=True)
class PanelFacts:
    """x, y of the primaries and white; ``peak`` and ``black`` in cd/m²; ``black_is_bound`` where it was too dark to read."""

    red: XY
    green: XY
    blue: XY
    white: XY
    peak: float
    black: float
    black_is_bound: bool = False

    def as_link(self) -> dict[str, Any]:
        """Return them as ``install`` of ``panel`` takes them on the device link."""
        xy = {name: [round(v, 5) for v in getattr(self, name)] for name in ("red", "green", "blue", "white")}
        return xy | {"peak": round(self.peak, 2), "black": round(self.black, 6)}


def panel_of(xyz: ArrayLike, floor: float) -> PanelFacts:
    """Return the facts from XYZ (5, 3) of white, red, green and blue at full drive, and black.

    ``floor``: the meter's, in cd/m²: a black that it cannot read is told as that at most. Raises PanelError, ShapeError.
    """
    told = np.asarray(xyz, dtype=np.float64)
    if told.shape != (5, 3):
        raise ShapeError(told.shape, "(5, 3)")
    if not np.isfinite(told).all() or (told[:4, 1] <= 0).any():
        raise PanelError("White, red, green and blue have to give light.")
    xy = xyz_to_xy(told[:4])
    (rx, ry), (gx, gy), (bx, by) = xy[1:4]
    if abs((gx - rx) * (by - ry) - (bx - rx) * (gy - ry)) < 2 * LEAST_AREA:
        raise PanelError("Red, green and blue hardly differ: is it the right picture, at full drive?")
    white, red, green, blue = ((float(x), float(y)) for x, y in xy)
    black = float(told[4, 1])
    return PanelFacts(red, green, blue, white, float(told[0, 1]), max(black, 0.0) or floor, black <= 0)
