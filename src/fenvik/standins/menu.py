"""A display's menu: its controls, their ranges, and the values of each picture mode."""

from dataclasses import dataclass
from typing import Any

from fenvik.standins.rpc import Refusal, is_number, wrong

Value = float | str | bool


@dataclass(frozen=True)
class Item:
    """One control, as the device link describes it."""

    id: str
    label: str
    group: str
    kind: str  # range, choice, switch
    role: str | None
    low: float = 0
    high: float = 0
    step: float = 1
    options: tuple[str, ...] = ()
    off: Value | None = None
    shared: bool = False  # by all modes: a lens has one focus

    def described(self, value: Value, default: Value) -> dict[str, Any]:
        """Return the control as the link's ``controls`` gives it."""
        facts: dict[str, Any] = {
            "id": self.id,
            "label": self.label,
            "group": self.group,
            "kind": self.kind,
            "role": self.role,
            "value": value,
            "default": default,
        }
        if self.kind == "range":
            facts |= {"min": self.low, "max": self.high, "step": self.step}
        if self.kind == "choice":
            facts["options"] = list(self.options)
        if self.off is not None:
            facts["off"] = self.off
        return facts

    def taken(self, value: object) -> Value:
        """Return the value that the control takes on: rounded to a step. Raises Refusal."""
        if self.kind == "switch":
            if not isinstance(value, bool):
                raise wrong(f"{self.label} is true or false.")
            return value
        if self.kind == "choice":
            if not isinstance(value, str) or value not in self.options:
                raise Refusal(4, f"{self.label} has no such option.", name=str(value)[:80])
            return value
        if not isinstance(value, int | float) or not is_number(value):
            raise wrong(f"{self.label} takes a number.")
        if not self.low - 1e-9 <= value <= self.high + 1e-9:
            raise Refusal(
                3,
                f"{self.label} goes from {self.low:g} to {self.high:g}.",
                control=self.id,
                min=self.low,
                max=self.high,
                step=self.step,
            )
        return self.low + round((value - self.low) / self.step) * self.step


@dataclass(frozen=True)
class Mode:
    """A picture mode: the signals that it takes and its factory values."""

    id: str
    label: str
    signals: tuple[str, ...]
    factory: dict[str, Value]


OWN_PLAYER = "Apps"  # shows a white of its own
INPUTS = ("Input 1", "Input 2", OWN_PLAYER)


class Menu:
    """The controls of a display, with a value for each mode; ``per_input`` keeps those of each input apart."""

    def __init__(self, items: list[Item], modes: list[Mode], *, per_input: bool = False) -> None:
        self.items = {item.id: item for item in items}
        self.modes = {mode.id: mode for mode in modes}
        self.input, self.per_input = INPUTS[0], per_input
        self.by_input: dict[str, dict[str, dict[str, Value]]] = {
            name: {mode.id: dict(mode.factory) for mode in modes} for name in (INPUTS if per_input else INPUTS[:1])
        }

    @property
    def values(self) -> dict[str, dict[str, Value]]:
        """The values of each mode at the input that is watched."""
        return self.by_input[self.input if self.per_input else INPUTS[0]]

    def choose_input(self, name: str) -> None:
        """Watch another input. Raises Refusal 4."""
        if name not in INPUTS:
            raise Refusal(4, "There is no such input.", name=name[:80])
        self.input = name

    def mode(self, name: str) -> Mode:
        """Return a mode. Raises Refusal 4."""
        if name not in self.modes:
            raise Refusal(4, "There is no such picture mode.", name=name[:80])
        return self.modes[name]

    def set(self, mode: str, control: str, value: object) -> Value:
        """Set a control of a mode and return what it now is. Raises Refusal."""
        self.mode(mode)
        if control not in self.items:
            raise Refusal(4, "There is no such control.", name=control[:80])
        item = self.items[control]
        taken = item.taken(value)
        for name in self.modes if item.shared else (mode,):
            self.values[name][control] = taken
        return taken

    def reset(self, mode: str) -> None:
        """Put a mode back to its factory values."""
        self.values[mode] = dict(self.mode(mode).factory)

    def described(self, mode: str) -> list[dict[str, Any]]:
        """Return the controls of a mode as the link gives them."""
        factory = self.mode(mode).factory
        return [item.described(self.values[mode][item.id], factory[item.id]) for item in self.items.values()]
