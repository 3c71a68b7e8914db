"""Two whites brought together by eye: the ways in which one is stepped, the sides it comes from, and what the tries come to."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.types import Floats

JUST_NOTICED = 0.001  # of u′v′
STEP = 0.5 * JUST_NOTICED
# Along daylight from blue to yellow, and across it from magenta to green: unit vectors in u′v′ at D65.
YELLOW: Floats = np.array([0.4403, 0.8979])
GREEN: Floats = np.array([-0.8979, 0.4403])
WAYS = {"yellow": YELLOW, "blue": -YELLOW, "green": GREEN, "magenta": -GREEN}
BEGINS = 0.007  # u′v′ away: far enough that every try has a way to go
TRIES = 3


@dataclass(frozen=True)
class Match:
    """``uv`` (2,): the mean of the tries; ``spread`` (2,): one standard deviation of a try; how many tries."""

    uv: Floats
    spread: Floats
    tries: int

    @property
    def std(self) -> Floats:
        """One standard deviation of the mean."""
        made: Floats = self.spread / np.sqrt(self.tries)
        return made

    @property
    def agrees(self) -> bool:
        """Whether the tries ended near each other: within three things just noticed."""
        return float(np.hypot(*self.spread)) < 3.0 * JUST_NOTICED


def begins_at(number: int, around: ArrayLike = (0.0, 0.0), turned: float = 0.0) -> tuple[float, float]:
    """Return where a try begins: each from another side of what is expected, in u′v′. ``turned``: degrees, drawn by lot."""
    angle = np.deg2rad(turned + 360.0 * (number % TRIES) / TRIES)
    du, dv = np.asarray(around) + BEGINS * (np.cos(angle) * YELLOW + np.sin(angle) * GREEN)
    return round(float(du), 5), round(float(dv), 5)


def stepped(at: ArrayLike, way: str, count: int = 1) -> tuple[float, float]:
    """Return an offset a number of steps further along one of WAYS. Raises KeyError for another."""
    du, dv = np.asarray(at, dtype=np.float64) + STEP * count * WAYS[way]
    return round(float(du), 5), round(float(dv), 5)


def match_of(ends: Sequence[ArrayLike]) -> Match:
    """Return what tries come to: the offsets in u′v′ at which both looked the same. Raises ValueError below two."""
    told = np.asarray(ends, dtype=np.float64)
    if told.ndim != 2 or told.shape[0] < 2 or told.shape[1] != 2:
        raise ValueError("A match takes two tries at least.")
    return Match(told.mean(axis=0), told.std(axis=0, ddof=1), told.shape[0])
