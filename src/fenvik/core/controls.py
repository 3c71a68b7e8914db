"""One control of a display that is turned by steps: what it does, told from its role, where it stands, how far it can go."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

CHANNELS = {"red": 0, "green": 1, "blue": 2}
GREYS = {"gain": "gain", "offset": "offset", "at": "point"}  # the second word of a role of white
A_STEP, OVER_ALL = 0.004, 4.0  # of signal: what a step may do, and all of them together
MIXED = ("mix.red", "mix.green", "mix.blue")


@dataclass(frozen=True)
class Control:
    """A control with a range, standing at ``value``, all in the display's own values.

    ``kind``: of the greys gain, offset, point, or tone, which is a point that moves the three lights alike; of a colour hue,
    saturation, luminance, mix.red, mix.green or mix.blue; else the role itself. ``channel``: which of the three lights it moves,
    0 to 2; of a tone 0 without meaning, -1 where it moves none of them by itself. ``at``: a point's fraction of signal.
    ``hue``: the colour that it is of.
    """

    id: str
    label: str
    kind: str
    channel: int
    value: float
    low: float
    high: float
    step: float
    at: float = 1.0
    hue: str = ""

    @property
    def half_steps(self) -> float:
        """Half of the range, in steps."""
        return 0.5 * (self.high - self.low) / self.step

    @property
    def room(self) -> tuple[int, int]:
        """Steps down (negative) and up that are left."""
        return (
            -int(np.floor((self.value - self.low) / self.step + 1e-9)),
            int(np.floor((self.high - self.value) / self.step + 1e-9)),
        )

    @property
    def may_do(self) -> float:
        """What a step may do, of signal, before anybody has turned it, whatever its range says."""
        return min(A_STEP, OVER_ALL / max(2.0 * self.half_steps, 1.0))

    @property
    def light(self) -> int | None:
        """Which of the three lights it moves alone; None where it moves them alike, or in another way."""
        return None if self.channel < 0 or self.kind == "tone" else self.channel

    def moved(self, steps: float) -> "Control":
        """Return it as it is some steps from here."""
        return replace(self, value=self.value + steps * self.step)


def control_of(described: Mapping[str, Any], value: Any) -> Control | None:
    """Return a control as the device link describes it, standing at ``value``; None for no range, or where that is not known."""
    if described["kind"] != "range" or value is None:
        return None
    role = str(described.get("role") or "")
    kind, channel, at, hue = _told(role)
    low, high, step = (float(described[member]) for member in ("min", "max", "step"))
    return Control(described["id"], described["label"], kind, channel, float(value), low, high, step, at, hue)


def _told(role: str) -> tuple[str, int, float, str]:
    """Return kind, channel, the fraction of signal and the colour that a role tells."""
    word = role.split(".")
    if len(word) >= 3 and word[0] == "white" and word[-1] in CHANNELS and word[1] in GREYS:
        kind = GREYS[word[1]]
        return kind, CHANNELS[word[-1]], float(".".join(word[2:-1])) / 100.0 if kind == "point" else 1.0, ""
    if len(word) >= 3 and word[:2] == ["gamma", "at"]:
        return "tone", 0, float(".".join(word[2:])) / 100.0, ""
    if len(word) >= 3 and word[0] == "colour":
        kind = ".".join(word[2:])
        return kind, MIXED.index(kind) if kind in MIXED else -1, 1.0, word[1]
    return role, -1, 1.0, ""


def of_colour(controls: Sequence[Mapping[str, Any]], values: Mapping[str, Any], hue: str) -> list[Control]:
    """Return the controls of one colour whose values are known."""
    made = (control_of(each, values.get(each["id"])) for each in controls)
    return [control for control in made if control is not None and control.hue == hue]


def of_greys(controls: Sequence[Mapping[str, Any]], values: Mapping[str, Any], kinds: Sequence[str]) -> list[Control]:
    """Return the controls of the greys of these kinds, in their order, standing at ``values``; those whose value is known.

    Points of luminance alone are left out where the three lights have points of their own, which do the same.
    """
    made = [control for each in controls if (control := control_of(each, values.get(each["id"]))) and control.kind in kinds]
    if any(control.kind == "point" for control in made):
        made = [control for control in made if control.kind != "tone"]
    return made
