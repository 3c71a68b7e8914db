"""Which pass is the proof of what was found or left: the newest complete one, or the one that a person named."""

from collections.abc import Iterable
from datetime import datetime
from typing import Any

from django.db import transaction
from django.db.models import Count, Func, IntegerField, Max, OuterRef, QuerySet, Subquery
from django.db.models.functions import Coalesce

from fenvik.core.errors import FenvikError
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

PROVES = (PassPurpose.FOUND, PassPurpose.LEFT, PassPurpose.CHECK)


class NotAProofError(FenvikError):
    """A pass that cannot stand for what was found or left."""

    code = "not_a_proof"


def counted(passes: QuerySet[Any]) -> QuerySet[Any]:
    """Add to passes how many patches were read, of how many, and the newest reading; newest first."""
    # By sub-queries: joined with its readings, a pass would have its list of patches unpacked once for each of them.
    of_pass = Reading.objects.filter(pass_of=OuterRef("pk")).order_by().values("pass_of")
    told: QuerySet[Any] = passes.annotate(
        read=Coalesce(Subquery(of_pass.annotate(n=Count("index", distinct=True)).values("n")), 0),
        last_reading=Subquery(of_pass.annotate(n=Max("id")).values("n")),
        patch_count=Func("patches", function="jsonb_array_length", output_field=IntegerField()),
    ).order_by("-created_at", "-pk")
    return told


def proof(passes: Iterable[Any], purpose: str) -> Any:
    """Return the proof among passes that came through ``counted``, or None.

    A pass that was stopped, or is still being read, never takes the place of a complete one; a file only where it was named.
    """
    known = [p for p in passes if p.purpose == purpose and p.read and p.removed_at is None]
    named = [p for p in known if p.named_at is not None]
    if named:
        return max(named, key=lambda p: p.named_at)
    return next((p for p in known if p.complete and not p.is_file), None)


def unfinished(passes: Iterable[Any], purpose: str) -> Any:
    """Return the newest pass of a purpose that was begun after its proof and is not complete; None where there is none."""
    passes = list(passes)
    proven = proof(passes, purpose)
    newest = next((p for p in passes if p.purpose == purpose and p.read and p.removed_at is None and not p.is_file), None)
    if newest is None or newest.complete or (proven is not None and newest.created_at <= proven.created_at):
        return None
    return newest


def proof_of(tuning: Tuning, purpose: str) -> Any:
    """Return the proof of a tuning as the database has it now."""
    return proof(counted(tuning.passes.filter(purpose=purpose).select_related("correction")), purpose)


def short_of(pass_: Any) -> str:
    """Return what a pass lacks, in words; empty for a complete one."""
    return "" if pass_.complete else f"{pass_.read} of {pass_.patch_count} patches were read"


def _kept(pass_id: int, actor: User) -> Pass:
    found: Pass = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    return found


@needs(Right.MEASURE, "named a pass as proof")
@transaction.atomic
def name_proof(*, pass_id: int, actor: User, now: datetime, named: bool = True) -> Pass:
    """Let a pass stand for its purpose, whatever is newer, or let it no longer do so. Raises NotAProofError."""
    pass_ = _kept(pass_id, actor)
    if pass_.purpose not in PROVES or pass_.is_open or pass_.removed_at is not None or not pass_.readings.exists():
        raise NotAProofError("Only a pass of what was found or left that has ended can be the proof.")
    Pass.objects.filter(tuning=pass_.tuning, purpose=pass_.purpose, named_at__isnull=False).update(named_at=None)
    pass_.named_at = now if named else None
    pass_.save(update_fields=["named_at"])
    notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


@needs(Right.MEASURE, "named a pass")
@transaction.atomic
def call_pass(*, pass_id: int, actor: User, name: str) -> Pass:
    """Let a pass be called something; an empty name is none."""
    pass_ = _kept(pass_id, actor)
    pass_.name = name.strip()[:60]
    pass_.save(update_fields=["name"])
    notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


@needs(Right.MEASURE, "put readings of a file away")
@transaction.atomic
def remove_file(*, pass_id: int, actor: User, now: datetime) -> Pass:
    """Put away readings that were taken up from a file; doing so twice changes nothing. Raises NotAProofError."""
    pass_ = _kept(pass_id, actor)
    if not pass_.is_file:
        raise NotAProofError("Readings of a meter are never removed; only a file that was taken up can be.")
    if pass_.removed_at is None:
        pass_.removed_at, pass_.named_at = now, None
        pass_.save(update_fields=["removed_at", "named_at"])
        notify(pass_.tuning_id, pass_id=pass_id)
    return pass_
