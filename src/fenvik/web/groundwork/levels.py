"""The guided levels: the order, and for each step its pattern and the controls that this menu has for it."""

from dataclasses import dataclass, replace
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
# What is otherwise with a PQ or HLG signal: the signal says how bright, and where a display ends nothing is lowered.
HDR = {
    "light": replace(STEPS["light"], words="The signal says how bright: the light control stands at its top unless the client wants less. What it gives then, and for how long, Groundwork reads under modes.", look="White at its brightest. A control that is lower takes from every light alike, and the picture no longer follows the signal."),
    "white-level": replace(STEPS["white-level"], pattern="ramp-grey", words="Leave it where the maker has it: every display ends somewhere below the signal’s top, and lowering the white level does not bring that back.", look="A ramp that grows evenly and ends once. Steps or a second bend are tone mapping that follows the picture: turn it off under checks, or say why it is left on.", more=("steps",)),
    "black-level": replace(STEPS["black-level"], look="The signal’s first steps are darker than in SDR: in a room as dark as when films are watched, the lowest that can be seen should only just stand out, and black should stay black."),
    "colour": replace(STEPS["colour"], words="Leave both alone: the signal’s colours lie in a wider space than the display’s, and a pass with a meter says what is to be done."),
}  # fmt: skip


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


def step_of(name: str, *, hdr: bool) -> Step:
    """Return a step by its id, as it is with that kind of signal. Raises KeyError."""
    return HDR.get(name, STEPS[name]) if hdr else STEPS[name]


def levels_of(values: Values, looked: list[Any], *, hdr: bool = False) -> list[Level]:
    """Return the steps with their controls, in HDR's own words where the signal is HDR; done is what was gone through once."""
    made = []
    done = {row.step: row for row in looked if row.step and row.after is not None}
    rows = values.rows
    for number, usual in enumerate(STEPS.values(), 1):
        step = step_of(usual.id, hdr=hdr)
        mine = [row for role in step.roles for row in rows if row.get("role") == role]
        words = ", ".join(f"{row['label']} {_plain(row['now'])}" for row in mine) or "no control in this menu"
        made.append(Level(step, number, mine, step.id in done, words))
    return made


def _plain(value: Any) -> str:
    return setting(value)
