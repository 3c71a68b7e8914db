"""What somebody has turned before and left far off: a job learns from how a display is made, so it begins at the defaults.

A curve is smooth as its maker made it. What one guesses at twenty points, or copies from another display, bends it at each, and no
model tells that from how it was found.
"""

from collections.abc import Mapping, Sequence
from typing import Any

from fenvik.core.colour.target import Target
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.taken import Taken

BENDS = ("white.at", "gamma.at", "colour")  # roles of what a menu does point by point, and to colours
# By step of a job: roles, what is called by them, of what part of the proof, and the mean error from which on they tell of nobody's
# care, as CIEDE2000. Gains turn all of a curve alike; they are learned from where they stand unless they are far off.
FAR = (
    ("white", ("white.gain", "white.offset"), "gains and offsets", "greys", 4.0),
    ("grey", ("white.at", "gamma.at"), "points", "greys", 2.0),
    ("colour", ("colour",), "colour management", "colours", 2.0),
)
# Of white's luminance as found, and of that where a default is an end of its range; of CIEDE2000, by which its colour may be worse.
LEAST_LIGHT, AT_AN_END, SPOILT = 0.5, 0.95, 12.0


def turned(desk: Desk, roles: Sequence[str]) -> list[dict[str, Any]]:
    """Return the controls of some roles that are not where the display's maker has put them."""
    return [c for role in roles for c in desk.by_role(role) if c.get("default") is not None and c["value"] != c["default"]]


def far_off(
    desk: Desk, off: Mapping[str, float], steps: Sequence[str], target: Target, goal: float
) -> dict[str, list[dict[str, Any]]]:
    """Return, by what it is called, what was turned and is far off, of what these steps adjust.

    ``off``: mean errors of greys and colours as found, in the target's measure, ``goal``: one that is good enough.
    """
    made = {}
    for step, roles, name, part, far in FAR:
        is_far = off.get(part, 0.0) > max(far * target.metric.weight, goal)
        if step in steps and is_far and (there := turned(desk, roles)):
            made[name] = there
    return made


def are_none(controls: Sequence[Mapping[str, Any]], target: Target, was: Taken, white: Taken) -> bool:
    """Return whether white at these defaults is far from any that a maker would ship: a menu may name others than it has.

    ``was``: white as found.
    """
    off, before = (
        float(target.metric.colour_only(target.white * t.xyz[1], t.xyz, target.white * max(t.xyz[1], 1e-6))) for t in (white, was)
    )
    at_an_end = any(control["default"] in (control.get("min"), control.get("max")) for control in controls)
    least = AT_AN_END if at_an_end else LEAST_LIGHT
    return bool(white.xyz[1] < least * was.xyz[1]) or off > before + SPOILT * target.metric.weight
