"""Whether a picture still follows its source: a patch that reads like the one before it although it should not."""

from dataclasses import dataclass

import numpy as np

from fenvik.core.colour.curves import pq
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.types import Floats

WEIGHT = np.array([0.21, 0.72, 0.07])
LEAST_SHARE = 5e-4  # of white: below it a crushed step reads like black, and rightly
APART = 0.1  # of luminance (as a ratio) or of signal: patches nearer than that may read alike
ALIKE_Y, ALIKE_XY = 0.005, 0.0015
DEVIATIONS = 4.0
SURELY = 20.0  # times a meter's floor: a display may be as far as that below its curve in the shadows, and no farther
SURELY_PQ = 100.0  # the same of PQ, a reference white of 10 instead of 203 cd/m² included


@dataclass(frozen=True)
class Shown:
    """A patch as fractions of signal (3,), and what a meter read of it, XYZ (3,) in cd/m²."""

    fraction: Floats
    xyz: Floats


def _share(fraction: Floats) -> float:
    return float(np.clip(fraction, 0.0, 1.0) ** 2.3 @ WEIGHT)


def is_suspicious(before: Shown, now: Shown, meter: Repeatability) -> bool:
    """Whether a patch reads like the one before it although it should not.

    A display that clips or crushes gives the same with a picture that lives: whoever asks must prove it by a patch that is
    far from both.
    """
    old, new = _share(before.fraction), _share(now.fraction)
    if max(old, new) < LEAST_SHARE:
        return False
    differ = (
        abs(np.log(max(new, 1e-6) / max(old, 1e-6))) > APART or np.abs(now.fraction - before.fraction).max() > APART
    )
    if not differ or before.xyz[1] <= 0 or now.xyz[1] <= 0:
        return False
    relative, x_std, _ = (float(v) for v in meter.at(before.xyz[1]))
    apart = abs(now.xyz[1] / before.xyz[1] - 1.0)
    xy = [np.asarray(s.xyz[:2] / s.xyz.sum()) for s in (before, now)]
    moved = float(np.abs(xy[1] - xy[0]).max())
    return bool(apart < max(DEVIATIONS * relative, ALIKE_Y) and moved < max(DEVIATIONS * x_std, ALIKE_XY))


def should_be_read(fraction: Floats, brightest: float, floor: float, *, is_pq: bool = False) -> bool:
    """Whether a patch that a meter calls too dark should be far above its floor, both in cd/m².

    ``brightest``: what was read so far at most, or what a dim white would be. ``is_pq``: the signal says every light itself,
    however bright the display is: 5 % of it is 0.06 cd/m², and less where somebody wants a reference white of his own.
    """
    if is_pq:
        return min(float(pq(fraction) @ WEIGHT), brightest) > SURELY_PQ * floor
    return _share(fraction) * brightest > SURELY * floor


def far_from(fraction: Floats) -> float:
    """Return a grey, in percent of signal, that is far from a patch."""
    return 0.0 if _share(fraction) > 0.1 else 70.0
