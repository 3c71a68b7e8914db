"""The log of who did what; the database lets nobody change or delete a line of it."""

from collections.abc import Mapping
from typing import Any

from django.apps import apps
from django.db import models
from django.utils import timezone

from fenvik.web.people.models import LogEntry

# What a service is asked about, by the name of its argument: the model, and the way from it to a tuning or a visit.
KINDS = {
    "tuning_id": ("visits.Tuning", ""), "pass_id": ("passes.Pass", "tuning"), "visit_id": ("visits.Visit", ""),
    "handover_id": ("handovers.Handover", "visit"), "display_id": ("clients.Display", ""),
    "correction_id": ("corrections.Correction", ""),
}  # fmt: skip
LONGEST = 200


def _object(asked: Mapping[str, Any], made: Any) -> Any:
    for name, (label, way) in KINDS.items():
        if isinstance(asked.get(name), int):
            found = apps.get_model(label).objects.filter(pk=asked[name]).first()
            return getattr(found, way) if found is not None and way else found
    for name in ("tuning", "display", "device", "visit", "room", "client"):
        if isinstance(asked.get(name), models.Model):
            return asked[name]
    return made if isinstance(made, models.Model) else None


def _words(about: Any) -> str:
    """Return what an entry is about, as it was called then."""
    if about is None:
        return ""
    visit = getattr(about, "visit", about if about._meta.model_name == "visit" else None)
    client = getattr(visit, "client", None)
    name = getattr(about, "name", "") or (f"visit of {about.on:%d %B %Y}" if about._meta.model_name == "visit" else str(about))
    return f"{client.name}: {name}" if client is not None else str(name)


def enter(actor: Any, did: str, asked: Mapping[str, Any] | None = None, made: Any = None, *, about: str = "") -> None:
    """Write a line: who, what, about which thing."""
    thing = _object(asked or {}, made)
    LogEntry.objects.create(
        firm_id=actor.firm_id, person_id=actor.pk, did=did, about=(about or _words(thing))[:LONGEST],
        kind="" if thing is None else thing._meta.model_name, thing_id=None if thing is None else thing.pk, at=timezone.now(),
    )  # fmt: skip
