"""Lists of changes to be entered on a display: made from a proposal, entered by hand or over the link, or given up."""

import uuid
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.core.controls import CHANNELS
from fenvik.core.errors import FenvikError
from fenvik.core.signal.patches import grey
from fenvik.web.adjusting.models import ChangeList, ListKind
from fenvik.web.adjusting.points import points_of
from fenvik.web.controls.log import ChangedMeanwhileError, NothingToUndoError
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.setting import set_controls
from fenvik.web.controls.values import NoModeError, SettingError, Values, typed_value, values_of
from fenvik.web.devices.displays import paired
from fenvik.web.devices.leases import hold
from fenvik.web.devices.standing import see
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.recent import recent_readings
from fenvik.web.passes.services import resume, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import WHOLE, Tuning

MOST_TOLD = 3  # refusals in one sentence
A_FEW = 6  # controls that are set over the link between two entries of the log


class RefusedRowsError(FenvikError):
    """Some of a list cannot be set over the link; what can is set."""

    code = "refused_rows"

    def __init__(self, refused: list[str], made: int) -> None:
        more = f" and {len(refused) - MOST_TOLD} more" if len(refused) > MOST_TOLD else ""
        rest = "1 other control was set" if made == 1 else f"{made} other controls were set"
        super().__init__(f"The display refuses {', '.join(refused[:MOST_TOLD])}{more}. It is still on the list; {rest}.")


class NothingToEnterError(FenvikError):
    """There is no change that would bring anything."""

    code = "nothing_to_enter"


def open_list(tuning_id: int) -> ChangeList | None:
    """Return the list that is being entered."""
    return ChangeList.objects.filter(tuning_id=tuning_id, closed_at__isnull=True).first()


def was_listed(tuning_id: int) -> bool:
    """Return whether any list of points was made."""
    return ChangeList.objects.filter(tuning_id=tuning_id, kind=ListKind.POINTS).exists()


def left_of(listed: ChangeList, values: Values) -> list[dict[str, Any]]:
    """Return the rows that are still to be entered."""
    return [row for row in listed.rows if values.now.get(row["control"]) != row["after"]]


def row_of(control: Mapping[str, Any], before: Any, after: Any) -> dict[str, Any]:
    """Return the row of a control that is to be turned: points are entered level by level, colours one after the other."""
    word = str(control.get("role") or "").split(".")
    group = str(control.get("group") or "")
    if len(word) > 3 and word[1] == "at":
        group = f"{'.'.join(word[2:-1])} %"
    elif len(word) > 2 and word[0] == "colour":
        group = word[1].capitalize()
    return {
        "control": control["id"], "label": control["label"], "before": before, "after": after, "group": group,
        "channel": CHANNELS.get(word[-1]),
    }  # fmt: skip


def rows_to(values: Values, wanted: dict[str, Any]) -> list[dict[str, Any]]:
    """Return the rows of a list that lets the display stand as wanted; what was turned last is turned back first."""
    turned = {change.control: i for i, change in enumerate(values.changes)}
    rows = [
        row_of(c, values.now.get(c["id"]), wanted[c["id"]])
        for c in values.controls
        if c["id"] in wanted and values.now.get(c["id"]) != wanted[c["id"]]
    ]
    return sorted(rows, key=lambda row: -turned.get(row["control"], -1))


def _tuning(tuning_id: int, actor: User) -> Tuning:
    return (
        Tuning.objects.of_firm(actor.firm_id)
        .select_for_update(of=WHOLE)
        .select_related("display__menu_map", "display__room__client", "display__link")
        .get(pk=tuning_id)
    )


@needs(Right.MEASURE)
def read_points(*, tuning_id: int, actor: User, now: datetime) -> Pass:
    """Read the levels of the points. Raises what ``start_pass`` raises."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("display__menu_map").get(pk=tuning_id)
    points = points_of(tuning, values_of(tuning), recent_readings(tuning))
    return start_pass(
        tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.ADJUST,
        patches=[grey(level, tuning.bits, tuning.range) for level in points.levels],
    )  # fmt: skip


@needs(Right.MEASURE)
@transaction.atomic
def list_points(*, tuning_id: int, actor: User, now: datetime, goal: float = 0.0) -> ChangeList:
    """Keep what the points propose as a list; a list that is open stays as it is. Raises NothingToEnterError.

    ``goal``: an error that is good enough; 0 is as good as it gets.
    """
    tuning = _tuning(tuning_id, actor)
    open_now = open_list(tuning_id)
    if open_now is not None:
        return open_now
    values = values_of(tuning)
    points = points_of(tuning, values, recent_readings(tuning), goal)
    rows = points.rows(values)
    if not rows or points.plan is None or not points.proposes(tuning.target.tolerance, goal):
        raise NothingToEnterError("Nothing is left to change: no step of any point brings more than can be told.")
    (mean, worst), (mean_then, worst_then) = points.plan.told(points.plan.now), points.plan.told(points.plan.then)
    expected = {"now": mean, "then": mean_then, "worst_now": worst, "worst_then": worst_then}
    made = ChangeList.objects.create(
        tuning=tuning, kind=ListKind.POINTS, rows=rows, expected=expected, at=now, by=actor
    )
    notify(tuning_id)
    return made


@needs(Right.MEASURE)
@transaction.atomic
def list_back(*, tuning_id: int, actor: User, now: datetime) -> ChangeList:
    """Make a list that puts every control back to as found; it takes the place of any other. Raises NothingToUndoError."""
    tuning = _tuning(tuning_id, actor)
    rows = [row_of(row, row["now"], row["found"]) for row in values_of(tuning).rows if row["changed"]]
    if not rows:
        raise NothingToUndoError
    return begin_back(tuning_id=tuning_id, actor=actor, rows=rows, now=now)


@needs(Right.MEASURE, "began to put controls back")
@transaction.atomic
def begin_back(*, tuning_id: int, actor: User, rows: list[dict[str, Any]], now: datetime) -> ChangeList:
    """Begin a list that puts controls back; it takes the place of any other."""
    tuning = _tuning(tuning_id, actor)
    ChangeList.objects.filter(tuning=tuning, closed_at__isnull=True).update(closed_at=now)
    made = ChangeList.objects.create(tuning=tuning, kind=ListKind.BACK, rows=rows, at=now, by=actor)
    notify(tuning_id)
    return made


@needs(Right.MEASURE, "ended a list of settings")
@transaction.atomic
def close(*, tuning_id: int, actor: User, list_id: int, now: datetime) -> None:
    """Give a list up, or end it; what was entered stays logged. Doing so twice changes nothing."""
    tuning = _tuning(tuning_id, actor)
    listed = ChangeList.objects.filter(tuning=tuning, pk=list_id, closed_at__isnull=True).first()
    if listed is not None:
        _end(listed, actor, now)
    notify(tuning_id)


def _end(listed: ChangeList, actor: User, now: datetime) -> None:
    """Close a list; a run that leads the hand and waits for it goes on."""
    listed.closed_at = now
    listed.save(update_fields=["closed_at"])
    if listed.of_pass is not None and listed.of_pass.is_open:
        resume(pass_id=listed.of_pass.pk, actor=actor)


@needs(Right.MEASURE)
@transaction.atomic
def enter(
    *, tuning_id: int, actor: User, list_id: int, controls: Sequence[str], now: datetime, group: uuid.UUID
) -> list[ControlChange]:
    """Log that rows of a list were entered on the display; entered twice they count once. The last one closes the list.

    Raises ChangedMeanwhileError where the list is closed already.
    """
    tuning = _tuning(tuning_id, actor)
    again = list(ControlChange.objects.filter(tuning=tuning, group=group))
    if again:
        return again
    listed = ChangeList.objects.filter(tuning=tuning, pk=list_id).first()
    if listed is None or listed.closed_at is not None:
        raise ChangedMeanwhileError
    values, wanted = values_of(tuning), set(controls)
    newest = recent_readings(tuning)[-1:]
    made = ControlChange.objects.bulk_create(
        ControlChange(
            tuning=tuning, group=group, control=row["control"], label=row["label"],
            before=values.now.get(row["control"]), after=row["after"], at=now, by=actor,
            reading_before=newest[0] if newest else None, of_pass=listed.of_pass,
        )
        for row in left_of(listed, values)
        if row["control"] in wanted
    )  # fmt: skip
    if not left_of(listed, values_of(tuning)):
        _end(listed, actor, now)
    notify(tuning_id)
    return made


def _linked(tuning_id: int, actor: User) -> Tuning:
    """Return a tuning whose display's own name of the mode is known. Raises NoModeError."""
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("display__menu_map", "display__room__client", "display__link__pairing")
        .get(pk=tuning_id)
    )
    if not tuning.mode_id:
        raise NoModeError("Read the menu from the display first, so that its own name of this mode is known.")
    return tuning


@needs(Right.MEASURE, "set a list over the link")
def enter_over_link(*, tuning_id: int, actor: User, list_id: int, now: datetime, group: uuid.UUID) -> int:
    """Set what is left of a list over the display's link, each logged as it is set. Return how many controls that were.

    What the display refuses for good stays on the list, and all else is set: RefusedRowsError then. Raises what ``paired``,
    ``hold`` and ``set_controls`` raise; what was set before that stays logged and off the list.
    """
    tuning = _linked(tuning_id, actor)
    listed = ChangeList.objects.filter(tuning=tuning, pk=list_id, closed_at__isnull=True).first()
    if listed is None:
        raise ChangedMeanwhileError
    try:
        with hold(tuning, actor) as held, paired(tuning.display) as line:
            see(tuning, line)
            values = values_of(tuning)
            wanted = [(control, row["after"]) for row in left_of(listed, values) if (control := values.control(row["control"]))]
            refused: list[str] = []
            made = set_controls(
                tuning=tuning, actor=actor, line=line, held=held, wanted=wanted, seen=len(values.changes), now=now, group=group,
                refused=refused,
            )  # fmt: skip
        if refused:
            raise RefusedRowsError(refused, len(made))
        return len(made)
    finally:
        _close_what_is_in(tuning_id, actor, list_id, now)  # once nobody holds the display any more: what is left is told by then


@transaction.atomic
def _close_what_is_in(tuning_id: int, actor: User, list_id: int, now: datetime) -> None:
    """Close a list of which nothing is left."""
    tuning = _tuning(tuning_id, actor)
    listed = ChangeList.objects.filter(tuning=tuning, pk=list_id, closed_at__isnull=True).first()
    if listed is not None and not left_of(listed, values_of(tuning)):
        _end(listed, actor, now)
    notify(tuning_id)


@needs(Right.MEASURE, "set controls over the link")
def set_over_link(
    *, tuning_id: int, actor: User, typed: Mapping[str, str], seen: int, now: datetime, group: uuid.UUID,
    basis_id: int | None = None,
) -> list[ControlChange]:  # fmt: skip
    """Set typed values over the display's link, each logged as it is set; return the changes. Sent twice it is done once.

    ``seen``: how many changes the person's page knew of. Raises SettingError for a value that a control does not have, NoModeError,
    and what ``paired``, ``hold`` and ``set_controls`` raise.
    """
    tuning = _linked(tuning_id, actor)
    again = list(ControlChange.objects.filter(tuning=tuning, group=group))
    if again:
        return again
    values = values_of(tuning)
    wanted = []
    for control_id, text in typed.items():
        control = values.control(control_id)
        if control is None:
            raise SettingError("This menu has no such control.", control_id)
        wanted.append((control, typed_value(control, text)))
    if len(values.changes) != seen:
        raise ChangedMeanwhileError
    with hold(tuning, actor) as held, paired(tuning.display) as line:
        see(tuning, line)
        return set_controls(
            tuning=tuning, actor=actor, line=line, held=held, wanted=wanted, seen=seen, now=now, group=group, basis_id=basis_id
        )
