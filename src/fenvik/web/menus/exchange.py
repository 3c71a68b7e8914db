"""Settings sheets in and out of files, and the comparison of any two."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fenvik.core.errors import FenvikError
from fenvik.formats import sheet as files
from fenvik.web.menus.models import Moment, Origin, SettingsSheet
from fenvik.web.menus.services import OtherModelError, SheetError, note_found, read_values
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning


class EmptySheetError(FenvikError):
    """A file without a single setting."""

    code = "empty_sheet"


@dataclass(frozen=True)
class Difference:
    """One control that stands differently in two sheets, in the menu's own order; None where a sheet does not say."""

    id: str
    label: str
    group: str
    one: Any
    other: Any


def differences(controls: list[dict[str, Any]], one: dict[str, Any], other: dict[str, Any]) -> list[Difference]:
    """Return what differs between two sheets of one menu."""
    return [
        Difference(c["id"], c["label"], c["group"], one.get(c["id"]), other.get(c["id"]))
        for c in controls
        if one.get(c["id"]) != other.get(c["id"])
    ]


def facts_of(tuning: Tuning, moment: str, at: datetime | None) -> dict[str, Any]:
    """Return what a file says of where its sheet comes from."""
    return {
        "maker": tuning.display.maker, "model": tuning.display.model, "serial": tuning.display.serial,
        "mode": tuning.picture_mode, "signal": tuning.signal, "moment": moment, "at": "" if at is None else at.isoformat(),
    }  # fmt: skip


def import_sheet(
    *, tuning_id: int, actor: User, data: bytes, now: datetime, moment: str = Moment.NOTED
) -> tuple[SettingsSheet, list[str]]:
    """Take a sheet in from a file; return it and the labels of the file that this menu does not have.

    Raises SheetFileError for a file that is none, SheetError for values that a control does not take, OtherModelError
    where nothing fits: then nothing is stored.
    """
    rows = files.read(data)
    if not rows:
        raise EmptySheetError("The file has no settings in it. Nothing was stored.")
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("display__menu_map").get(pk=tuning_id)
    controls = tuning.display.menu_map.controls if tuning.display.menu_map else []
    by_id = {c["id"]: c for c in controls}
    by_role = {c["role"]: c for c in controls if c["role"]}
    typed: dict[str, str] = {}
    unknown = []
    for row in rows:
        control = by_id.get(row["control"])
        if control is None and row["role"]:
            control = by_role.get(row["role"])
        if control is None:
            unknown.append(row["label"] or row["control"])
        else:
            typed[control["id"]] = row["value"]
    if not typed:
        raise OtherModelError(
            f"The file is a sheet of another model: {tuning.display.name} has none of its {len(rows)} controls. Nothing was stored."
        )
    try:
        read_values(controls, typed)
    except SheetError as problem:
        raise SheetError({k: f"{v} The file says {typed[k][:20]}." for k, v in problem.problems.items()}) from problem
    sheet = note_found(tuning_id=tuning_id, actor=actor, typed=typed, now=now, origin=Origin.IMPORT, moment=moment)
    return sheet, unknown
