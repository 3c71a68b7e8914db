"""Putting things away and taking them back: nothing is deleted at once, and what hangs on a thing goes and comes with it.

After thirty days what is still away is deleted for good, with all that was read there; corrections stay, for figures hang on them.
"""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import models, transaction
from django.utils.timezone import localtime

from fenvik.core.errors import FenvikError
from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.controls.models import ControlChange, SettingsSheet
from fenvik.web.corrections.models import Correction
from fenvik.web.handovers.models import Handover
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning, Visit

KEPT_FOR = timedelta(days=30)
GO_FIRST = ("pass", "sheet", "tuning", "visit", "display", "client")
# What points to a thing that is deleted for good and yet stays, since others hang on it.
STAYS = {(Correction, "from_pass"), (Correction, "display"), (ControlChange, "reading_before")}


class AwayError(FenvikError):
    """Something that cannot be put away or taken back now."""

    code = "not_away"


@dataclass(frozen=True)
class Kind:
    """What can be put away: its model, the field that says since when, and what goes with it by the way back to it."""

    model: Any
    words: str
    field: str = "put_away_at"
    goes_too: tuple[tuple[Any, str], ...] = ()
    way: str = ""  # from the thing to its tunings, of those that a pass may be read of

    def rows(self, firm_id: int, *, away: bool = False) -> Any:
        """Return the rows of a firm that are there, or that are away."""
        manager = getattr(self.model, "everything", self.model.objects)
        return manager.of_firm(firm_id).filter(**{f"{self.field}__isnull": not away})


KINDS = {
    "client": Kind(
        Client, "client", goes_too=((Room, "client"), (Display, "room__client"), (Visit, "client"), (Tuning, "visit__client")),
        way="visit__client",
    ),
    "display": Kind(Display, "display", goes_too=((Tuning, "display"),), way="display"),
    "visit": Kind(Visit, "visit", goes_too=((Tuning, "visit"),), way="visit"),
    "tuning": Kind(Tuning, "tuning", way="pk"),
    "sheet": Kind(SettingsSheet, "settings sheet"),
    "pass": Kind(Pass, "pass", "removed_at"),
    "correction": Kind(Correction, "correction", "withdrawn_at"),
}  # fmt: skip


# What its name is made of.
BESIDE = {
    "visit": ("client",), "tuning": ("visit__client", "display"), "sheet": ("tuning",), "pass": ("tuning",),
    "display": ("room__client",),
}  # fmt: skip


def named(kind: str, thing: Any) -> str:
    """Return what a thing is called where it stands alone."""
    match kind:
        case "visit":
            return f"{thing.client}, {thing.on:%-d %B %Y}"
        case "tuning":
            return f"{thing.visit.client}: {thing.name}"
        case "sheet":
            return f"{thing.tuning.name}: {thing.note or thing.get_moment_display()}, {localtime(thing.at):%-d %B %Y, %H:%M}"
        case "pass":
            what = thing.name or thing.get_purpose_display()
            return f"{thing.tuning.name}: {what}, {localtime(thing.created_at):%-d %B %Y, %H:%M}"
        case "correction":
            return f"{thing.meter_name} by {thing.reference_name}, {localtime(thing.made_at):%-d %B %Y}"
        case "display":
            return f"{thing.name}, {thing.room.client}"
    return str(thing)


def _counted(count: int, words: str) -> list[str]:
    plural = f"{words}es" if words.endswith("s") else f"{words}s"
    return [f"{count} {words if count == 1 else plural}"] if count else []


def hanging(kind: str, thing: Any) -> list[str]:
    """Return what hangs on a thing and goes with it, each in a few words, and what follows from that."""
    known = KINDS[kind]
    said: list[str] = []
    for model, way in known.goes_too:
        said += _counted(model.objects.filter(**{way: thing}).count(), str(model._meta.verbose_name))
    if known.way:
        passes = Pass.objects.filter(**{way_to(known): thing.pk}, removed_at__isnull=True, readings__isnull=False)
        said += _counted(passes.distinct().count(), "pass")
        sheets = SettingsSheet.objects.filter(**{way_to(known): thing.pk}).count()
        said += _counted(sheets, "settings sheet")
    if kind in ("client", "visit"):
        way = "visit__client" if kind == "client" else "visit"
        open_links = Handover.objects.filter(**{way: thing}, withdrawn_at__isnull=True).count()
        said += [f"{w}, whose link no longer opens" for w in _counted(open_links, "handover")]
    if kind == "sheet" and thing.tuning.changes.filter(at__gte=thing.at).exists():
        said.append("what was turned since: how the display stands is then counted from the sheet before it")
    if kind == "pass" and (thing.complete or thing.named_at) and thing.purpose in ("found", "left"):
        said.append(f"it may be the proof of {thing.get_purpose_display()}: the one before it counts then")
    if kind == "correction":
        said += _counted(Tuning.objects.filter(correction=thing).count(), "tuning")
        said.append("passes that were looked at through it keep their figures")
    return said


def way_to(kind: Kind) -> str:
    """Return the look-up from what belongs to a tuning to a thing of this kind."""
    return "tuning" if kind.way == "pk" else f"tuning__{kind.way}"


def thing_of(kind: str, pk: int, firm_id: int, *, away: bool = False) -> Any:
    """Return a thing of a firm; raises DoesNotExist where it is not there, or not away."""
    return KINDS[kind].rows(firm_id, away=away).select_related(*BESIDE.get(kind, ())).get(pk=pk)


def _being_read(kind: str, thing: Any) -> Pass | None:
    known = KINDS[kind]
    if kind == "pass":
        return thing if thing.is_open else None
    if not known.way:
        return None
    return Pass.objects.filter(**{way_to(known): thing.pk}, finished_at__isnull=True).select_related("tuning").first()


def _told(kind: str, thing: Any) -> None:
    """Tell whoever looks at a tuning that it, or something of it, has gone or come back."""
    if kind in ("pass", "sheet"):
        notify(thing.tuning_id)
    elif KINDS[kind].way:
        for pk in Tuning.everything.filter(**{KINDS[kind].way: thing.pk}).values_list("pk", flat=True):
            notify(pk)


@needs(Right.PLAN, "put something away")
@transaction.atomic
def put_away(*, kind: str, pk: int, actor: User, now: datetime) -> str:
    """Put a thing away with what hangs on it, and return what it is called. Raises AwayError while a pass is being read there."""
    thing = thing_of(kind, pk, actor.firm_id)
    known = KINDS[kind]
    known.rows(actor.firm_id).select_for_update(of=("self",)).get(pk=pk)
    open_pass = _being_read(kind, thing)
    if open_pass is not None:
        raise AwayError(f"A pass is being read in {open_pass.tuning.name}. Stop it first; nothing was put away.")
    for model, way in known.goes_too:
        # By its key: rows of a query with joins cannot be updated.
        there = model.objects.filter(**{way: thing}).values_list("pk", flat=True)
        model.objects.filter(pk__in=list(there)).update(put_away_at=now)
    fields = {known.field: now}
    if kind == "pass":
        fields["named_at"] = None  # type: ignore[assignment]
    getattr(known.model, "everything", known.model.objects).filter(pk=pk).update(**fields)
    _told(kind, thing)
    return named(kind, thing)


@needs(Right.PLAN, "took something back")
@transaction.atomic
def take_back(*, kind: str, pk: int, actor: User) -> str:
    """Take a thing back, with all that went with it. Raises AwayError where its place is taken, or is itself away."""
    thing = thing_of(kind, pk, actor.firm_id, away=True)
    known = KINDS[kind]
    since = getattr(thing, known.field)
    _see_that_it_has_room(kind, thing, actor.firm_id)
    for model, way in known.goes_too:
        went = model.everything.filter(**{way: thing}, put_away_at=since).values_list("pk", flat=True)
        model.everything.filter(pk__in=list(went)).update(put_away_at=None)
    getattr(known.model, "everything", known.model.objects).filter(pk=pk).update(**{known.field: None})
    _told(kind, thing)
    return named(kind, thing)


def _see_that_it_has_room(kind: str, thing: Any, firm_id: int) -> None:
    if kind == "client" and Client.objects.of_firm(firm_id).filter(name=thing.name).exists():
        raise AwayError(f"There is another client called {thing.name} now. Give that one another name first.")
    above = {
        "visit": ("client",), "tuning": ("visit", "display"), "sheet": ("tuning",), "pass": ("tuning",), "display": ("room",),
    }  # fmt: skip
    for field in above.get(kind, ()):
        whole = getattr(thing, field)
        if whole.put_away_at is not None:
            raise AwayError(f"It belongs to {whole}, which is put away itself. Take that back first.")


@dataclass(frozen=True)
class Away:
    """One line of what is away."""

    kind: str
    words: str
    pk: int
    name: str
    since: datetime
    days_left: int


def away_of(firm_id: int, now: datetime) -> list[Away]:
    """Return what a firm has put away and can take back, the newest first; what went with something else is not told apart."""
    made: list[Away] = []
    for kind, known in KINDS.items():
        rows = known.rows(firm_id, away=True).filter(**{f"{known.field}__gte": now - KEPT_FOR})
        if kind == "tuning":
            rows = rows.exclude(put_away_at=models.F("visit__put_away_at")).exclude(put_away_at=models.F("display__put_away_at"))
        elif kind == "visit":
            rows = rows.exclude(put_away_at=models.F("client__put_away_at"))
        elif kind == "display":
            rows = rows.exclude(put_away_at=models.F("room__client__put_away_at"))
        for thing in rows.select_related(*BESIDE.get(kind, ())).order_by("-pk")[:60]:
            since = getattr(thing, known.field)
            left = max((since + KEPT_FOR - now).days, 0)
            made.append(Away(kind, known.words, thing.pk, named(kind, thing), since, left))
    return sorted(made, key=lambda one: one.since, reverse=True)


def sweep_away(now: datetime) -> int:
    """Delete for good what has been away for more than thirty days, each kind whole or not at all; return how many things went."""
    before, gone = now - KEPT_FOR, 0
    in_order = [*((KINDS[kind].model, KINDS[kind].field) for kind in GO_FIRST), (Room, "put_away_at")]
    for model, field in in_order:
        manager = getattr(model, "everything", model.objects)
        # Looked up without a transaction: mostly there is nothing, and no table is held for that.
        keys = list(manager.filter(**{f"{field}__lt": before}).values_list("pk", flat=True))
        if keys:
            with transaction.atomic():
                _delete(model, keys)
            gone += len(keys)
    return gone


def _delete(model: Any, keys: list[Any]) -> None:
    """Delete rows and all that points to them, from the leaves on: what protects others elsewhere goes with them here."""
    pointing = [f for f in model._meta.get_fields(include_hidden=True) if f.auto_created and not f.concrete]
    for relation in pointing:
        child, field = relation.related_model, relation.field
        rows = child._base_manager.filter(**{f"{field.name}__in": keys})
        if (child, field.name) in STAYS or (field.null and field.remote_field.on_delete is models.SET_NULL):
            rows.update(**{field.name: None})
            continue
        below = list(rows.values_list("pk", flat=True))
        if below:
            _delete(child, below)
    rows = model._base_manager.filter(pk__in=keys)
    above = [(parent, list(rows.values_list(link.attname, flat=True))) for parent, link in model._meta.parents.items()]
    rows._raw_delete(model._base_manager.db)
    for parent, pks in above:
        parent._base_manager.filter(pk__in=pks)._raw_delete(parent._base_manager.db)
