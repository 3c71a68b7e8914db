"""What hands-free needs of the world: something that reads a patch and sets a control, with every reading counted."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

from fenvik.core.errors import FenvikError
from fenvik.core.types import Floats

Fraction = tuple[float, float, float]


class BudgetError(FenvikError):
    """All the readings that were allowed have been taken."""

    code = "budget"


class StoppedError(Exception):
    """A person has asked to stop: what is half done is brought to rest first."""


# What ends a step for good. Anything else may go on later from where it was cut off, so there nothing is turned.
ENDS = (BudgetError, StoppedError, KeyboardInterrupt)


class Rig(Protocol):
    """A display, a meter and a source. ``controls`` are those of the mode, as the device link describes them, ``value`` kept up."""

    controls: list[dict[str, Any]]

    def read(self, percent: Fraction) -> tuple[Floats, Floats]:
        """Return what percentages of signal were sent as, as fractions (3,), and XYZ (3,) in cd/m² as it is seen."""
        ...

    def set(self, control: str, value: Any) -> Any:
        """Set a control and return what it now is."""
        ...


@dataclass(frozen=True)
class Taken:
    """One reading with the state of every control when it was taken."""

    fraction: Floats
    xyz: Floats
    settings: dict[str, Any]


@dataclass
class Desk:
    """A rig with its memory: readings in order, the budget, notes for the report, and what was found."""

    rig: Rig
    budget: int = 400
    taken: list[Taken] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    heard: Callable[[str], None] = lambda words: None
    found: dict[str, Any] = field(default_factory=dict)
    dead: list[str] = field(default_factory=list)  # controls that do nothing that a reading can tell

    def __post_init__(self) -> None:
        self.found = self.settings

    @property
    def settings(self) -> dict[str, Any]:
        """The values of all controls now."""
        return {c["id"]: c["value"] for c in self.rig.controls}

    def read(self, percent: Sequence[float]) -> Taken:
        """Read a patch of percentages of signal. Raises BudgetError."""
        if len(self.taken) >= self.budget:
            raise BudgetError("The budget of readings is used up, but for those of the proof.")
        fraction, xyz = self.rig.read((float(percent[0]), float(percent[1]), float(percent[2])))
        made = Taken(np.asarray(fraction, dtype=np.float64), np.asarray(xyz, dtype=np.float64), self.settings)
        self.taken.append(made)
        return made

    def greys(self, levels: Sequence[float]) -> list[Taken]:
        """Read greys at percentages, in their order."""
        return [self.read((level, level, level)) for level in levels]

    def read_once(self, level: float) -> Taken:
        """Return the newest reading of a grey with every control as it stands now; read it where there is none."""
        now = self.settings
        for t in reversed(self.taken):
            if np.ptp(t.fraction) == 0 and abs(100 * float(t.fraction[0]) - level) < 0.3 and t.settings == now:
                return t
        return self.read((level,) * 3)

    def by_role(self, prefix: str) -> list[dict[str, Any]]:
        """Return the controls whose role is this or begins with it and a dot."""
        return [
            c
            for c in self.rig.controls
            if c.get("role") and (c["role"] == prefix or c["role"].startswith(f"{prefix}."))
        ]

    def set(self, control: dict[str, Any], value: Any) -> Any:
        """Set a control, held within its range, and keep what it now is."""
        if control["kind"] == "range":
            low, high, step = float(control["min"]), float(control["max"]), float(control["step"])
            value = low + round((min(max(float(value), low), high) - low) / step) * step
            value = int(value) if float(value).is_integer() else round(value, 9)
        if value != control["value"]:
            control["value"] = self.rig.set(control["id"], value)
        return control["value"]

    def tried(self, control: dict[str, Any], options: Sequence[Any], look: Callable[[], float]) -> dict[Any, float]:
        """Return how far off the light is with each option of a choice; the last one stands, the usual one if it ends there."""
        usual, off = control["value"], {}
        try:
            for option in options:
                self.set(control, option)
                off[option] = look()
        except ENDS:
            self.set(control, usual)
            raise
        return off

    def put(self, settings: dict[str, Any]) -> None:
        """Put every control to a value."""
        for control in self.rig.controls:
            if control["id"] in settings:
                self.set(control, settings[control["id"]])

    def say(self, words: str) -> None:
        """Tell whoever watches."""
        self.heard(words)
