"""Light, white level and black level from readings: what is off, and which way to turn."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.analysis.clipping import TOP, clipped
from fenvik.core.colour.target import Target
from fenvik.core.types import Floats

FOOT = (5.0, 4.0, 3.0, 2.0, 1.0, 0.0)  # percent: where shadows are crushed or raised
CRUSHED, RAISED = (
    0.4,
    1.6,
)  # of the light that a shadow step should add to black, and of the black that was found before
READ = (*TOP, *FOOT)
SURE = 0.004  # cd/m²: less light is not told apart
SURELY_READ = 2.0  # times a meter's floor: light that it reads


@dataclass(frozen=True)
class Ends:
    """``clips``: channels that no longer grow below white; ``crushed``: the highest crushed level in percent, or None.

    ``black`` in cd/m²; ``raised`` where a lower black was read with a lower black level.
    """

    clips: tuple[int, ...]
    crushed: float | None
    black: float
    raised: bool


def ends_of(level: Floats, xyz: Floats, target: Target, lower_blacks: Sequence[float] = (), floor: float = 0.0) -> Ends:
    """Return what greys at percentages (n,), XYZ (n, 3) in cd/m², zeros where it was too dark to read, say of both ends.

    ``lower_blacks``: what black was, in cd/m², where the black level stood lower than now; ``floor``: of the meter, in cd/m². A
    step that would be too dark to read as it should be is not crushed because nothing was read of it.
    """
    newest = {round(float(v), 1): row for v, row in zip(level, xyz, strict=True)}
    top = np.array([newest[v] for v in TOP if v in newest])
    clips = clipped(top, np.array(TOP), target) if len(top) == len(TOP) else []
    black = max(float(newest[0.0][1]), 0.0) if 0.0 in newest else 0.0
    white = float(newest[100.0][1]) if 100.0 in newest else 0.0
    crushed = None
    for v in FOOT[:-1]:
        if v in newest and white > 0:
            shown, least = float(newest[v][1]), float(target.counted(white, black))
            wanted = float(target.light(v / 100.0, white, black)) - least
            is_told = shown > 0.0 or wanted + least > SURELY_READ * floor
            if is_told and wanted > SURE and shown - least < CRUSHED * wanted:
                crushed = v
                break
    raised = any(black > RAISED * max(lower, SURE) for lower in lower_blacks)
    return Ends(tuple(clips), crushed, black, raised)
