"""What the end of a PQ target makes of a film's highlights: how bright they are, how much detail is left, what colours do."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour import curves
from fenvik.core.colour.itp import ITP
from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.colour.target import DIFFUSE_CD_M2, Target
from fenvik.core.types import Floats

BENDS = 0.002  # of PQ signal: where BT.2390's roll-off begins to be one
PURE = 0.15  # of the strongest light, in each of the other two: a bright colour of a film
FINE = 200
FAINT = 0.1  # of a step that is just noticed in the film


def greys(target: Target, film: ArrayLike, peak: float, black: float = 0.0) -> Floats:
    """Return the luminance in cd/m², shape (n,), that film luminances (n,) become on a display of that peak and black."""
    signal = curves.pq_inverse(np.asarray(film, dtype=np.float64))
    return target.xyz(np.repeat(signal[:, None], 3, axis=1), peak, black)[:, 1]


def lost(target: Target, peak: float, top: float) -> float:
    """Return the share of the detail between the reference white and ``top``, in cd/m² of the film, that can hardly be seen.

    Detail is counted in steps of one ΔE ITP, which for greys are even in PQ signal; one of which less than FAINT is left is lost.
    Source of the step: BT.2124-0, annex 1.
    """
    low, high = (float(curves.pq_inverse(light)) for light in (min(DIFFUSE_CD_M2, top), top))
    steps = max(round(ITP[0] * (high - low)), 1)
    light = greys(target, curves.pq(np.linspace(low, high, steps + 1)), peak)
    left = ITP[0] * np.diff(curves.pq_inverse(light))
    return float((left < FAINT).mean())


def paling(target: Target, peak: float, top: float) -> float:
    """Return by how much u′v′ the brightest red, green or blue of a film moves at most: 0 where colours stay as they are."""
    film = top * (PURE + (1.0 - PURE) * np.eye(3))
    shown = target.xyz(curves.pq_inverse(film), peak, 0.0)
    meant = target.unrolled.xyz(curves.pq_inverse(film), curves.PQ_PEAK_CD_M2, 0.0)
    return float(np.linalg.norm(xyz_to_uv(shown) - xyz_to_uv(meant), axis=-1).max())


def three_points(target: Target, peak: float, black: float) -> tuple[tuple[float, float], ...]:
    """Return up to three points of PQ signal in and out that end as BT.2390 does for this target; none where nothing bends."""
    rolled = replace(target, rolls_off=True, knees=())
    s = np.linspace(0.5 * float(curves.pq_inverse(peak)), float(curves.pq_inverse(target.mastered[0])), FINE)
    light = curves.pq_inverse(greys(rolled, curves.pq(s), peak, black))
    bends = np.flatnonzero(s - light > BENDS)
    if not bends.size or bends[0] == 0:
        return ()
    first, last = int(bends[0]) - 1, len(s) - 1
    middle = min(range(first + 1, last), key=lambda i: _off(s, light, (first, i, last)))
    return tuple((round(float(s[i]), 5), round(float(light[i]), 5)) for i in (first, middle, last))


def _off(s: Floats, light: Floats, at: Sequence[int]) -> float:
    drawn = np.interp(s[at[0] :], s[list(at)], light[list(at)])
    return float(((drawn - light[at[0] :]) ** 2).sum())
