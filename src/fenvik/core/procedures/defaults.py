"""What somebody has turned before and left far off goes to its defaults first: a job learns from how a display is made.

A curve is smooth as its maker made it. What one guesses at twenty points, or copies from another display, bends it at each, and no
model tells that from how it was found.
"""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from fenvik.core.procedures import preparing, scoring
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import Procedure
from fenvik.core.procedures.taken import Taken

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

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


def _is_spoilt(job: "Job", several: Sequence[dict[str, Any]], white: Taken) -> bool:
    """Return whether white at the defaults is far from any that a maker would ship: a menu may name others than it has."""
    was = next(t for t in job.as_found if (t.fraction == 1.0).all())
    off, before = (
        float(job.target.metric.colour_only(job.target.white * t.xyz[1], t.xyz, job.target.white * max(t.xyz[1], 1e-6)))
        for t in (white, was)
    )
    at_an_end = any(control["default"] in (control.get("min"), control.get("max")) for control in several)
    least = AT_AN_END if at_an_end else LEAST_LIGHT
    return bool(white.xyz[1] < least * was.xyz[1]) or off > before + SPOILT * job.target.metric.weight


def begin_with(job: "Job") -> Procedure[None]:
    """Put to its defaults what was turned, and is far off, of what the job adjusts by the menu; what it does is learned anew."""
    desk, off = job.desk, scoring.parts_of(job.as_found, job.target)
    said: list[str] = []
    several: list[dict[str, Any]] = []
    for step, roles, name, part, far in FAR:
        is_far = off.get(part, 0.0) > max(far * job.target.metric.weight, job.goal)
        if step in job.steps and is_far and (there := turned(desk, roles)):
            several += there
            said.append(name)
    for control in several:
        yield from desk.set(control, control["default"], as_far_as_it_lets=True)
    if not any(control["value"] == control["default"] for control in several):
        return
    if not desk.by_hand:
        yield from desk.following.wait_long(desk.settings, preparing.OFF_S)
    ends = yield from desk.greys((100.0, 0.0))
    far_off = " and ".join(f"{part} {off[part]:.1f}" for part in ("greys", "colours") if part in off)
    turned_before = f"{', '.join(said).capitalize()} had been turned before, and {far_off} off"
    if _is_spoilt(job, several, ends[0]):
        for control in several:
            yield from desk.set(control, desk.found[control["id"]], as_far_as_it_lets=True)
        desk.notes.append(f"{turned_before}; at what the display calls their defaults white is worse: they stay as they were.")
        ends = yield from desk.greys((100.0, 0.0))
    else:
        desk.notes.append(f"{turned_before}: they begin at their defaults.")
    job.settle(ends)
    if job.target.is_hdr:
        yield from preparing.ends_elsewhere(job)
