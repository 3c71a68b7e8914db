"""The tape: the last readings, newest first, each with its error and what changed since the one before."""

from dataclasses import dataclass
from datetime import datetime

import numpy as np

from fenvik.core.signal.decoding import decode
from fenvik.web.adjusting.speaking import grey_level, is_of_picture
from fenvik.web.passes.models import Reading
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
    """Return the tape of recent readings, oldest first.

    ``white`` in cd/m²: what errors are counted against, but where another white was read before in the same pass.
    """
    rows = recent[: -ROWS * 3 - 1 : -1]
    errors = _errors(rows, tuning, _whites(recent, white)[: -ROWS * 3 - 1 : -1], black)
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


def _whites(recent: list[Reading], white: float | None) -> list[float | None]:
    """Return for each reading the white it belongs to: a run that turns the light brighter does not spoil what it read before."""
    made: list[float | None] = []
    of_pass: dict[int, float] = {}
    for row in recent:
        if is_of_picture(row) and grey_level(row) == 1.0 and row.y > 0:
            of_pass[row.pass_of_id] = float(row.seen[1])
        made.append(of_pass.get(row.pass_of_id, white))
    return made


def _errors(rows: list[Reading], tuning: Tuning, whites: list[float | None], black: float) -> list[float | None]:
    """Return the error of each reading against its white, all at once: of greys colour alone, of colours the whole."""
    made: list[float | None] = [None] * len(rows)
    mine = [i for i, row in enumerate(rows) if whites[i] is not None and row.y > 0 and is_of_picture(row)]
    if not mine:
        return made
    told = [rows[i] for i in mine]
    codes = np.array([[row.r, row.g, row.b] for row in told])
    fraction = np.empty(codes.shape)
    for sent in {(row.pass_of.bits, row.pass_of.range) for row in told}:
        of_it = [(row.pass_of.bits, row.pass_of.range) == sent for row in told]
        fraction[of_it] = decode(codes[of_it], sent[0], "full" if sent[1] == "full" else "limited")
    xyz, white = np.array([row.seen for row in told]), np.array([[whites[i]] for i in mine], dtype=np.float64)
    wanted = tuning.target.xyz(fraction[:, None], white, black)[:, 0]
    lab_white, metric = tuning.target.white * white, tuning.target.metric
    colour_only, whole = metric.colour_only(wanted, xyz, lab_white), metric.whole(wanted, xyz, lab_white)
    grey = (codes == codes[:, :1]).all(axis=1)
    for i, error in zip(mine, np.where(grey, colour_only, whole).tolist(), strict=True):
        made[i] = error
    return made
