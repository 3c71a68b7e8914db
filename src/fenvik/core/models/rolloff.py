"""How an HDR display ends: from following the signal to its peak, told from greys, and what its signal must be for a light.

Light is told as its PQ signal. What a display would give if it went on as it does in the middle of its range is its *course*; where
it ends, less than that comes out. The map from course to light is taken from the greys that were found, and controls, which act on
the signal before it, are judged by the course that they have to bring about.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy
from numpy.typing import ArrayLike

from fenvik.core.colour import curves
from fenvik.core.types import Floats

MIDDLE = (0.25, 0.8)  # of the PQ signal of the peak: where every display follows in its own way
FOLLOWS = 0.008  # of PQ signal: less than this below its course, and it still follows
FLAT = 0.12  # of the course: where light grows by less, it is no longer to be had
AT_END = 0.01  # of PQ signal below the course from which on light does not grow: what noise hides
NEAR_ONE, MOST_DOUBT = 1e-3, 6.0


@dataclass(frozen=True)
class RollOff:
    """``course`` and ``light``, both rising, in PQ signal; below the first of them they are equal."""

    course: Floats
    light: Floats
    gap: float = 0.0  # of signal, between the last grey that follows and the first that does not

    @property
    def from_signal(self) -> float:
        """The PQ signal up to which the display follows."""
        return float(self.course[0])

    @property
    def follows_to(self) -> float:
        """The luminance in cd/m² up to which the display follows."""
        return float(curves.pq(self.light[0]))

    def _map(self) -> Any:
        return scipy.interpolate.PchipInterpolator(self.course, self.light, extrapolate=False)

    def shown(self, course: ArrayLike) -> Floats:
        """Return the PQ signal of what is shown for a course, any shape."""
        u = np.asarray(course, dtype=np.float64)
        inside = self._map()(np.clip(u, self.course[0], self.course[-1]))
        result: Floats = np.where(u <= self.course[0], u, inside)
        return result

    def doubt_of(self, course: float) -> float:
        """Return how many times less a course is known from its light than where the display follows."""
        if course <= self.course[0]:
            return 1.0
        both = self.shown(np.array([course - 0.004, course + 0.004]))
        return float(np.clip(0.008 / max(float(both[1] - both[0]), 1e-6), 1.0, MOST_DOUBT)) ** 2

    def course_of(self, light: ArrayLike) -> Floats:
        """Return the course (any shape) that shows PQ signals: as far as light still grows with it, and no farther."""
        d = np.asarray(light, dtype=np.float64)
        fine, shown = self._growing()
        result: Floats = np.where(d <= self.light[0], d, np.interp(d, shown, fine))
        return result

    @property
    def end(self) -> float:
        """The course from which on light no longer grows."""
        return float(self._growing()[0][-1])

    def hides(self, drive: float, level: float) -> bool:
        """Return whether a grey at a level of signal lies where light no longer grows: how far beyond it is driven is not seen.

        ``drive``: its course as it is told by its light.
        """
        return min(drive + AT_END, level) > self.end

    def _growing(self) -> tuple[Floats, Floats]:
        """Return courses and what is shown for them, as far as that grows."""
        fine = np.linspace(self.course[0], self.course[-1], 400)
        shown = self._map()(fine)
        growing = np.gradient(shown, fine) >= FLAT
        end = len(fine) if growing.all() else max(int(np.argmin(growing)), 2)
        return fine[:end], shown[:end]


def roll_off_of(levels: Sequence[float], luminance: Sequence[float], black: float) -> RollOff | None:
    """Return how a display ends, from greys: PQ signals, luminances in cd/m² with black in them; None where too few tell.

    Black is taken off: it adds to what the signal gives.
    """
    order = np.argsort(levels)
    signal = np.array(levels, dtype=np.float64)[order]
    light = curves.pq_inverse(np.maximum(np.array(luminance, dtype=np.float64)[order] - black, 0.0))
    signal, first = np.unique(signal, return_index=True)
    light = np.maximum.accumulate(light[first])
    peak = float(light[-1])
    middle = (signal >= MIDDLE[0] * peak) & (signal <= MIDDLE[1] * peak)
    if middle.sum() < 3:
        return None
    # Its own way: a little steeper or flatter than the standard, which the controls mend and the end does not make.
    slope, shift = np.polyfit(signal[middle], light[middle], 1)
    course = slope * signal + shift
    short = course - light
    # The last grey from which on everything falls short.
    follows = np.flatnonzero(short <= FOLLOWS)
    start = int(follows[-1]) if follows.size else int(np.flatnonzero(middle)[0])
    if start >= len(signal) - 1:
        return None
    course, light = course[start:], light[start:]
    light[0] = min(light[0], course[0])
    course = np.concatenate([[light[0]], np.maximum(course[1:], light[0] + NEAR_ONE * np.arange(1, len(course)))])
    light = np.maximum.accumulate(light + NEAR_ONE * 0.01 * np.arange(len(light)))
    gap = float(signal[start + 1] - signal[start])
    return RollOff(np.maximum.accumulate(course + NEAR_ONE * 0.01 * np.arange(len(course))), light, gap)
