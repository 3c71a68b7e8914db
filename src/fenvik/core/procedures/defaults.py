"""What somebody has turned before and left far off goes to its defaults first: a job learns from how a display is made.

A curve is smooth as its maker made it. What one guesses at twenty points, or copies from another display, bends it at each, and no
model tells that from how it was found.
"""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from fenvik.core.procedures import preparing, scoring
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import Procedure

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


def turned(desk: Desk, roles: Sequence[str]) -> list[dict[str, Any]]:
    """Return the controls of some roles that are not where the display's maker has put them."""
    return [c for role in roles for c in desk.by_role(role) if c.get("default") is not None and c["value"] != c["default"]]


def begin_with(job: "Job") -> Procedure[None]:
    """Put to its defaults what was turned, and is far off, of what the job adjusts by the menu; what it does is learned anew."""
    desk, off = job.desk, scoring.parts_of(job.as_found, job.target)
    said: list[str] = []
    several: list[dict[str, Any]] = []
    for step, roles, name, part, far in FAR:
        if step in job.steps and off.get(part, 0.0) > far * job.target.metric.weight and (there := turned(desk, roles)):
            several += there
            said.append(name)
    for control in several:
        yield from desk.set(control, control["default"], as_far_as_it_lets=True)
    if not any(control["value"] == control["default"] for control in several):
        return
    far_off = " and ".join(f"{part} {off[part]:.1f}" for part in ("greys", "colours") if part in off)
    desk.notes.append(f"{', '.join(said).capitalize()} had been turned before, and {far_off} off: they begin at their defaults.")
    if not desk.by_hand:
        yield from desk.following.wait_long(desk.settings, preparing.OFF_S)
    job.settle((yield from desk.greys((100.0, 0.0))))
    if job.target.is_hdr:
        yield from preparing.ends_elsewhere(job)
