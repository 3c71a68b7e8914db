"""What every procedure works at: the controls, every reading with the state it was taken in, the budget, and what is to be said."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.procedures.steps import ENDS, BudgetError, Procedure, Read, Say, Set
from fenvik.core.types import Floats


@dataclass(frozen=True)
class Taken:
    """One reading with the state of every control when it was taken."""

    fraction: Floats
    xyz: Floats
    settings: dict[str, Any]


@dataclass
class Desk:
    """What a procedure has before it: controls as they stand, readings in order, the budget, notes, and what was found."""

    controls: list[dict[str, Any]]  # of the mode, as the device link describes them; ``value`` is kept up
    budget: int = 400
    taken: list[Taken] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    found: dict[str, Any] = field(default_factory=dict)
    dead: list[str] = field(default_factory=list)  # controls that do nothing that a reading can tell

    def __post_init__(self) -> None:
        self.found = self.settings

    @property
    def settings(self) -> dict[str, Any]:
        """The values of all controls now."""
        return {c["id"]: c["value"] for c in self.controls}

    def read(self, percent: Sequence[float]) -> Procedure[Taken]:
        """Read a patch of percentages of signal. Raises BudgetError."""
        if len(self.taken) >= self.budget:
            raise BudgetError("The budget of readings is used up, but for those of the proof.")
        fraction, xyz = yield Read((float(percent[0]), float(percent[1]), float(percent[2])))
        made = Taken(np.asarray(fraction, dtype=np.float64), np.asarray(xyz, dtype=np.float64), self.settings)
        self.taken.append(made)
        return made

    def reads(self, patches: Iterable[Sequence[float]]) -> Procedure[list[Taken]]:
        """Read patches of percentages, in their order."""
        made = []
        for percent in patches:
            made.append((yield from self.read(percent)))
        return made

    def greys(self, levels: Iterable[float]) -> Procedure[list[Taken]]:
        """Read greys at percentages, in their order."""
        return self.reads((level, level, level) for level in levels)

    def read_once(self, level: float) -> Procedure[Taken]:
        """Return the newest reading of a grey with every control as it stands now; read it where there is none."""
        now = self.settings
        for t in reversed(self.taken):
            if np.ptp(t.fraction) == 0 and abs(100 * float(t.fraction[0]) - level) < 0.3 and t.settings == now:
                return t
        return (yield from self.read((level,) * 3))

    def by_role(self, prefix: str) -> list[dict[str, Any]]:
        """Return the controls whose role is this or begins with it and a dot."""
        return [
            c
            for c in self.controls
            if c.get("role") and (c["role"] == prefix or c["role"].startswith(f"{prefix}."))
        ]

    def each_once(self, levels: Iterable[float]) -> Procedure[list[Taken]]:
        """Return the newest readings of greys with every control as it stands now; those that are lacking are read."""
        made = []
        for level in levels:
            made.append((yield from self.read_once(level)))
        return made

    def set(self, control: dict[str, Any], value: Any) -> Procedure[Any]:
        """Set a control, held within its range, and keep what it now is."""
        if control["kind"] == "range":
            low, high, step = float(control["min"]), float(control["max"]), float(control["step"])
            value = low + round((min(max(float(value), low), high) - low) / step) * step
            value = int(value) if float(value).is_integer() else round(value, 9)
        if value != control["value"]:
            control["value"] = yield Set(control["id"], value)
        return control["value"]

    def tried(
        self, control: dict[str, Any], options: Sequence[Any], look: Callable[[], Procedure[float]]
    ) -> Procedure[dict[Any, float]]:
        """Return how far off the light is with each option of a choice; the last one stands, the usual one if it ends there."""
        usual, off = control["value"], {}
        try:
            for option in options:
                yield from self.set(control, option)
                off[option] = yield from look()
        except ENDS:
            yield from self.set(control, usual)
            raise
        return off

    def put(self, settings: dict[str, Any]) -> Procedure[None]:
        """Put every control to a value."""
        for control in self.controls:
            if control["id"] in settings:
                yield from self.set(control, settings[control["id"]])

    def say(self, words: str) -> Procedure[None]:
        """Tell whoever watches."""
        yield Say(words)
