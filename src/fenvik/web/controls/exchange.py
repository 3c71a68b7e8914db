"""Settings sheets in and out of files, and the comparison of any two."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fenvik.core.errors import FenvikError
from fenvik.formats import sheet as files
from fenvik.web.controls.models import Moment, Origin, SettingsSheet
from fenvik.web.controls.services import OtherModelError, note_found
from fenvik.web.controls.values import SettingError, typed_value
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.aimed import SIGNALS
from fenvik.web.visits.models import Tuning

ON_PURPOSE = "Nothing was stored. Take it by role, if that is what you want."


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


@dataclass(frozen=True)
class Brought:
    """A sheet that was taken in, and the labels of what could not be: the menu has no such control, or another range."""

    sheet: SettingsSheet
    unknown: list[str]
    other_range: list[str]


def _see_where_from(facts: dict[str, str], tuning: Tuning) -> None:
    """Raise OtherModelError where a file says that it is of another model or signal."""
    display = tuning.display
    for key, mine in (("maker", display.maker), ("model", display.model)):
        if facts.get(key) and mine and facts[key].strip().lower() != mine.strip().lower():
            named = f"{facts.get('maker', '')} {facts.get('model', '')}".strip()[:80]
            raise OtherModelError(f"The file is a sheet of {named}, and this is {display.name}. {ON_PURPOSE}")
    if facts.get("signal") and facts["signal"] != tuning.signal:
        theirs = SIGNALS.get(facts["signal"], facts["signal"][:20])
        mine = tuning.get_signal_display()
        raise OtherModelError(f"The file is a sheet for {theirs}, and this tuning is for {mine}. {ON_PURPOSE}")


@needs(Right.MEASURE, "took up a settings sheet")
def import_sheet(
    *, tuning_id: int, actor: User, data: bytes, now: datetime, moment: str = Moment.NOTED, by_role: bool = False
) -> Brought:
    """Take a sheet in from a file.

    A sheet of another model or signal is taken only ``by_role``, on purpose: then what has the same role and the same range. Raises
    SheetFileError, with line and column, for a file that is none or a value that a control does not take, OtherModelError for a
    sheet of another model, signal, or of which nothing fits: then nothing is stored.
    """
    file = files.read(data)
    if not file.rows:
        raise EmptySheetError("The file has no settings in it. Nothing was stored.")
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("display__menu_map").get(pk=tuning_id)
    controls = tuning.display.menu_map.controls if tuning.display.menu_map else []
    by_id = {c["id"]: c for c in controls}
    roles = {c["role"]: c for c in controls if c["role"]}
    if not by_role:
        _see_where_from(file.facts, tuning)
        if not any(row["control"] in by_id for row in file.rows):
            none = f"{tuning.display.name} has none of its {len(file.rows)} controls"
            raise OtherModelError(f"The file is a sheet of another model: {none}. {ON_PURPOSE}")
    typed: dict[str, str] = {}
    unknown, other_range = [], []
    for row, (line, column) in zip(file.rows, file.places, strict=True):
        control = by_id.get(row["control"]) or (roles.get(row["role"]) if row["role"] else None)
        label = row["label"] or row["control"]
        if control is None:
            unknown.append(label)
            continue
        theirs = file.ranges.get(row["control"])
        if theirs is not None and control["kind"] == "range" and theirs != tuple(float(control[k]) for k in files.RANGE):
            other_range.append(label)  # the same number would be another setting
            continue
        try:
            typed_value(control, row["value"])
        except SettingError as problem:
            raise files.SheetFileError(f"{label}: {problem} The file says {row['value'][:20]}.", line, column) from problem
        typed[control["id"]] = row["value"]
    if not typed:
        raise OtherModelError(f"Nothing of this sheet fits the menu of {tuning.display.name}. Nothing was stored.")
    sheet = note_found(tuning_id=tuning_id, actor=actor, typed=typed, now=now, origin=Origin.IMPORT, moment=moment)
    return Brought(sheet, unknown, other_range)
