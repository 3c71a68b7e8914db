"""The tape: the last readings, newest first, each with its error and what changed since the one before."""

from dataclasses import dataclass
from datetime import datetime

import numpy as np

from fenvik.core import difference
from fenvik.core.signal import decode
from fenvik.web.passes.models import OF_INSTRUMENTS, Reading
from fenvik.web.visits.models import Tuning

ROWS = 7


@dataclass(frozen=True)
class TapeRow:
    """One reading on the tape."""

    id: int
    at: datetime
    label: str
    luminance: float
    x: float
    y: float
    error: float | None
    change: float | None  # of the error, since the reading before of the same patch
    too_dark: bool


def tape_of(tuning: Tuning, recent: list[Reading], white: float | None, black: float) -> list[TapeRow]:
    """Return the tape of recent readings, oldest first; ``white`` in cd/m² is what errors are counted against."""
    rows = recent[: -ROWS * 3 - 1 : -1]
    errors = _errors(rows, tuning, white, black)
    made = []
    for i, row in enumerate(rows[:ROWS]):
        x, y, z = row.seen
        total = x + y + z
        before = next(
            (j for j in range(i + 1, len(rows)) if (rows[j].r, rows[j].g, rows[j].b) == (row.r, row.g, row.b)), None
        )
        error = errors[i]
        change = None
        if before is not None and error is not None and errors[before] is not None:
            change = error - errors[before]  # type: ignore[operator]
        made.append(
            TapeRow(
                row.pk, row.at, row.label if row.r == row.g == row.b else row.label.removesuffix(" 100 %"), y,
                x / total if total > 0 else float("nan"), y / total if total > 0 else float("nan"),
                error, change, row.too_dark,
            )
        )  # fmt: skip
    return made


def _errors(rows: list[Reading], tuning: Tuning, white: float | None, black: float) -> list[float | None]:
    if not rows or white is None:
        return [None] * len(rows)
    codes = np.array([[row.r, row.g, row.b] for row in rows])
    range_ = "full" if rows[0].pass_of.range == "full" else "limited"
    fraction = np.clip(decode(codes, rows[0].pass_of.bits, range_), 0.0, 1.0)  # type: ignore[arg-type]
    xyz = np.array([row.seen for row in rows])
    target = tuning.target.xyz(fraction, white, black)
    lab_white = tuning.target.white * white
    colour_only = difference.colour_only(target, xyz, lab_white).total
    whole = difference.whole(target, xyz, lab_white).total
    grey = (codes == codes[:, :1]).all(axis=1)
    return [
        None if row.y <= 0 or row.pass_of.purpose in OF_INSTRUMENTS else float(c if g else w)
        for row, c, w, g in zip(rows, colour_only, whole, grey, strict=True)
    ]
