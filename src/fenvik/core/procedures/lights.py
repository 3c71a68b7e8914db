"""Light and white level: as bright as is wanted, and no light of the three clipped below white."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from fenvik.core.analysis.clipping import TOP, clipped
from fenvik.core.colour.target import Target
from fenvik.core.procedures import choices
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import Procedure
from fenvik.core.types import Floats

LIGHT_OFF = 0.03  # of the luminance that is wanted
NEAR = 0.02  # of the luminance that is wanted
TRIES = 4


def turn_light(desk: Desk, luminance: float) -> Procedure[bool]:
    """Turn the light control until white is as bright as is wanted, in cd/m². Return whether anything was turned."""
    control = _range(desk, "light")
    if control is None:
        return (yield from _choose_light(desk, luminance))
    yield from desk.say("light")
    seen: list[tuple[float, float]] = []
    start = control["value"]
    for _ in range(TRIES):
        white = float((yield from desk.followed([(100.0,) * 3]))[0].xyz[1])
        seen.append((float(control["value"]), white))
        if white <= 0 or abs(white / luminance - 1.0) <= NEAR:
            break
        wanted = next_light(seen, luminance, control)
        if wanted == control["value"]:
            break
        yield from desk.set(control, wanted)
    else:
        last = yield from desk.read((100.0,) * 3)
        seen.append((float(control["value"]), float(last.xyz[1])))
    value, _ = min(seen, key=lambda pair: abs(np.log(max(pair[1], 1e-6) / luminance)))
    yield from desk.set(control, value)
    return bool(control["value"] != start)


def _choose_light(desk: Desk, luminance: float) -> Procedure[bool]:
    """Choose the nearest of what a lamp can be set to, where a menu has that instead of steps."""
    control = choices.of_role(desk, "light")
    if control is None:
        desk.notes.append("This mode has no light control.")
        return False
    yield from desk.say("light")
    usual, whites = control["value"], {}

    def look(_: float) -> Procedure[tuple[float, Floats]]:
        whites[control["value"]] = white = float((yield from desk.followed([(100.0,) * 3]))[0].xyz[1])
        ratio = float(np.log(max(white, 1e-6) / luminance))
        return abs(ratio), np.array([ratio])

    off = yield from choices.tried(desk, control, look)
    best = min(off, key=lambda option: off[option])
    yield from desk.set(control, best)
    white = f"{whites[best]:.0f} cd/m²"
    desk.notes.append(f"{control['label']} at {best} brings white to {white}, nearest to the {luminance:.0f} that are wanted.")
    return bool(best != usual)


def next_light(seen: Sequence[tuple[float, float]], luminance: float, control: dict[str, Any]) -> float:
    """Return the value that should give the luminance: by the line through the two nearest readings, first by proportion.

    ``seen``: pairs of the control's value and the white that was read with it, in cd/m², the newest last.
    """
    value, white = seen[-1]
    low, high, step = (float(control[m]) for m in ("min", "max", "step"))
    others = [pair for pair in seen[:-1] if pair[0] != value]
    if others:
        other, its_white = min(others, key=lambda pair: abs(pair[1] - luminance))
        slope = (white - its_white) / (value - other)
    else:
        slope = white / max(value - low, 0.25 * (high - low))
    if slope <= 0:
        return value
    wanted = value + (luminance - white) / slope
    return min(max(low + round((wanted - low) / step) * step, low), high)


def lower_white_level(desk: Desk, target: Target) -> Procedure[bool]:
    """Lower the white level until nothing clips, in as few tries as halving needs. Return whether anything was turned."""
    control = _range(desk, "white-level")
    if control is None:
        return False
    yield from desk.say("white level")
    levels = np.array(TOP)

    def clips() -> Procedure[list[int]]:
        top = yield from desk.greys(TOP)
        return clipped(np.array([t.xyz for t in top]), levels, target)

    at_first = yield from clips()
    if not at_first:
        return False
    step, low, start = float(control["step"]), float(control["min"]), float(control["value"])
    reach = max(round(0.05 * (float(control["max"]) - low) / step), 1)
    good = None
    for _ in range(TRIES):
        value = max(float(control["value"]) - reach * step, low)
        yield from desk.set(control, value)
        if not (yield from clips()):
            good = value
            break
        reach *= 2
    names = ", ".join(("red", "green", "blue")[c] for c in at_first)
    if good is None:
        yield from desk.set(control, start)
        desk.notes.append(f"Clipped near white: {names}; {control['label']} does not change that, so it was put back.")
        return False
    desk.notes.append(f"Clipped near white: {names}. {control['label']} was lowered to {good:g}, and nothing clips.")
    return True


def _range(desk: Desk, role: str) -> dict[str, Any] | None:
    return next((c for c in desk.by_role(role) if c["role"] == role and c["kind"] == "range"), None)


def where_it_ended(desk: Desk, white: float, wanted: float) -> str:
    """Return in a sentence where white (cd/m²) ended elsewhere than was wanted, and why; empty where it did not."""
    off = white / wanted - 1.0
    if abs(off) <= LIGHT_OFF:
        return ""
    control = _range(desk, "light")
    if control is None:
        chosen = choices.of_role(desk, "light")
        nearest = None if chosen is None else f"{chosen['label']} at {chosen['value']} is the nearest it has"
        why = nearest or "this mode has no light control"
    elif float(control["value"]) >= float(control["max"]) and off < 0:
        why = f"{control['label']} is at the end of its range"
    else:
        why = f"{control['label']} at {control['value']} is the nearest that was reached"
    return f"White is {white:.0f} cd/m² where {wanted:.0f} were wanted: {why}."
