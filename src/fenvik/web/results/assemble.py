"""From stored rows to the core's types: what a pass or a tuning has to say."""

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from fenvik.core.analysis.analysis import Analysis, Readings, analyse
from fenvik.core.errors import NoWhiteError
from fenvik.core.measure.averaging import worth
from fenvik.core.measure.drift import factors, shared_noise
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.signal.shown import OF_PICTURE
from fenvik.web.kit.keeping import Kept
from fenvik.web.passes.models import Pass, Reading
from fenvik.web.visits.models import Tuning


def newest_of_each(rows: Iterable[Reading]) -> list[Reading]:
    """Return the readings that count: the newest of each place in the list, in the list's order."""
    newest: dict[int, Reading] = {}
    for row in rows:
        newest[row.index] = row
    return [newest[index] for index in sorted(newest)]


def core_readings(pass_: Pass, rows: list[Reading]) -> Readings:
    """Return a pass's readings as the core takes them: through the pass's correction, with how far that may be off."""
    raw = np.array([[row.x, row.y, row.z] for row in rows], dtype=np.float64).reshape(-1, 3)
    average = np.array([float(row.average) for row in rows])
    seconds = np.array([float(row.seconds or 0.0) for row in rows])
    typical = pass_.meter_facts.get("typical")
    matrix = pass_.matrix
    return Readings(
        codes=np.array([[row.r, row.g, row.b] for row in rows], dtype=np.int64).reshape(-1, 3),
        xyz=raw if matrix is None else raw @ matrix.T,
        bits=pass_.bits,
        range="full" if pass_.range == "full" else "limited",
        labels=tuple(row.label for row in rows),
        average=worth(typical, raw[:, 1], seconds, average) if typical else average,
        repeatability=Repeatability.of(pass_.meter_facts["repeatability"]),
        floor=float(pass_.meter_facts["floor"]),
        systematic=None if pass_.correction is None else pass_.correction.systematic,
        dark=np.array([row.too_dark for row in rows], dtype=bool),
        beside=np.array([row.part == "beside" for row in rows], dtype=bool),
    )


def main_rows(rows: Iterable[Reading]) -> list[Reading]:
    """Return the readings that say something of the picture: with the pass's own window, and not those for drift."""
    return [row for row in rows if row.part in OF_PICTURE]


def drift_of(pass_: Pass) -> tuple[np.ndarray, Readings | None]:
    """Return when whites for drift were read, in seconds since the first, and the whites as they were seen; None without one."""
    rows = [row for row in newest_of_each(pass_.readings.filter(part="drift").order_by("id")) if not row.too_dark]
    rows.sort(key=lambda row: row.started_at)
    if not rows:
        return np.zeros(0), None
    seconds = np.array([(row.started_at - rows[0].started_at).total_seconds() for row in rows])
    return seconds, core_readings(pass_, rows)


def undrifted(pass_: Pass, rows: list[Reading]) -> Readings:
    """Return readings with the drift between the pass's whites taken out, unless that was switched off for it."""
    taken = core_readings(pass_, rows)
    seconds, whites = drift_of(pass_)
    if whites is None or len(seconds) < 2 or pass_.drift_kept:
        return taken
    drifts = pass_.readings.filter(part="drift").order_by("started_at")
    at = np.array([(row.started_at - drifts[0].started_at).total_seconds() for row in rows])
    noise = shared_noise(at, seconds, whites.xyz, whites.own_noise)
    return replace(taken, xyz=taken.xyz * factors(at, seconds, whites.xyz), shared=noise)


_kept: Kept[Analysis | None] = Kept(32)  # each holds its readings drawn anew, about a megabyte


def analysis_of(pass_: Pass | None, tuning: Tuning, last_reading: int | None = None) -> Analysis | None:
    """Return the analysis of a pass; None without a reading or without a white to hold them against.

    Readings are only ever added, so ``last_reading``, the newest one's id, says whether an earlier analysis still holds.
    """
    if pass_ is None:
        return None
    key = (
        pass_.pk, last_reading or 0, pass_.correction_id or 0, pass_.drift_kept, repr(tuning.target),
    )  # fmt: skip
    return _analysed(pass_, tuning) if last_reading is None else _kept.get(key, lambda: _analysed(pass_, tuning))


def _analysed(pass_: Pass, tuning: Tuning) -> Analysis | None:
    rows = main_rows(newest_of_each(pass_.readings.order_by("id")))
    if not rows:
        return None
    try:
        return analyse(undrifted(pass_, rows), tuning.read_by(pass_.meter_facts))
    except NoWhiteError:
        return None
