"""How far off the readings of a proof are: before a job and after it, greys and colours apart."""

from collections.abc import Sequence

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.models.palette import SDR, Palette
from fenvik.core.procedures.taken import Taken
from fenvik.core.types import Floats

UNKNOWN = 1.5  # times a meter's floor: light that may well lie below it
WORSE = 0.5  # of an error: what is said of a colour that got worse by more


def worse_colours(
    found: Sequence[Taken], left: Sequence[Taken], target: Target, palette: Palette = SDR
) -> list[tuple[str, float, float]]:
    """Return the colours of a proof that got worse by what a person sees, with their errors before and after, the worst first."""
    names = {tuple(round(v) for v in percent): name for name, percent in palette.named.items()}
    made = []
    for t, was, now in zip(found, errors_of(found, target), errors_of(left, target), strict=True):
        name = names.get(tuple(round(100 * float(v)) for v in t.fraction))
        if name is not None and now > was + WORSE * target.metric.weight and now > target.tolerance:
            made.append((name, float(was), float(now)))
    return sorted(made, key=lambda row: row[1] - row[2])


def errors_of(taken: Sequence[Taken], target: Target) -> Floats:
    """Return the error (n,) of readings, each set held against its own white and black.

    Of a grey that was too dark to read, where it should be about that dark, nothing is known: else one that came to lie below the
    meter's floor would be worse than one that was too bright before.
    """
    fraction, xyz = np.array([t.fraction for t in taken]), np.array([t.xyz for t in taken])
    grey = np.ptp(fraction, axis=1) == 0
    white = float(xyz[grey & (fraction[:, 0] == 1.0), 1].mean())
    dark = xyz[grey & (fraction[:, 0] == 0.0), 1]
    wanted = target.xyz(fraction, white, float(dark.mean()) if dark.size else 0.0)
    unknown = (xyz[:, 1] <= 0.0) & (wanted[:, 1] < UNKNOWN * target.unread[1]) & (fraction[:, 0] > 0.0)
    return np.where(unknown, 0.0, target.metric.whole(wanted, xyz, target.white * white))


def white_of(taken: Sequence[Taken]) -> float:
    """Return the luminance of the white in cd/m² among readings, 0 where none was read."""
    return next((float(t.xyz[1]) for t in taken if (t.fraction == 1.0).all()), 0.0)


def parts_of(taken: Sequence[Taken], target: Target) -> dict[str, float]:
    """Return the mean error of the greys, and of the colours where any were read."""
    grey = np.array([np.ptp(t.fraction) == 0 for t in taken])
    error = errors_of(taken, target)
    return {"greys": float(error[grey].mean())} | ({"colours": float(error[~grey].mean())} if (~grey).any() else {})


def score(taken: Sequence[Taken], target: Target) -> float:
    """Return the mean error of readings, greys twice as important as colours, each held against their own white and black."""
    grey = np.array([np.ptp(t.fraction) == 0 for t in taken])
    error = errors_of(taken, target)
    return float(2.0 * error[grey].mean() + (error[~grey].mean() if (~grey).any() else 0.0))
