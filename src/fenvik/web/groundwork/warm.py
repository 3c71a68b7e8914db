"""A warm-up pass: the procedure that it runs, and what it says, kept with it so that lists need not compute it again."""

from datetime import datetime
from typing import Any

import numpy as np

from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.measure.warmup import WarmUp, warm_up
from fenvik.core.procedures.steps import Procedure
from fenvik.core.procedures.warming import Warmth, watch
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, Reading


def readings_of(pass_: Pass) -> list[Reading]:
    """Return the readings of white of a warm-up pass, in order."""
    rows = list(pass_.readings.filter(too_dark=False).order_by("id").only("id", "x", "y", "z", "at", "started_at", "pass_of"))
    for row in rows:
        row.pass_of = pass_
    return rows


def fit_of(pass_: Pass, rows: list[Reading]) -> WarmUp | None:
    """Return the fit to a warm-up pass; None while there is too little of it."""
    if len(rows) < 2:
        return None
    seconds = np.array([(row.started_at - rows[0].started_at).total_seconds() for row in rows])
    xyz = np.array([row.seen for row in rows])
    return warm_up(seconds, xyz, Repeatability.of(pass_.meter_facts["repeatability"]), pass_.average)


def watching(pass_: Pass) -> Procedure[Warmth]:
    """Return what a warm-up pass does."""
    meter = Repeatability.of(pass_.meter_facts["repeatability"])
    return watch(meter, every_s=pass_.interval_s, average=pass_.average)


def keep_warmth(pass_id: int, warmth: Warmth, at: datetime) -> None:
    """Keep what a warm-up pass says by now."""
    summary: dict[str, Any] = {
        "readings": warmth.readings, "white": warmth.white, "minutes_left": None, "settled_at": None,
    }  # fmt: skip
    if warmth.fit is not None:
        summary |= {
            "minutes_left": warmth.fit.minutes_left, "remaining_y": warmth.fit.remaining_y,
            "remaining_uv": warmth.fit.remaining_uv, "settled_at": at.isoformat() if warmth.is_settled else None,
        }  # fmt: skip
    Pass.objects.filter(pk=pass_id).update(summary=summary)
    notify(Pass.objects.values_list("tuning_id", flat=True).get(pk=pass_id), pass_id=pass_id)
