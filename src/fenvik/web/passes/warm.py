"""What a warm-up pass says, kept with it so that lists need not compute it again."""

from typing import Any

import numpy as np

from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.measure.warmup import WarmUp, warm_up
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, Reading


def readings_of(pass_: Pass) -> list[Reading]:
    """Return the readings of white of a warm-up pass, in order."""
    rows = list(pass_.readings.filter(too_dark=False).order_by("id").only("id", "x", "y", "z", "at", "pass_of"))
    for row in rows:
        row.pass_of = pass_
    return rows


def fit_of(pass_: Pass, rows: list[Reading]) -> WarmUp | None:
    """Return the fit to a warm-up pass; None while there is too little of it."""
    if len(rows) < 2:
        return None
    seconds = np.array([(row.at - rows[0].at).total_seconds() for row in rows])
    xyz = np.array([row.seen for row in rows])
    return warm_up(seconds, xyz, Repeatability.of(pass_.meter_facts["repeatability"]), pass_.average)


def judge_warm_up(pass_id: int) -> bool:
    """Keep what a warm-up pass says by now; return whether the display has settled."""
    pass_ = Pass.objects.select_related("correction").get(pk=pass_id)
    rows = readings_of(pass_)
    fit = fit_of(pass_, rows)
    summary: dict[str, Any] = {
        "readings": len(rows),
        "white": rows[-1].seen[1] if rows else None,
        "minutes_left": None,
        "settled_at": None,
    }
    if fit is not None:
        summary |= {
            "minutes_left": fit.minutes_left, "remaining_y": fit.remaining_y, "remaining_uv": fit.remaining_uv,
            "settled_at": rows[-1].at.isoformat() if fit.is_settled else None,
        }  # fmt: skip
    Pass.objects.filter(pk=pass_id).update(summary=summary)
    notify(pass_.tuning_id, pass_id=pass_id)
    return fit is not None and fit.is_settled
