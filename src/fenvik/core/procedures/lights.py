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
TELLS = 0.004  # of white: less light more or less is the meter's noise
TOO_LITTLE = 10.0  # how much farther off a lamp counts that gives less than is wanted, where something beside it takes light
TRIES = 4


def turn_light(desk: Desk, luminance: float) -> Procedure[bool]:
    """Turn what scales the light until white is as bright as is wanted, in cd/m². Return whether anything was turned.

    A projector may have an iris beside its lamp: where one does not reach it, the next is turned too, and where none with steps
    does, the least of a lamp's choices that gives enough, and they once more.
    """
    ranges, choice = _ranges(desk, "light"), choices.of_role(desk, "light")
    if not ranges:
        return (yield from _choose_light(desk, luminance))
    yield from desk.say("light")
    start = desk.settings
    white = yield from _by_ranges(desk, ranges, luminance)
    is_short = choice is not None and white > 0 and abs(white / luminance - 1.0) > LIGHT_OFF
    if is_short and (yield from _choose_light(desk, luminance, enough=True)):
        yield from _by_ranges(desk, ranges, luminance)
    return bool(desk.settings != start)


def _by_ranges(desk: Desk, ranges: Sequence[dict[str, Any]], luminance: float) -> Procedure[float]:
    """Turn one after the other until white is as wanted; return it, in cd/m², as it was read last."""
    white = 0.0
    for control in ranges:
        white = yield from _turn(desk, control, luminance)
        if abs(white / luminance - 1.0) <= LIGHT_OFF:
            break
    return white


def _turn(desk: Desk, control: dict[str, Any], luminance: float) -> Procedure[float]:
    """Turn one of them; return the white in cd/m² with what is left of it."""
    seen: list[tuple[float, float]] = []
    for _ in range(TRIES):
        white = float((yield from desk.followed([(100.0,) * 3]))[0].xyz[1])
        seen.append((float(control["value"]), white))
        if white <= 0 or abs(white / luminance - 1.0) <= NEAR:
            break
        wanted = next_light(seen, luminance, control)
        if wanted == control["value"] and len(seen) == 1:
            wanted = _another(control, brighter=white < luminance)
        if wanted == control["value"]:
            break
        yield from desk.set(control, wanted)
    else:
        last = yield from desk.read((100.0,) * 3)
        seen.append((float(control["value"]), float(last.xyz[1])))
    value, white = min(seen, key=lambda pair: abs(np.log(max(pair[1], 1e-6) / luminance)))
    yield from desk.set(control, value)
    return white


def _another(control: dict[str, Any], *, brighter: bool) -> float:
    """Return where to look first, where by proportion it would stay: a step towards what is wanted; from an end a quarter of the
    range back, for some take light away the farther they are turned up."""
    value, low, high, step = (float(control[m]) for m in ("value", "min", "max", "step"))
    if (brighter and value < high) or (not brighter and value > low):
        return value + step if brighter else value - step
    back = round(0.25 * (high - low) / step) * step or step
    return max(value - back, low) if brighter else min(value + back, high)


def _choose_light(desk: Desk, luminance: float, *, enough: bool = False) -> Procedure[bool]:
    """Choose the nearest of what a lamp can be set to, where a menu has that instead of steps; ``enough``: or beside them, and then
    the least that gives as much as is wanted."""
    control = choices.of_role(desk, "light")
    if control is None:
        desk.notes.append("This mode has no light control.")
        return False
    yield from desk.say("light")
    usual, whites = control["value"], {}

    def look(_: float) -> Procedure[tuple[float, Floats]]:
        whites[control["value"]] = white = float((yield from desk.followed([(100.0,) * 3]))[0].xyz[1])
        ratio = float(np.log(max(white, 1e-6) / luminance))
        return abs(ratio) + (TOO_LITTLE if enough and ratio < -LIGHT_OFF else 0.0), np.array([ratio])

    off = yield from choices.tried(desk, control, look)
    best = min(off, key=lambda option: off[option])
    yield from desk.set(control, best)
    if not enough:
        white = f"{whites[best]:.0f} cd/m²"
        desk.notes.append(f"{control['label']} at {best} brings white to {white}, nearest to the {luminance:.0f} that are wanted.")
    elif best != usual:
        desk.notes.append(f"{control['label']} was set to {best}, for white to come to the {luminance:.0f} cd/m² that are wanted.")
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
        slope = white / max(value - low, 0.25 * (high - low))  # one that works backwards shows that with the next reading
    if others and abs(white / its_white - 1.0) < TELLS:
        return value  # it does nothing; what it did was the meter's noise
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


def _ranges(desk: Desk, role: str) -> list[dict[str, Any]]:
    return [c for c in desk.by_role(role) if c["role"] == role and c["kind"] == "range"]


def _range(desk: Desk, role: str) -> dict[str, Any] | None:
    return next(iter(_ranges(desk, role)), None)


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
