"""How long a meter really takes, beside its own account: what times are told by before a pass."""

import numpy as np

from fenvik.core.measuring import typical_seconds
from fenvik.web.devices.models import Device
from fenvik.web.passes.models import Pass

LEAST_READINGS = 5  # fewer say little
SLOWEST, QUICKEST = 20.0, 0.002


def note_pace(pass_id: int) -> None:
    """Remember how the readings of a pass took their time, for each effort, as a share of what the meter says of itself."""
    pass_ = Pass.objects.select_related("meter").get(pk=pass_id)
    if pass_.meter.is_keyed or pass_.reference_id is not None:
        return
    lit = pass_.readings.filter(too_dark=False, y__gt=0).order_by("-id")
    rows = list(lit.only("y", "average", "effort", "started_at", "at")[:200])
    pace = dict(pass_.meter.pace or {})
    for effort in {row.effort for row in rows}:
        mine = [row for row in rows if row.effort == effort]
        if len(mine) < LEAST_READINGS:
            continue
        told = typical_seconds(pass_.meter_facts["typical"], np.array([row.y for row in mine]))
        told = told * np.array([row.average for row in mine])
        took = sum((row.at - row.started_at).total_seconds() for row in mine)
        pace[effort] = min(max(took / float(told.sum()), QUICKEST), SLOWEST)
    if pace != (pass_.meter.pace or {}):
        Device.objects.filter(pk=pass_.meter_id).update(pace=pace)
