"""Logging what was turned, undoing it, and reading again."""

import uuid
from collections.abc import Mapping
from datetime import datetime

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.core.patches import grey
from fenvik.web.adjusting.ends import ends_of, highest, working
from fenvik.web.adjusting.models import ControlChange
from fenvik.web.kit.notify import notify
from fenvik.web.menus.values import SettingError, typed_value, values_of
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.services import ask_to_stop, change_patch, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning


class NothingToUndoError(FenvikError):
    """No change is left that could be undone."""

    code = "nothing_to_undo"

    def __init__(self) -> None:
        super().__init__("There is nothing to undo: every control stands as it was found.")


class ChangedMeanwhileError(FenvikError):
    """The controls were changed by somebody else after the page was made."""

    code = "changed_meanwhile"

    def __init__(self) -> None:
        super().__init__(
            "Somebody logged another change in the meantime, so this one was not stored. "
            "Look at the values as they stand now and say again what you turned."
        )


def _tuning(tuning_id: int, actor: User) -> Tuning:
    return (
        Tuning.objects.of_firm(actor.firm_id)
        .select_for_update(of=("self",))
        .select_related("display__menu_map")
        .get(pk=tuning_id)
    )


@needs(Right.MEASURE, "logged what was turned")
@transaction.atomic
def log_changes(
    *,
    tuning_id: int,
    actor: User,
    typed: Mapping[str, str],
    seen: int,
    now: datetime,
    group: uuid.UUID,
    basis_id: int | None = None,
) -> list[ControlChange]:
    """Log what was turned, by control id as typed; values that stay as they were are left out.

    ``seen``: how many changes the person's page knew of; ``group`` makes a second sending harmless.
    Raises SettingError for a value that a control does not have, ChangedMeanwhileError when the page is out of date.
    """
    tuning = _tuning(tuning_id, actor)
    again = list(ControlChange.objects.filter(tuning=tuning, group=group))
    if again:
        return again
    values = values_of(tuning)
    if len(values.changes) != seen:
        raise ChangedMeanwhileError
    basis = (
        Reading.objects.of_firm(actor.firm_id).filter(pk=basis_id, pass_of__tuning=tuning).first() if basis_id else None
    )
    rows = []
    for control_id, text in typed.items():
        control = values.control(control_id)
        if control is None:
            raise SettingError("This menu has no such control.", control_id)
        before, after = values.now.get(control_id), typed_value(control, text)
        if before == after:
            continue
        rows.append(
            ControlChange(
                tuning=tuning, group=group, control=control_id, label=control["label"], before=before, after=after,
                at=now, by=actor, reading_before=basis,
            )
        )  # fmt: skip
    made = ControlChange.objects.bulk_create(rows)
    notify(tuning.pk)
    return made


def last_to_undo(changes: list[ControlChange]) -> list[ControlChange]:
    """Return the newest group that is neither an undoing nor undone."""
    undone = {change.undoes_id for change in changes if change.undoes_id}
    for change in reversed(changes):
        if change.undoes_id is None and change.pk not in undone and change.before is not None:
            return [c for c in changes if c.group == change.group and c.pk not in undone]
    return []


def is_newest(changes: list[ControlChange], change: ControlChange) -> bool:
    """Whether a change is the last one of its control, so that turning it back brings what was before it."""
    return next(c for c in reversed(changes) if c.control == change.control).pk == change.pk


@needs(Right.MEASURE, "took a change back")
@transaction.atomic
def undo(
    *, tuning_id: int, actor: User, group: uuid.UUID, now: datetime, one: int | None = None
) -> list[ControlChange]:
    """Log that a group of changes, or ``one`` of it, was turned back; doing so twice changes nothing. Raises NothingToUndoError."""
    tuning = _tuning(tuning_id, actor)
    changes = list(ControlChange.objects.filter(tuning=tuning).order_by("id"))
    wanted = [
        c for c in changes
        if c.group == group and c.undoes_id is None and c.before is not None and (one is None or c.pk == one)
    ]  # fmt: skip
    undone = {change.undoes_id for change in changes if change.undoes_id}
    if not wanted:
        raise NothingToUndoError
    if all(change.pk in undone for change in wanted):
        return []
    latest = {change.control: change for change in changes}
    if any(latest[change.control].pk != change.pk for change in wanted):
        raise ChangedMeanwhileError
    new_group = uuid.uuid4()
    made = ControlChange.objects.bulk_create(
        ControlChange(
            tuning=tuning, group=new_group, control=c.control, label=c.label, before=c.after, after=c.before, at=now,
            by=actor, undoes=c,
        )
        for c in wanted
    )  # fmt: skip
    notify(tuning.pk)
    return made


def _open_adjusting(tuning: Tuning) -> Pass | None:
    return tuning.passes.filter(finished_at__isnull=True, purpose=PassPurpose.ADJUST).first()


@needs(Right.MEASURE)
def read_level(*, tuning_id: int, actor: User, now: datetime, keep_reading: bool = False) -> Pass:
    """Read the level that is worked on, once or until stopped. Raises what ``start_pass`` raises.

    While it is read continuously already, nothing new is started.
    """
    tuning = Tuning.objects.of_firm(actor.firm_id).get(pk=tuning_id)
    running = _open_adjusting(tuning)
    if running is not None and running.repeat:
        return running
    percent = working(tuning)
    return start_pass(
        tuning_id=tuning_id,
        actor=actor,
        now=now,
        purpose=PassPurpose.ADJUST,
        patches=[grey(percent, tuning.bits, tuning.range)],
        repeat=keep_reading,
    )


@needs(Right.MEASURE)
def stop_reading(*, tuning_id: int, actor: User, now: datetime) -> None:
    """Stop reading continuously; harmless when nothing is read."""
    tuning = Tuning.objects.of_firm(actor.firm_id).get(pk=tuning_id)
    running = _open_adjusting(tuning)
    if running is not None:
        ask_to_stop(pass_id=running.pk, actor=actor, now=now)


@needs(Right.MEASURE)
@transaction.atomic
def work_at(*, tuning_id: int, actor: User, end: str, level: float | None = None) -> Tuning:
    """Work at the high or the low end, at a level in percent; a running reading follows. Raises SettingError."""
    tuning = _tuning(tuning_id, actor)
    if end not in ("high", "low"):
        raise SettingError("The white balance has a high and a low end.", "end")
    top = highest(tuning)
    if level is not None and level > top:
        raise SettingError(
            f"Above {top:.0f} % this display no longer follows the signal: nothing there tells what a gain does. Work below it.",
            "level",
        )
    if level is not None:
        both = ends_of(tuning)
        high, low = (level, both[1]) if end == "high" else (both[0], level)
        if not 1 <= low < high <= 100:
            raise SettingError(
                f"The high level must lie above the low one, both from 1 to 100 %: {high:g} and {low:g} do not.",
                "level",
            )
        tuning.high_level, tuning.low_level = high, low
    tuning.working_end = end
    tuning.save(update_fields=["working_end", "high_level", "low_level"])
    running = _open_adjusting(tuning)
    if running is not None and running.repeat:
        percent = working(tuning)
        change_patch(pass_id=running.pk, actor=actor, patch=grey(percent, tuning.bits, tuning.range))
    notify(tuning.pk)
    return tuning
