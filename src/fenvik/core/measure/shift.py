"""A mode's own shift of white: read beside an ordinary mode, turn about, and told with how sure it is.

Some modes move white by themselves, and no menu shows it. White is read with the same preset in both modes, one after the other, so
that neither the meter's own error nor the display's warming is taken for a shift.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.colour.space import XY, uv_to_xyz, xy_to_uv, xyz_to_uv, xyz_to_xy
from fenvik.core.types import Floats

TOLD_AT = 2.0  # deviations: less is no shift that can be told
SEEN_AT = 0.0007  # of u′v′: less is not seen by anyone, however surely it was read
LEAST_STD = 5e-5


@dataclass(frozen=True)
class Shift:
    """``uv`` (2,): what the mode adds to white in u′v′; ``std`` (2,): one standard deviation of it."""

    uv: Floats
    std: Floats

    @property
    def is_told(self) -> bool:
        """Whether it can be told from none, and would be seen."""
        size = float(np.hypot(*self.uv))
        sure = float(np.hypot(*(self.uv * self.std))) / max(size, 1e-9)
        return size > SEEN_AT and size > TOLD_AT * sure

    @property
    def most(self) -> float:
        """Two deviations, of the less sure of both."""
        return TOLD_AT * float(self.std.max())

    @property
    def words(self) -> str:
        """What is to be said of it."""
        size = f"{self.uv[0]:+.4f}, {self.uv[1]:+.4f} in u′v′, ± {self.most:.4f}".replace("-", "−")
        return f"it moves white by {size}" if self.is_told else f"no shift that can be told: {size}"


def shift_of(beside: Sequence[Floats], mode: Sequence[Floats]) -> Shift:
    """Return the shift from rounds: each of XYZ (levels, 3) in the ordinary mode and in the one in question.

    Levels are averaged; how sure it is comes from how rounds and levels differ. Raises ValueError without two of each.
    """
    first, second = (xyz_to_uv(np.array(one)) for one in (beside, mode))
    if first.shape != second.shape or first.shape[0] < 2 or not np.isfinite(first).all() or not np.isfinite(second).all():
        raise ValueError("White has to be read twice at least in both modes, with light.")
    apart = second - first  # (rounds, levels, 2)
    each = apart.mean(axis=1)
    count = each.shape[0]
    between = each.std(axis=0, ddof=1) / np.sqrt(count)
    within = (apart - apart.mean(axis=0)).reshape(-1, 2).std(axis=0, ddof=count - 1) / np.sqrt(apart.shape[0] * apart.shape[1])
    return Shift(each.mean(axis=0), np.maximum(np.maximum(between, within), LEAST_STD))


def base_for(white_xy: XY, shift: Shift) -> XY:
    """Return the x, y at which the ordinary mode must stand so that the mode in question ends at a white."""
    x, y = xyz_to_xy(uv_to_xyz(xy_to_uv(white_xy) - shift.uv))
    return float(x), float(y)
