"""Which readings speak for the state that a display is in, and what of."""

from collections.abc import Sequence

from fenvik.core.signal.decoding import decode
from fenvik.core.signal.shown import OF_PICTURE
from fenvik.web.passes.models import NOT_OF_THE_MODE, Reading


def is_of_picture(row: Reading) -> bool:
    """Whether a reading is one of the picture: not of the instruments, nor of a ladder, a board or a grid."""
    return row.pass_of.purpose not in NOT_OF_THE_MODE and row.part in OF_PICTURE


def speaks(row: Reading) -> bool:
    """Whether a reading speaks for the state that the display is in: the one rule for whatever is learned, proposed or said of it.

    Ladders and grids are read in other windows or at single dark levels by the dozen, files elsewhere: none of them does.
    """
    return is_of_picture(row) and row.part == "main" and not row.pass_of.is_file


def grey_level(row: Reading) -> float | None:
    """Return the fraction of signal of a grey, None for a colour."""
    if not row.r == row.g == row.b:
        return None
    return float(decode(row.r, row.pass_of.bits, "full" if row.pass_of.range == "full" else "limited"))


def newest_white(rows: Sequence[Reading]) -> float | None:
    """Return the luminance in cd/m² of the white that was read last; ``rows`` oldest first."""
    return next(
        (float(row.seen[1]) for row in reversed(rows) if grey_level(row) == 1.0 and speaks(row) and row.y > 0), None
    )
