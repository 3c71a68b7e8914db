"""What a meter reads where there is no light: its own floor and noise, beside what it says of itself."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.measure.uncertainty import Repeatability

LIT = 3.0  # times its floor: more than that is light, and no noise
LEAST = 3


@dataclass(frozen=True)
class Darkness:
    """Mean and standard deviation in cd/m² of readings in the dark, how many the meter refused, and what that means."""

    mean: float | None
    std: float | None
    count: int
    refused: int
    says: str


def judge_dark(readings: Sequence[float | None], floor: float, meter: Repeatability) -> Darkness:
    """Return what readings with the cap on say. None is one that the meter called too dark; ``floor`` is its own, in cd/m²."""
    seen = np.array([y for y in readings if y is not None], dtype=np.float64)
    refused = len(readings) - seen.size
    if seen.size < LEAST:
        return Darkness(
            None, None, len(readings), refused,
            f"It calls {refused} of {len(readings)} readings in the dark too dark to read, as it should below {floor:g} cd/m².",
        )  # fmt: skip
    mean, std = float(seen.mean()), float(seen.std(ddof=1))
    promised = floor * float(meter.at(floor)[0])
    if mean > LIT * floor:
        says = (
            f"In the dark it reads {mean:.2g} cd/m², and its floor is {floor:g}: light gets in, or it wants its dark calibration."
        )
    elif std > 2.0 * promised:
        says = (
            f"In the dark it reads {mean:.2g} ± {1.96 * std:.2g} cd/m², twice as unsteady as it says of itself: "
            "near black it wants more averages."
        )
    else:
        says = (
            f"In the dark it reads {mean:.2g} ± {1.96 * std:.2g} cd/m², as steady as it says of itself: "
            f"its floor of {floor:g} holds."
        )
    return Darkness(mean, std, len(readings), refused, says)
