"""How a picture mode stands before anything is turned, by white, a few greys and the primaries."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.analysis.analysis import Readings, analyse
from fenvik.core.analysis.report import coverage
from fenvik.core.colour.space import xyz_to_uv, xyz_to_xy
from fenvik.core.colour.target import Target

REACHES = 0.9  # of the target's colours: a mode that gives fewer is no start, since no control adds any


@dataclass(frozen=True)
class Standing:
    """White in cd/m² and x y, its error in colour alone, mean errors of greys and colours by the target's metric.

    ``gamma``: of the greys, None where the target is absolute; ``covers``: the share of the target's triangle in u′v′.
    """

    luminance: float
    xy: tuple[float, float]
    white: float
    greys: float
    colours: float
    covers: float
    gamma: float | None

    @property
    def far(self) -> float:
        """How far there is to go: greys and colours together."""
        return self.greys + self.colours


def standing_of(readings: Readings, target: Target) -> Standing:
    """Return how a mode stands. Readings hold white, greys and the three primaries. Raises NoWhiteError without a white."""
    analysis = analyse(readings, target)
    grey = readings.neutral & (readings.fraction[:, 0] < 0.999)
    corners = [int(np.argmax((~readings.neutral) & (readings.fraction.argmax(axis=1) == i))) for i in range(3)]
    gamma = analysis.gamma[grey]
    x, y = xyz_to_xy(analysis.white)
    white = float(target.metric.colour_only(target.white * analysis.white[1], analysis.white, target.white * analysis.white[1]))
    return Standing(
        float(analysis.white[1]), (float(x), float(y)), white, float(np.mean(analysis.whole.value[grey])),
        float(np.mean(analysis.whole.value[~readings.neutral])), coverage(xyz_to_uv(readings.xyz[corners]), target.primaries),
        None if target.is_hdr or not np.isfinite(gamma).any() else float(np.nanmean(gamma)),
    )  # fmt: skip


def best_of(standings: Sequence[Standing]) -> int | None:
    """Return which is the best start: the least far from the target, of those that reach its colours; None for none."""
    if not standings:
        return None
    most = max(s.covers for s in standings)
    able = [i for i, s in enumerate(standings) if s.covers >= min(REACHES, most - 0.02)]
    return min(able, key=lambda i: standings[i].far)
