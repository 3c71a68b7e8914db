"""What the controls of a tuning stand at: as found, and after every change since."""

from dataclasses import dataclass
from functools import cached_property
from typing import Any

from fenvik.core.errors import FenvikError
from fenvik.core.labels import told_apart
from fenvik.web.controls.history import History
from fenvik.web.controls.models import ControlChange, Moment, SettingsSheet
from fenvik.web.visits.models import Tuning

Value = Any


class NoModeError(FenvikError):
    """The display's own name of a mode is not known."""

    code = "no_mode"


class SettingError(FenvikError):
    """A typed value that its control does not have."""

    code = "setting"

    def __init__(self, message: str, control: str) -> None:
        super().__init__(message)
        self.control = control


@dataclass(frozen=True)
class Values:
    """The menu of a tuning with its values; ``found`` is None while nothing has been noted."""

    controls: list[dict[str, Any]]
    found: dict[str, Value] | None
    changes: list[ControlChange]

    @cached_property
    def history(self) -> History:
        """How they stood at each moment."""
        return History(self.found, self.changes)

    @cached_property
    def now(self) -> dict[str, Value]:
        """Every known value as it stands."""
        return self.history.now

    def control(self, control_id: str) -> dict[str, Any] | None:
        """Return a control of the map."""
        return next((c for c in self.controls if c["id"] == control_id), None)

    @property
    def rows(self) -> list[dict[str, Any]]:
        """Return every control with its value found and now, in the menu's own order."""
        found = self.found or {}
        return [
            {
                **control,
                "found": found.get(control["id"]),
                "now": self.now.get(control["id"]),
                "usual": control.get("default"),
                "changed": control["id"] in found and found[control["id"]] != self.now.get(control["id"]),
            }
            for control in self.controls
        ]


def values_of(tuning: Tuning) -> Values:
    """Return the settings of a tuning: two queries, whatever their number."""
    sheet = SettingsSheet.objects.filter(tuning=tuning, moment=Moment.FOUND).order_by("-at", "-id").first()
    return values_from(tuning, sheet, list(ControlChange.objects.filter(tuning=tuning).order_by("id")))


def values_from(tuning: Tuning, sheet: SettingsSheet | None, changes: list[ControlChange]) -> Values:
    """Return the settings of a tuning from rows that were fetched already."""
    menu = tuning.display.menu_map
    return Values(told_apart(menu.controls) if menu else [], None if sheet is None else sheet.values, changes)


def shown(value: object) -> str:
    """Return a value as a person would type it."""
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, int | float):
        return f"{value:g}"
    return "" if value is None else str(value)


def typed_value(control: dict[str, Any], text: str) -> Value:
    """Return what was typed for a control, as its own kind of value. Raises SettingError."""
    text = text.strip()
    label, kind = control["label"], control["kind"]
    if kind == "choice":
        for option in control["options"]:
            if option.lower() == text.lower():
                return option
        raise SettingError(f"{label} is one of {', '.join(control['options'])}.", control["id"])
    if kind == "switch":
        if text.lower() in ("on", "true", "yes"):
            return True
        if text.lower() in ("off", "false", "no"):
            return False
        raise SettingError(f"{label} is on or off.", control["id"])
    low, high, step = control["min"], control["max"], control["step"]
    try:
        number = float(text.replace("−", "-").replace(",", "."))
    except ValueError:
        raise SettingError(f"{label} is a number from {low:g} to {high:g}.", control["id"]) from None
    if not low <= number <= high:  # also refuses what is no finite number
        raise SettingError(f"{label} goes from {low:g} to {high:g}; {text[:20]} is outside.", control["id"])
    steps = (number - low) / step
    if abs(steps - round(steps)) > 1e-6:
        raise SettingError(f"{label} goes in steps of {step:g}; {text[:20]} is between two.", control["id"])
    number = low + round(steps) * step
    return int(number) if float(number).is_integer() else number
