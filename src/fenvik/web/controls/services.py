"""Noting settings sheets, copying them, and logging what was turned."""

import uuid
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import transaction
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.core.labels import told_apart
from fenvik.web.controls.models import ControlChange, Moment, Origin, SettingsSheet
from fenvik.web.controls.values import SettingError, Values, shown, typed_value
from fenvik.web.kit.notify import notify
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import WHOLE, Tuning


class SheetError(SettingError):
    """Several typed values were wrong: nothing was stored, and each has its sentence."""

    code = "sheet"

    def __init__(self, problems: dict[str, str]) -> None:
        super().__init__(next(iter(problems.values())), next(iter(problems)))
        self.problems = problems


class SheetMovedError(FenvikError):
    """Somebody else noted a sheet while this one was being typed: nothing was stored, both are there to be looked at."""

    code = "sheet_moved"

    def __init__(self, other: SettingsSheet, different: list[str]) -> None:
        who = "Somebody" if other.by is None else (other.by.first_name or other.by.username)
        count = len(different)
        which = (
            f" {count} value{'s' if count > 1 else ''} differ{'' if count > 1 else 's'}: {', '.join(different[:4])}."
            if count
            else ""
        )
        super().__init__(
            f"{who} noted these settings at {timezone.localtime(other.at):%H:%M} while you typed.{which} Yours are still here "
            "and not stored: look at them once more, then note them again if they are the right ones."
        )
        self.other = other


class OtherModelError(FenvikError):
    """A sheet of a menu that has none of these controls."""

    code = "other_model"


def read_values(controls: list[dict[str, Any]], typed: Mapping[str, str]) -> dict[str, Any]:
    """Return typed values by control id; empty fields are left out. Raises SheetError with a sentence for each wrong one."""
    values: dict[str, Any] = {}
    problems: dict[str, str] = {}
    for control in controls:
        text = typed.get(control["id"], "")
        if not text.strip():
            continue
        try:
            values[control["id"]] = typed_value(control, text)
        except SettingError as problem:
            problems[control["id"]] = str(problem)
    if problems:
        raise SheetError(problems)
    return values


def newest_sheet(tuning: Tuning, moment: str = Moment.FOUND) -> SettingsSheet | None:
    """Return the newest sheet of a moment."""
    return (
        SettingsSheet.objects.filter(tuning=tuning, moment=moment).select_related("by").order_by("-at", "-id").first()
    )


@needs(Right.MEASURE, "noted settings as found")
@transaction.atomic
def note_found(
    *,
    tuning_id: int,
    actor: User,
    typed: Mapping[str, str],
    now: datetime,
    seen: int | None = None,
    origin: str = Origin.TYPED,
    moment: str = Moment.FOUND,
    note: str = "",
) -> SettingsSheet:
    """Note settings typed by control id; a later sheet replaces none, the newest counts.

    ``seen``: the newest sheet that the person knew of, 0 for none; None does not ask. Empty fields are left out. Raises
    SheetError where a value is wrong and SheetMovedError where somebody else was quicker; then nothing is stored.
    """
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_for_update(of=WHOLE)
        .select_related("display__menu_map")
        .get(pk=tuning_id)
    )
    controls = tuning.display.menu_map.controls if tuning.display.menu_map else []
    values = read_values(controls, typed)
    newest = newest_sheet(tuning, moment)
    if seen is not None and newest is not None and newest.pk != seen:
        if newest.values == values:
            return newest  # the same thing sent twice, or by two people: it is noted
        labels = [c["label"] for c in told_apart(controls) if newest.values.get(c["id"]) != values.get(c["id"])]
        raise SheetMovedError(newest, labels)
    sheet = SettingsSheet.objects.create(
        tuning=tuning, moment=moment, values=values, origin=origin, note=note[:120], at=now, by=actor
    )
    notify(tuning.pk)
    return sheet


@needs(Right.MEASURE, "named a settings sheet")
@transaction.atomic
def call_sheet(*, sheet_id: int, actor: User, name: str) -> SettingsSheet:
    """Let a settings sheet be called something; an empty name is none."""
    sheet: SettingsSheet = SettingsSheet.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=sheet_id)
    sheet.note = name.strip()[:120]
    sheet.save(update_fields=["note"])
    notify(sheet.tuning_id)
    return sheet


def record_changes(
    tuning: Tuning, known: Values, values: Mapping[str, Any], *, actor: User | None, now: datetime, **more: Any
) -> list[ControlChange]:
    """Log controls that now stand at other values than known, as one group. The caller holds the tuning's lock.

    ``more``: what else is kept with each change.
    """
    group = uuid.uuid4()
    made = []
    for control in known.controls:
        name = control["id"]
        if name in values and known.now.get(name) != values[name]:
            made.append(
                ControlChange(
                    tuning=tuning, group=group, control=name, label=control["label"], before=known.now.get(name),
                    after=values[name], at=now, by=actor, **more,
                )
            )  # fmt: skip
    return ControlChange.objects.bulk_create(made)


@needs(Right.MEASURE, "copied settings")
@transaction.atomic
def copy_sheet(*, sheet_id: int, to_tuning_id: int, actor: User, now: datetime) -> tuple[SettingsSheet, list[str]]:
    """Copy a sheet to another tuning as noted there; only controls that its menu has, with the same range.

    Return the sheet and the labels of what could not be carried over.

    Raises OtherModelError where the menus have nothing in common.
    """
    sheet = SettingsSheet.objects.of_firm(actor.firm_id).select_related("tuning__display__menu_map").get(pk=sheet_id)
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_for_update(of=WHOLE)
        .select_related("display__menu_map")
        .get(pk=to_tuning_id)
    )
    values, left_out = fitting(tuning, sheet.tuning.display.menu_map, sheet.values)
    made = SettingsSheet.objects.create(
        tuning=tuning,
        moment=Moment.NOTED,
        values=values,
        origin=Origin.COPY,
        note=f"from {sheet.tuning.name}"[:120],
        at=now,
        by=actor,
    )
    notify(tuning.pk)
    return made, left_out


def fitting(tuning: Tuning, source_map: Any, values: Mapping[str, Any]) -> tuple[dict[str, Any], list[str]]:
    """Return the values that a tuning's menu takes, by control, or by role between two menus, and the labels of what it does not.

    A number is never carried into another range: there it would be another setting. Raises OtherModelError where nothing fits.
    """
    menu = tuning.display.menu_map
    controls = menu.controls if menu else []
    same = source_map is None or (menu is not None and source_map.pk == menu.pk)
    roles = {} if same else {c["role"]: c["id"] for c in source_map.controls if c["role"]}
    theirs = {} if same else {c["id"]: c for c in source_map.controls}
    made: dict[str, Any] = {}
    carried: set[str] = set()
    for control in controls:
        name = control["id"] if same or control["id"] in values else roles.get(control["role"] or "")
        if name is None or name not in values:
            continue
        if control["kind"] == "range" and name in theirs and range_of(theirs[name]) != range_of(control):
            continue
        try:
            made[control["id"]] = typed_value(control, shown(values[name]))
        except SettingError:
            continue
        carried.add(name)
    if not made:
        raise OtherModelError(f"Nothing of this sheet fits the menu of {tuning.display.name}; nothing was stored.")
    labels = {c["id"]: c["label"] for c in told_apart(source_map.controls if source_map is not None else controls)}
    return made, [labels.get(name, name) for name in values if name not in carried]


def range_of(control: Mapping[str, Any]) -> tuple[Any, ...]:
    """Return what makes a number of a control the same setting elsewhere."""
    return tuple(control.get(key) for key in ("min", "max", "step"))
