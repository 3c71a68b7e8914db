"""What stays of an error whatever a list turns, and whether it is light that stays: what no gain and no offset can bend."""

from dataclasses import dataclass

from fenvik.core.types import Floats

MOSTLY = 0.5  # of the error: where colour alone is less of it, the rest is light


@dataclass(frozen=True)
class Stays:
    """``low`` and ``high``: between which fractions of signal something is outside the tolerance; ``worst``: its greatest error."""

    low: float
    high: float
    worst: float
    is_light: bool


def stays_of(levels: Floats, counts: Floats, end: Floats, colour_end: Floats, tolerance: float) -> Stays | None:
    """Return what stays outside the tolerance; None where nothing does.

    ``levels`` (n,) fractions of signal; ``counts`` (n,), of which those below 1 are not asked for; ``end`` (n,) the errors that are
    expected in the end, and ``colour_end`` (n,) those of colour alone.
    """
    bad = (counts >= 1.0) & (end > tolerance)
    if not bad.any():
        return None
    mine, is_light = levels[bad], bool(colour_end[bad].mean() < MOSTLY * end[bad].mean())
    return Stays(float(mine.min()), float(mine.max()), float(end[bad].max()), is_light)
