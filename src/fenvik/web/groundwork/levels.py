"""The guided levels: the order, and for each step its pattern and the controls that this menu has for it."""

from dataclasses import dataclass
from typing import Any

from fenvik.core.signal.patterns import PATTERNS, Pattern
from fenvik.web.controls.values import Values
from fenvik.web.kit.templatetags.fenvik import setting


@dataclass(frozen=True)
class Step:
    """One step: what is set, by which pattern and with which roles; ``more`` patterns to look at after it."""

    id: str
    name: str
    pattern: str
    roles: tuple[str, ...]
    words: str
    options: tuple[tuple[str, str], ...] = ()
    more: tuple[str, ...] = ()
    look: str = ""  # what to look for, where it is not the pattern's own

    @property
    def drawn(self) -> Pattern:
        """Its pattern."""
        return PATTERNS[self.pattern]


STEPS = {
    step.id: step
    for step in (
        Step("light", "Light", "patch", ("light",), "Set the light roughly to the purpose; the meter does it finely later. Do it first: everything else looks different in another light.", (("size", "10"),), look="At night white should be bright without making anybody squint; by day it should stand up to the room. The target’s luminance is set exactly at Adjust, with the meter."),
        Step("white-level", "White level", "white-level", ("white-level",), "White before black: turning it moves black a little, and hardly the other way round.", more=("clipping",)),
        Step("black-level", "Black level", "black-level", ("black-level",), "With the room as it is when films are watched.", more=("steps",)),
        Step("sharpness", "Sharpness", "sharpness", ("process.sharpness",), "Its neutral value differs from display to display: find it by eye.", more=("one-to-one",)),
        Step("colour", "Colour and tint", "colour-bars", ("saturation", "tint"), "Leave both alone where a pass will measure colours; set them by eye only on displays without colour management."),
        Step("size", "Size", "overscan", ("process.overscan",), "Every pixel of the signal on one pixel of the display.", more=("one-to-one",)),
    )
}  # fmt: skip
ORDER = tuple(STEPS)


@dataclass(frozen=True)
class Level:
    """A step with the controls of this menu, and whether it was done."""

    step: Step
    number: int
    rows: list[dict[str, Any]]
    done: bool
    words: str

    @property
    def next(self) -> str:
        """The id of the step after it; empty after the last."""
        return ORDER[self.number] if self.number < len(ORDER) else ""

    @property
    def before(self) -> str:
        """The id of the step before it; empty before the first."""
        return ORDER[self.number - 2] if self.number > 1 else ""


def levels_of(values: Values, looked: list[Any]) -> list[Level]:
    """Return the steps with their controls; a step is done when it was gone through once."""
    made = []
    done = {row.step: row for row in looked if row.step and row.after is not None}
    rows = values.rows
    for number, step in enumerate(STEPS.values(), 1):
        mine = [row for role in step.roles for row in rows if row.get("role") == role]
        words = ", ".join(f"{row['label']} {_plain(row['now'])}" for row in mine) or "no control in this menu"
        made.append(Level(step, number, mine, step.id in done, words))
    return made


def _plain(value: Any) -> str:
    return setting(value)
