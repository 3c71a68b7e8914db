"""Room for gains that have come to their end in PQ, where every light is wanted as it is: the white level makes all three brighter.

What was read before it was turned is still of use: the model of the greys finds what that has shifted.
"""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from fenvik.core.controls import Control
from fenvik.core.types import Floats

ROOM, MOST_ROOM = 0.06, 2  # of the white level's range that is turned where gains end, so often at most
NEAR_END, FREED = 0.05, 0.25  # of a gain's range; beyond its end
BY_ROOM = 15.0  # times what colour management may shift greys by: what the white level may
ROLE = "white-level"


def of_room(controls: Sequence[dict[str, Any]]) -> dict[str, Any] | None:
    """Return the control, as the device link describes it, that may give gains room; None where a menu has none."""
    return next((c for c in controls if c.get("role") == ROLE and c["kind"] == "range"), None)


def freed(knob: Control) -> Control:
    """Return a gain as if its range went on."""
    more = FREED * (knob.high - knob.low)
    return replace(knob, low=knob.low - more, high=knob.high + more) if knob.kind == "gain" else knob


def stuck(knobs: Sequence[Control], moved: Floats) -> bool:
    """Whether a gain stands where it was found, at the top of its range: nothing tells whether it is wanted beyond that."""
    return any(_is_stuck(knob, by) for knob, by in zip(knobs, moved, strict=True))


def _is_stuck(knob: Control, by: float) -> bool:
    return knob.kind == "gain" and by == 0 and knob.room[1] == 0


def ending(knobs: Sequence[Control], moved: Floats, free: Floats | None = None) -> tuple[list[Control], list[Control]]:
    """Return the gains that were turned up to the top of their range or nearly, and those that were turned down to its bottom.

    ``moved`` (k,): steps from where the knobs were found; ``free`` (k,): where they would be with gains of which the range went on.
    With these, gains that were found at their top are told too, if they would be above it.
    """
    wanted = moved if free is None else free
    gains = []
    for knob, by, to in zip(knobs, moved, wanted, strict=True):
        near = NEAR_END * (knob.high - knob.low)
        if knob.kind == "gain":
            gains.append((knob, (to if _is_stuck(knob, by) and to * knob.step > near else by) * knob.step, near))
    top = [knob for knob, by, near in gains if by > 0 and knob.value + by > knob.high - near]
    return top, [knob for knob, by, near in gains if by < 0 and knob.value + by < knob.low + near]


def at_their_end(knobs: Sequence[Control], moved: Floats, free: Floats | None = None) -> int:
    """Return 1 where a gain came to the top of its range, -1 where to its bottom, 0 for none or both; ``free`` as of ``ending``."""
    top, bottom = ending(knobs, moved, free)
    return bool(top) - bool(bottom)


def turned(control: Mapping[str, Any], value: float, ends: int) -> float | None:
    """Return what a control of room is to be turned to from ``value``; None where no gain is at its end, or it is at its own."""
    size = max(round(ROOM * (control["max"] - control["min"]) / control["step"]), 1) * control["step"]
    wanted = min(max(value + ends * size, control["min"]), control["max"])
    return None if not ends or wanted == value else float(wanted)
