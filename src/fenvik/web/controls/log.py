"""Logging what was turned, and taking it back."""

import uuid
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import SettingError, typed_value, values_of
from fenvik.web.devices.leases import see_free
from fenvik.web.kit.notify import notify
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import WHOLE, Tuning


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


def locked(tuning_id: int, actor: User) -> Tuning:
    """Return a tuning of the person's firm, locked, with its menu."""
    return (
        Tuning.objects.of_firm(actor.firm_id)
        .select_for_update(of=WHOLE)
        .select_related("display__menu_map")
        .get(pk=tuning_id)
    )


def logged_of(tuning_id: int, actor: User) -> int:
    """Return how many changes are logged of a tuning of the person's firm, and lock it: none is added until the caller is done."""
    Tuning.objects.of_firm(actor.firm_id).select_for_update(of=WHOLE).only("pk").get(pk=tuning_id)
    return ControlChange.objects.filter(tuning_id=tuning_id).count()


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
    tuning = locked(tuning_id, actor)
    again = list(ControlChange.objects.filter(tuning=tuning, group=group))
    if again:
        return again
    see_free(tuning, by_hand=True)
    values = values_of(tuning)
    if len(values.changes) != seen:
        raise ChangedMeanwhileError
    basis_id = basis_of(tuning, basis_id)
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
                at=now, by=actor, reading_before_id=basis_id,
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
    tuning = locked(tuning_id, actor)
    see_free(tuning, by_hand=True)
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


def log_one(
    *, tuning: Tuning, actor: User, control: dict[str, Any], before: Any, after: Any, now: datetime, group: uuid.UUID,
    basis_id: int | None = None,
) -> ControlChange:  # fmt: skip
    """Log one control that was set just now, within the caller's transaction."""
    made = ControlChange.objects.create(
        tuning=tuning, group=group, control=control["id"], label=control["label"], before=before, after=after, at=now, by=actor,
        reading_before_id=basis_id,
    )  # fmt: skip
    notify(tuning.pk)
    return made


def basis_of(tuning: Tuning, basis_id: int | None) -> int | None:
    """Return the reading that a change was made on the strength of, where it is one of this tuning's."""
    if basis_id is None:
        return None
    readings: Any = ControlChange._meta.get_field("reading_before").related_model
    found: int | None = readings.objects.filter(pk=basis_id, pass_of__tuning=tuning).values_list("pk", flat=True).first()
    return found
