"""Visits that come otherwise: on another day, not at all, once more."""

from datetime import date, datetime
from typing import Any

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.web.corrections.choosing import renew
from fenvik.web.passes.models import Pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning, Visit

# What a tuning is, apart from what was done in it.
NOT_COPIED = (
    "id", "aim", "aim_key", "measuring", "measuring_key", "visit", "created_at", "put_away_at", "correction", "correction_choice",
)  # fmt: skip


class VisitError(FenvikError):
    """Something that cannot be done with a visit now."""

    code = "visit"


def _locked(visit_id: int, actor: User) -> Visit:
    found: Visit = Visit.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).select_related("client").get(pk=visit_id)
    return found


@needs(Right.PLAN, "moved a visit")
@transaction.atomic
def move_visit(*, visit_id: int, actor: User, cleaned: dict[str, Any]) -> Visit:
    """Keep another day, time or note of a visit."""
    visit = _locked(visit_id, actor)
    visit.on, visit.starts, visit.notes = cleaned["on"], cleaned["starts"], cleaned["notes"]
    visit.save(update_fields=["on", "starts", "notes"])
    return visit


@needs(Right.PLAN, "cancelled a visit")
@transaction.atomic
def cancel_visit(*, visit_id: int, actor: User, now: datetime, why: str = "", cancelled: bool = True) -> Visit:
    """Say that a visit does not take place, or that it does after all. Raises VisitError where it has been measured in."""
    visit = _locked(visit_id, actor)
    if cancelled and Pass.objects.filter(tuning__visit=visit, readings__isnull=False).exists():
        raise VisitError("Something was measured at this visit already, so it has taken place. It can be put away instead.")
    visit.cancelled_at, visit.cancelled_why = (now, why[:200]) if cancelled else (None, "")
    visit.save(update_fields=["cancelled_at", "cancelled_why"])
    return visit


@needs(Right.PLAN, "copied a visit")
@transaction.atomic
def copy_visit(*, visit_id: int, actor: User, on: date, now: datetime) -> Visit:
    """Plan the same visit once more, with its tunings as they aim and measure, and nothing of what was read in them."""
    visit = _locked(visit_id, actor)
    made = Visit.objects.create(
        firm_id=visit.firm_id, client=visit.client, on=on, starts=visit.starts, notes=visit.notes, calibrator=actor
    )
    fields = [f.name for f in Tuning._meta.concrete_fields if f.name not in NOT_COPIED]
    for tuning in Tuning.objects.filter(visit=visit, display__put_away_at__isnull=True).order_by("pk"):
        copied = Tuning.objects.create(visit=made, **{name: getattr(tuning, name) for name in fields})
        renew(copied, now)
    return made
