"""How a display is measured: what suits a technology, reading longer where it is dark, and what a longer reading is worth."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.types import Floats

LEAST_SHARE, MOST_SHARE = 0.2, 8.0  # of the middle effort's time: beyond it a meter's account of its time is not believed


@dataclass(frozen=True)
class Usual:
    """What suits a technology: window in percent of area, surround in percent of signal, settle in seconds, and why."""

    window: float
    surround: float
    settle_s: float
    average: int
    low_below: float  # cd/m² below which a reading is taken again, longer
    low_average: int
    why: str


USUAL = {
    "lcd": Usual(10.0, 0.0, 0.5, 1, 1.0, 4, "A window of 10 % keeps dimming zones evenly lit and power limits out of the way."),
    "oled": Usual(10.0, 0.0, 0.5, 1, 0.5, 4, "An OLED limits its power by the lit area: 10 % is read before it does."),
    "wrgb-oled": Usual(10.0, 0.0, 0.5, 1, 0.5, 4, "An OLED limits its power by the lit area: 10 % is read before it does."),
    "projector": Usual(100.0, 0.0, 1.0, 2, 0.5, 8, "A full field: light that the room and the lens scatter is then as it is in a film; dark levels need longer readings."),
    "other": Usual(10.0, 0.0, 1.0, 1, 1.0, 4, "A window of 10 %, and a second to settle until the display is known."),
}  # fmt: skip


@dataclass(frozen=True)
class LowLight:
    """Below ``below`` cd/m² a reading is taken again with these: more averages, or a slower effort, or both."""

    below: float
    average: int
    effort: str = ""

    def wants(self, luminance: float | None, average: int, effort: str) -> bool:
        """Whether a reading of this luminance (None: too dark to read) is to be taken again, longer than it was."""
        longer = self.average > average or (bool(self.effort) and self.effort != effort)
        return longer and (luminance is None or luminance < self.below)


def usual(technology: str) -> Usual:
    """Return what suits a technology; one that is not known gets what is careful."""
    return USUAL.get(technology, USUAL["other"])


def typical_seconds(typical: Sequence[Sequence[float]], luminance: Floats | float) -> Floats:
    """Return how long a meter's middle effort takes at luminances (...), from its table of [cd/m², seconds]."""
    rows = sorted((float(a), float(b)) for a, b in typical)
    levels, times = np.log([max(a, 1e-6) for a, _ in rows]), [b for _, b in rows]
    result: Floats = np.interp(np.log(np.maximum(luminance, 1e-6)), levels, times)
    return result


def worth(typical: Sequence[Sequence[float]], luminance: Floats, seconds: Floats, average: Floats) -> Floats:
    """Return how many single readings of the middle effort each reading (n,) is worth.

    The link tells the noise of the middle effort alone. A slower one integrates longer, and noise falls with the root of the
    time, so the time that a reading took beside what the middle effort would have taken says what it is worth. A meter that
    tells no time, or an absurd one, is believed in its averages only.
    """
    expected = typical_seconds(typical, luminance) * average
    share = np.divide(seconds, expected, out=np.ones_like(expected), where=(expected > 0) & (seconds > 0))
    return np.asarray(average * np.where((share < LEAST_SHARE) | (share > MOST_SHARE), 1.0, share))


# Relative deviation of luminance, and that of x and y, that adjusting by a model wants of one reading; and the most averages.
STEADY, MOST_STEADY = (0.0015, 0.0003), 4
# Greys are few, each is turned by on what the others tell, and an offset in x and y shows more in them than in a colour.
STEADY_GREY, MOST_STEADY_GREY = (0.0010, 0.0002), 16
LONGEST_STEADY_S = 6.0


def steady_average(
    repeatability: Repeatability, typical: Sequence[Sequence[float]], luminance: float, *, grey: bool
) -> int:
    """Return how many averages make a reading of a luminance in cd/m² steady enough for hands-free.

    A quick meter is noisy and has the time; a slow one is steady already, or would take too long.
    """
    relative, x, y = (float(v) for v in repeatability.at(luminance))
    wanted_y, wanted_xy = STEADY_GREY if grey else STEADY
    wanted = max((relative / wanted_y) ** 2, (max(x, y) / wanted_xy) ** 2)
    allowed = LONGEST_STEADY_S / max(float(typical_seconds(typical, luminance)), 1e-3)
    return max(int(min(np.ceil(wanted - 1e-9), MOST_STEADY_GREY if grey else MOST_STEADY, allowed)), 1)
