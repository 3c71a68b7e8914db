"""What is done to a pass afterwards: a patch read again, the rest of a list, another patch, its drift."""

from typing import Any

from django.db import IntegrityError, transaction

from fenvik.core.signal.patches import Patch
from fenvik.web.devices.leases import HeldError, take_for_pass
from fenvik.web.kit.notify import notify
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PICTURES, Pass, PassState, PatchMark
from fenvik.web.passes.refusals import NothingToReadError, PassOpenError
from fenvik.web.passes.sending import planned, read_already
from fenvik.web.passes.services import BESIDE_A_PERSON, defer, open_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs


def _open_again(pass_: Pass) -> None:
    """Let a pass that has ended go on, where its instruments are free. Raises PassOpenError."""
    pass_.state, pass_.reason, pass_.finished_at, pass_.run_token = PassState.QUEUED, "", None, None
    pass_.pause_asked_at = pass_.stop_asked_at = None
    pass_.complete = False
    devices = [device for device in (pass_.meter, pass_.source, pass_.reference) if device is not None]
    try:
        with transaction.atomic():
            pass_.save()
            take_for_pass(pass_, pass_.tuning, devices, alone=pass_.purpose not in BESIDE_A_PERSON)
    except HeldError as held:
        if held.pass_ is None:
            raise
        raise PassOpenError(held.pass_) from held
    except IntegrityError as error:
        holding = Pass.objects.filter(tuning=pass_.tuning, finished_at__isnull=True).select_related("tuning").first()
        raise PassOpenError(holding) from error
    defer(pass_.pk)
    notify(pass_.tuning_id, pass_id=pass_.pk)


def _kept(pass_id: int, actor: User) -> Pass:
    return (
        Pass.objects.of_firm(actor.firm_id)
        .select_for_update(of=("self",))
        .select_related("tuning__visit", "tuning__meter", "tuning__source")
        .get(pk=pass_id)
    )


@needs(Right.MEASURE, "read a patch again")
@transaction.atomic
def read_again(*, pass_id: int, actor: User, index: int) -> Pass:
    """Read one patch of a pass once more; the reading before stays on record and no longer counts. Raises PassOpenError."""
    pass_ = _kept(pass_id, actor)
    if pass_.is_open and pass_.state != PassState.PAUSED:
        raise PassOpenError(pass_)
    newest = pass_.readings.order_by("-id").first()
    if not 0 <= index < len(pass_.patches) or newest is None or pass_.repeat or pass_.is_file:
        raise NothingToReadError
    PatchMark.objects.update_or_create(pass_of=pass_, index=index, defaults={"again_after": newest.pk})
    if not pass_.is_open:
        _open_again(pass_)
    return pass_


@needs(Right.MEASURE, "let a pass read its rest")
@transaction.atomic
def read_rest(*, pass_id: int, actor: User) -> Pass:
    """Let a pass that was stopped read what is left of its list. Raises NothingToReadError, PassOpenError."""
    pass_ = _kept(pass_id, actor)
    if pass_.is_open:
        raise PassOpenError(pass_)
    if pass_.repeat or pass_.is_file or pass_.purpose not in PICTURES or len(read_already(pass_)) >= len(pass_.patches):
        raise NothingToReadError("This pass has read all of its list.")
    _open_again(pass_)
    return pass_


@needs(Right.MEASURE, "extended a pass")
@transaction.atomic
def extend(*, pass_id: int, actor: User) -> int:
    """Let a pass read what the tuning's lists have beyond it; return how many patches that adds. Raises NothingToReadError."""
    pass_ = _kept(pass_id, actor)
    if pass_.repeat or pass_.is_file or pass_.purpose not in PICTURES:
        raise NothingToReadError

    def look(row: dict[str, Any]) -> str:
        return repr((list(row["rgb"]), row.get("part", "main"), row.get("window"), row.get("chart"), row.get("place")))

    have = {look(row) for row in pass_.patches}
    more = [row for shown in planned(pass_.tuning) if shown.part != "drift" and look(row := shown.as_row()) not in have]
    if not more:
        raise NothingToReadError("This pass has read everything that the lists ask for: choose more of them first.")
    if pass_.is_open and pass_.state != PassState.PAUSED:
        raise PassOpenError(pass_)
    pass_.patches = [*pass_.patches, *more]
    if pass_.is_open:
        pass_.save(update_fields=["patches"])
    else:
        _open_again(pass_)
    return len(more)


@needs(Right.MEASURE)
@transaction.atomic
def change_patch(*, pass_id: int, actor: User, patch: Patch) -> None:
    """Let a repeating pass go on with another patch. Raises PassFinishedError."""
    pass_ = open_pass(pass_id, actor)
    pass_.patches = [patch.as_json()]
    pass_.save(update_fields=["patches"])
    notify(pass_.tuning_id, pass_id=pass_id)


@needs(Right.MEASURE)
@transaction.atomic
def keep_drift(*, pass_id: int, actor: User, kept: bool) -> None:
    """Take what whites say of drift out of a pass, or leave it in; its figures are told anew."""
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    pass_.drift_kept = kept
    pass_.save(update_fields=["drift_kept"])
    kinds.ended(pass_id)
    notify(pass_.tuning_id, pass_id=pass_id)
