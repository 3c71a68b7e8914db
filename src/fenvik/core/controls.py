"""One control of a display that is turned by steps: what it does, told from its role, where it stands, how far it can go."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np

from fenvik.core.types import Floats

CHANNELS = {"red": 0, "green": 1, "blue": 2}
GREYS = {"gain": "gain", "offset": "offset", "at": "point"}  # the second word of a role of white
A_STEP, OVER_ALL = 0.004, 4.0  # of signal: what a step may do, and all of them together
FELT, OF_RANGE = 8, 0.05  # steps, and the share of a range, that every display feels
MIXED = ("mix.red", "mix.green", "mix.blue")


@dataclass(frozen=True)
class Grain:
    """Steps of a menu of which a display feels ``every`` so many as one.

    ``phase``: how many steps below the next one it rounds up, 0 for none and ``every // 2`` for the nearest; None where it drops
    the rest, toward zero.
    """

    every: int
    phase: int | None

    def counted(self, steps: Floats) -> Floats:
        """Return how many of its own steps, whole numbers, a display makes of a menu's (any shape), counted from zero."""
        steps = np.rint(steps)
        made: Floats = np.trunc(steps / self.every) if self.phase is None else np.floor_divide(steps + self.phase, self.every)
        return made


@dataclass(frozen=True)
class Control:
    """A control with a range, standing at ``value``, all in the display's own values.

    ``kind``: of the greys gain, offset, point, or tone, which is a point that moves the three lights alike; of a colour hue,
    saturation, luminance, mix.red, mix.green or mix.blue; else the role itself. ``channel``: which of the three lights it moves,
    0 to 2; of a tone 0 without meaning, -1 where it moves none of them by itself. ``at``: a point's fraction of signal.
    ``hue``: the colour that it is of. ``grain``: where the display counts in larger steps than its menu; ``step`` is one of those
    then, and ``low`` and ``high`` lie as many of them away as there are.
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
    grain: Grain | None = None
    menu: tuple[float, ...] = ()  # with a grain: the ends of the range as the menu has them

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

    def steps_to(self, value: float) -> float:
        """Return how many steps a value of the menu is from here."""
        return float(steps_to([self], np.array([value]))[0])

    def value_at(self, steps: float) -> float:
        """Return the value of the menu that is so many steps from here, within its range.

        With a grain it is a whole number of grains from zero, which the display feels as that whichever way it rounds.
        """
        if self.grain is None:
            return self.value + steps * self.step
        wanted = (float(self.grain.counted(np.array(self.value / self.step_of_menu))) + round(steps)) * self.step
        return float(min(max(wanted, self.menu[0]), self.menu[1]))

    def in_grains(self, grain: Grain | None) -> "Control":
        """Return it as a display has it that counts in other steps: larger ones than the menu's, or those."""
        return _in_grains(self, grain)

    @property
    def every(self) -> int:
        """How many steps of the menu one step is."""
        return 1 if self.grain is None else self.grain.every

    @property
    def step_of_menu(self) -> float:
        """One step of the menu."""
        return self.step / self.every


@lru_cache(maxsize=8192)  # every way of counting is asked for again after every batch of readings
def _in_grains(control: Control, grain: Grain | None) -> Control:
    low, high = control.menu or (control.low, control.high)
    plain = replace(control, step=control.step_of_menu, low=low, high=high, grain=None, menu=())
    if grain is None:
        return plain
    made = replace(plain, step=plain.step * grain.every, grain=grain, menu=(low, high))
    return replace(made, low=control.value + made.steps_to(low) * made.step, high=control.value + made.steps_to(high) * made.step)


def steps_to(controls: Sequence[Control], values: Floats) -> Floats:
    """Return how many steps values (..., k) of the menu are from where each of k controls stands."""
    stand, step = np.array([[c.value, c.step] for c in controls], dtype=np.float64).reshape(-1, 2).T
    made: Floats = (values - stand) / step
    for grain in {c.grain for c in controls if c.grain is not None}:
        mine = [k for k, c in enumerate(controls) if c.grain == grain]
        menu = step[mine] / grain.every
        made[..., mine] = grain.counted(values[..., mine] / menu) - grain.counted(stand[mine] / menu)
    return made


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

    Points of luminance are left out where the three lights have points of their own, which do the same. Some menus have them in
    the place of one light's, or at more levels.
    """
    made = [control for each in controls if (control := control_of(each, values.get(each["id"]))) and control.kind in kinds]
    lights: dict[float, set[int]] = {}
    for control in made:
        if control.kind == "point":
            lights.setdefault(control.at, set()).add(control.channel)
    return [control for control in made if control.kind != "tone" or len(lights.get(control.at, ())) < len(CHANNELS)]


def felt_steps(low: float, high: float, step: float) -> float:
    """Return how many steps of a range every display feels, however coarse it is behind its menu."""
    return max(FELT, OF_RANGE * (high - low) / step)


def surely_felt(described: Mapping[str, Any]) -> float:
    """Return by how much a range, as the device link describes it, is to be turned to be felt by every display: whole steps."""
    low, high, step = (float(described[member]) for member in ("min", "max", "step"))
    return step * round(felt_steps(low, high, step))
