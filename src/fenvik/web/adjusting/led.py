"""The lists of a run that leads the hand: what it wants turned, and what was entered."""

from datetime import UTC, datetime
from typing import Any

from django.db import transaction

from fenvik.web.adjusting.lists import rows_to
from fenvik.web.adjusting.models import ChangeList, ListKind
from fenvik.web.controls.values import values_of
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass
from fenvik.web.visits.models import WHOLE, Tuning


def stands(tuning_id: int) -> dict[str, Any]:
    """Return where each control of a tuning stands, as it was entered."""
    return dict(values_of(Tuning.objects.select_related("display__menu_map").get(pk=tuning_id)).now)


@transaction.atomic
def entered(*, pass_: Pass, step: int, rows: list[dict[str, Any]]) -> dict[str, Any] | None:
    """Return where every control stands once a list is entered or given up; make that list where it is not there yet.

    ``step``: the number of the first step that is on it; ``rows`` have control, label, after, group, channel. None while it waits.
    """
    tuning = Tuning.objects.select_for_update(of=WHOLE).select_related("display__menu_map").get(pk=pass_.tuning_id)
    now = dict(values_of(tuning).now)
    mine = ChangeList.objects.filter(of_pass=pass_, step=step).order_by("-pk").first()
    if mine is not None:
        return None if mine.closed_at is None else now
    left = [row | {"before": now.get(row["control"])} for row in rows if now.get(row["control"]) != row["after"]]
    if not left:
        return now
    at = datetime.now(UTC)
    ChangeList.objects.filter(tuning=tuning, closed_at__isnull=True).update(closed_at=at)
    ChangeList.objects.create(
        tuning=tuning, kind=ListKind.LED, rows=left, at=at, by=pass_.created_by, of_pass=pass_, step=step
    )
    notify(tuning.pk)
    return None


@transaction.atomic
def ended(*, pass_: Pass, back: list[dict[str, Any]]) -> bool:
    """Close the list of a run that was stopped, and make one that puts controls back; return whether there is any to enter."""
    at = datetime.now(UTC)
    tuning = Tuning.objects.select_for_update(of=WHOLE).select_related("display__menu_map").get(pk=pass_.tuning_id)
    ChangeList.objects.filter(of_pass=pass_, closed_at__isnull=True).update(closed_at=at)
    rows = rows_to(values_of(tuning), {control["id"]: control["value"] for control in back})
    if rows and not ChangeList.objects.filter(tuning=tuning, closed_at__isnull=True).exists():
        ChangeList.objects.create(tuning=tuning, kind=ListKind.BACK, rows=rows, at=at, by=pass_.created_by)
    notify(tuning.pk)
    return bool(rows)
