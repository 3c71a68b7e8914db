"""What black does when gains, offsets and points move the signal: told from blacks that were read with them elsewhere.

A display's black is a floor that no signal changes, and what its own signal at black adds to that. Offsets move the second alone.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import scipy

SEEN_LIFT, DARKEST = 0.12, 0.0004  # share of black, and cd/m²: what black may be raised by
POWER = 2.4  # that a signal near black is taken to follow
TOLD = 0.02  # share of black: a change of less than this is no change that a meter tells
LEAST_LIFT = 0.004  # of signal: less tells nothing, for the three lights may be moved against each other
FARTHEST = 0.3  # of signal: farther below its threshold no black lies


@dataclass(frozen=True)
class Black:
    """``found`` in cd/m², as read before anything was moved; ``signal``: how far above its threshold the display's own signal was.

    Below 0 so much of a lift shows nothing. None: not known, taken to be just at the threshold.
    """

    white: float
    found: float
    signal: float | None = None

    @property
    def floor(self) -> float:
        """What no signal takes away, in cd/m²."""
        return max(self.found - self._light(self.signal or 0.0), 0.0)

    def at(self, lift: float) -> float:
        """Return the luminance in cd/m² of black with the signal lifted by so much."""
        return self.floor + self._light((self.signal or 0.0) + lift)

    def most(self, held: float) -> float:
        """Return by how much the signal may be lifted until black shines visibly brighter than ``held`` (cd/m²)."""
        room = max(held - self.floor, 0.0) + max(SEEN_LIFT * held, DARKEST)
        return float((room / self.white) ** (1 / POWER)) - (self.signal or 0.0)

    def _light(self, signal: float) -> float:
        return float(self.white * max(signal, 0.0) ** POWER)


def black_of(white: float, found: float, read: Sequence[tuple[float, float]]) -> Black:
    """Return what blacks (lift, cd/m²) that were read with the signal lifted, or lowered, tell beside the one that was found.

    ``white``, ``found``: cd/m². A black of 0 was too dark for the meter: it fell, or it tells nothing.
    """
    told = max(TOLD * found, DARKEST / 4)
    rose = [(lift, luminance - found) for lift, luminance in read if lift >= LEAST_LIFT and luminance > 0]
    fell = [(lift, luminance - found) for lift, luminance in read if lift <= -LEAST_LIFT and luminance < found]
    shown = [(lift, more) for lift, more in (*rose, *fell) if (more >= told if lift > 0 else more <= -told)]
    if shown:
        signal = _signal(white, *max(shown, key=lambda pair: abs(pair[1])))
        return Black(white, found, min(signal, float((found / white) ** (1 / POWER))))
    if rose:
        # Not seen yet: it may be with the next step.
        return Black(white, found, float((told / white) ** (1 / POWER)) - max(lift for lift, _ in rose))
    return Black(white, found)


def _signal(white: float, lift: float, more: float) -> float:
    """Return the signal that adds ``more`` light (cd/m², less than 0 where it is lowered) when it is lifted by so much."""

    def off(signal: float) -> float:
        return float(white * (max(signal + lift, 0.0) ** POWER - max(signal, 0.0) ** POWER)) - more

    low, high = -FARTHEST, FARTHEST
    if off(low) * off(high) > 0:
        return low if abs(off(low)) < abs(off(high)) else high
    return float(scipy.optimize.brentq(off, low, high))
