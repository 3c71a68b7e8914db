"""How long a meter really takes, beside its own account: what times are told by before a pass."""

from itertools import pairwise

import numpy as np

from fenvik.core.measure.averaging import typical_seconds
from fenvik.web.devices.models import Device
from fenvik.web.passes.models import Pass

OVERHEAD = "between"  # the entry of what passes between two readings, in seconds
LEAST_READINGS = 5  # fewer say little
SLOWEST, QUICKEST = 20.0, 0.002


def _between(pass_: Pass) -> float | None:
    """Return how long it takes from one reading's end to the next one's start, settling left out; None without enough of them."""
    rows = list(pass_.readings.order_by("id").values_list("started_at", "at")[:200])
    gaps = sorted((after[0] - before[1]).total_seconds() for before, after in pairwise(rows))
    if len(gaps) < LEAST_READINGS:
        return None
    # The middle one: a pause or a fault is no part of the usual way.
    return min(max(gaps[len(gaps) // 2] - pass_.settle_s, 0.0), 5.0)


def note_pace(pass_id: int) -> None:
    """Remember how the readings of a pass took their time, for each effort, as a share of what the meter says of itself."""
    pass_ = Pass.objects.select_related("meter").get(pk=pass_id)
    if pass_.repeat or pass_.meter.is_keyed or pass_.reference_id is not None:
        return
    lit = pass_.readings.filter(too_dark=False, y__gt=0).order_by("-id")
    rows = list(lit.values_list("y", "average", "effort", "started_at", "at")[:200])
    pace = dict(pass_.meter.pace or {})
    for effort in {row[2] for row in rows}:
        mine = [row for row in rows if row[2] == effort]
        if len(mine) < LEAST_READINGS:
            continue
        told = typical_seconds(pass_.meter_facts["typical"], np.array([row[0] for row in mine]))
        told = told * np.array([row[1] for row in mine])
        took = sum((row[4] - row[3]).total_seconds() for row in mine)
        pace[effort] = min(max(took / float(told.sum()), QUICKEST), SLOWEST)
    between = _between(pass_)
    if between is not None:
        pace[OVERHEAD] = between
    if pace != (pass_.meter.pace or {}):
        Device.objects.filter(pk=pass_.meter_id).update(pace=pace)
