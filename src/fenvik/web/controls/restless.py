"""Which controls a display turns by itself: nobody turns what moves again and again in the middle of passes."""

from collections.abc import Sequence
from typing import Any

from django.db.models import F

from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import Values, shown
from fenvik.web.visits.models import Tuning

OFTEN = 2  # passes while which it moved: once a person may have turned it
STILL = ("process.sharpness", "process.noise", "process.motion", "process.overscan")  # these turn no other control


def restless(tuning: Tuning, values: Values) -> list[str]:
    """Return the labels of controls that moved in the middle of several passes, since processing was last turned."""
    process = {c["id"] for c in values.controls if (c.get("role") or "").startswith("process.")}
    since = max((c.pk for c in values.changes if c.control in process and not c.is_told), default=0)
    told = ControlChange.objects.filter(tuning=tuning, is_told=True, pk__gt=since, of_pass__readings__knew__lt=F("pk"))
    passes: dict[str, set[int]] = {}
    for control, pass_id in told.values_list("control", "of_pass_id").distinct():
        passes.setdefault(control, set()).add(pass_id)
    return [c["label"] for c in values.controls if len(passes.get(c["id"], ())) >= OFTEN]


def still_on(values: Values) -> list[str]:
    """Return the labels of processing that may turn others and stands elsewhere than where it is off, each with its value."""
    known = [c for c in values.controls if (c.get("role") or "").startswith("process.") and c.get("off") is not None]
    on = [c for c in known if c["role"] not in STILL and values.now.get(c["id"]) not in (None, c["off"])]
    return [f"{c['label']} ({shown(values.now[c['id']])})" for c in on]


def folded(changes: Sequence[ControlChange]) -> list[dict[str, Any]]:
    """Return from where to where each control went in all, in the order of their first changes: label, before and after."""
    made: dict[str, dict[str, Any]] = {}
    for change in changes:
        row = made.setdefault(change.control, {"label": change.label, "before": change.before})
        row["after"] = change.after
    return list(made.values())
