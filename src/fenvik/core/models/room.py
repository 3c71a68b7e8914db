"""Room for gains that have come to their end in PQ, where every light is wanted as it is: the white level makes all three brighter.

What was read before it was turned is still of use: the model of the greys finds what that has shifted.
"""

from collections.abc import Mapping, Sequence
from typing import Any

from fenvik.core.controls import Control
from fenvik.core.types import Floats

ROOM, MOST_ROOM = 0.06, 2  # of the white level's range that is turned where gains end, so often at most
NEAR_END = 0.05  # of a gain's range
BY_ROOM = 15.0  # times what colour management may shift greys by: what the white level may
ROLE = "white-level"


def of_room(controls: Sequence[dict[str, Any]]) -> dict[str, Any] | None:
    """Return the control, as the device link describes it, that may give gains room; None where a menu has none."""
    return next((c for c in controls if c.get("role") == ROLE and c["kind"] == "range"), None)


def ending(knobs: Sequence[Control], moved: Floats) -> tuple[list[Control], list[Control]]:
    """Return the gains that were turned up to the top of their range or nearly, and those that were turned down to its bottom.

    ``moved`` (k,): steps from where the knobs were found.
    """
    gains = [
        (knob, by * knob.step, NEAR_END * (knob.high - knob.low))
        for knob, by in zip(knobs, moved, strict=True)
        if knob.kind == "gain"
    ]
    top = [knob for knob, by, near in gains if by > 0 and knob.value + by > knob.high - near]
    return top, [knob for knob, by, near in gains if by < 0 and knob.value + by < knob.low + near]


def at_their_end(knobs: Sequence[Control], moved: Floats) -> int:
    """Return 1 where a gain came to the top of its range, -1 where to its bottom, 0 where none or both."""
    top, bottom = ending(knobs, moved)
    return bool(top) - bool(bottom)


def turned(control: Mapping[str, Any], value: float, ends: int) -> float | None:
    """Return what a control of room is to be turned to from ``value``; None where no gain is at its end, or it is at its own."""
    size = max(round(ROOM * (control["max"] - control["min"]) / control["step"]), 1) * control["step"]
    wanted = min(max(value + ends * size, control["min"]), control["max"])
    return None if not ends or wanted == value else float(wanted)
