"""The options of a pattern: what can be chosen, and what was typed turned into values."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from fenvik.core.colour.space import Primaries
from fenvik.core.errors import FenvikError


class PatternError(FenvikError, ValueError):
    """An option that a pattern does not have, or a value outside what it takes."""

    code = "pattern"

    def __init__(self, message: str, option: str = "") -> None:
        super().__init__(message)
        self.option = option


@dataclass(frozen=True)
class Option:
    """One thing to choose: among ``choices``; or, without them, a number from ``low`` to ``high``; or a text."""

    id: str
    label: str
    default: str
    choices: tuple[tuple[str, str], ...] = ()  # value and words
    low: float = 0.0
    high: float = 100.0
    unit: str = ""
    text: bool = False

    def settled(self, typed: str) -> Any:
        """Return the value of what was typed. Raises PatternError."""
        typed = typed.strip() or self.default
        if self.choices:
            if typed not in dict(self.choices):
                raise PatternError(f"{self.label} is one of {', '.join(w for _, w in self.choices)}.", self.id)
            return typed
        if self.text:
            return typed
        try:
            value = float(typed.replace("−", "-").replace(",", "."))
        except ValueError:
            value = math.nan
        if not self.low <= value <= self.high:
            raise PatternError(f"{self.label} goes from {self.low:g} to {self.high:g}{self.unit}.", self.id)
        return value


def settle(options: tuple[Option, ...], typed: Mapping[str, str]) -> dict[str, Any]:
    """Return the value of every option, its default where nothing was typed. Raises PatternError."""
    return {option.id: option.settled(str(typed.get(option.id, ""))) for option in options}


def colour_of(text: str, option: str = "") -> tuple[float, float, float]:
    """Return a colour of one percentage of signal, or of three: red, green, blue. Raises PatternError."""
    try:
        told = [float(part.replace("−", "-")) for part in text.replace(",", ".").replace(";", " ").replace("%", " ").split()]
    except ValueError:
        told = []
    if len(told) not in (1, 3) or not all(-7.0 <= each <= 109.0 for each in told):
        raise PatternError("A colour is one percentage of signal, or three of red, green and blue, from −7 to 109.", option)
    red, green, blue = told * 3 if len(told) == 1 else told
    return red, green, blue


def three_primaries(text: str) -> Primaries:
    """Return the primaries of six numbers: x and y of red, green and blue. Raises PatternError."""
    try:
        numbers = [float(part) for part in text.replace(",", " ").replace(";", " ").split()]
    except ValueError:
        numbers = []
    if len(numbers) != 6 or not all(0.0 < n < 0.9 for n in numbers):
        raise PatternError("Primaries are six numbers: x and y of red, of green and of blue.", "primaries")
    (rx, ry, gx, gy, bx, by) = numbers
    if abs((gx - rx) * (by - ry) - (bx - rx) * (gy - ry)) < 1e-4:
        raise PatternError("These three primaries lie on one line, so they span no colours.", "primaries")
    return Primaries((rx, ry), (gx, gy), (bx, by))


LIGHT = Option(
    "colour", "Colour", "grey",
    (("grey", "grey"), ("red", "red"), ("green", "green"), ("blue", "blue"), ("cyan", "cyan"), ("magenta", "magenta"), ("yellow", "yellow")),
)  # fmt: skip
MIX = {
    "grey": (1.0, 1.0, 1.0), "red": (1.0, 0.0, 0.0), "green": (0.0, 1.0, 0.0), "blue": (0.0, 0.0, 1.0),
    "cyan": (0.0, 1.0, 1.0), "magenta": (1.0, 0.0, 1.0), "yellow": (1.0, 1.0, 0.0),
}  # fmt: skip
