"""What a job installs, in its order: the display bare and ending as it shall, curves and a cube, and all of it anew."""

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.models.palette import palette_for
from fenvik.core.models.points import MAY_COST, held
from fenvik.core.procedures import defaults, preparing
from fenvik.core.procedures.already import bare
from fenvik.core.procedures.doubt import INSTALLED
from fenvik.core.procedures.installing import Installer
from fenvik.core.procedures.steps import Procedure, RefusedError

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

FOR_ALL_ANEW = 75  # readings: what curves and a cube are made from
MOST_INSTALLED = 3  # times that everything is installed anew


def begin(job: "Job") -> Procedure[None]:
    """Take away what is installed already, and let the display end as the target does, before it is read how it ends."""
    if job.by == "install":
        yield from _unbent(job)
    yield from bare(job)
    job.bare = job.desk.settings[INSTALLED]
    yield from _end_as_wanted(job)


def _unbent(job: "Job") -> Procedure[None]:
    """Put points and colour management to their defaults: curves and a cube do what these are for, and cannot mend their bumps."""
    desk = job.desk
    turned = defaults.turned(desk, defaults.BENDS)
    if not turned:
        return
    for control in turned:
        yield from desk.set(control, control["default"])
    several = "a control of it was" if len(turned) == 1 else f"{len(turned)} controls of it were"
    desk.notes.append(f"What the menu does point by point is left to what is installed: {several} put to the default.")
    job.settle((yield from desk.greys((100.0, 0.0))))
    if job.target.is_hdr:
        yield from preparing.ends_elsewhere(job)


def _end_as_wanted(job: "Job") -> Procedure[None]:
    job.installer = Installer(job.desk, job.target, job.palette, job.white, job.black, job.takes, job.whole)
    job.installer.more = job.may_cost - MAY_COST
    if (yield from job.installer.tone()):
        ends = yield from job.desk.greys((100.0, 0.0))
        if (yield from job.installer.cuts_off_less(float(ends[0].xyz[1]))):
            ends = yield from job.desk.greys((100.0, 0.0))
        job.settle(ends)
        # What a target ends below by itself is not lost.
        job.white, job.installer.found = (
            min(most, float(job.target.xyz(np.ones(3), most, job.black)[1])) for most in (job.white, job.installer.found)
        )
        job.palette = replace(palette_for(job.target, job.white, job.black), roll=None)
        job.installer.palette, job.installer.white, job.installer.black = job.palette, job.white, job.black


def beside_controls(job: "Job") -> Procedure[None]:
    """Take white as the menu has left it: in HLG every light is wanted beside that, and what somebody wanted of it is not lost."""
    assert job.installer is not None
    if job.target.curve == "pq":
        return  # the peak is read with the first curves, and what it was found to be still counts
    white = yield from job.desk.read_once(100.0)
    job.settle([white, *(t for t in job.desk.taken if not t.fraction.any())])
    if job.untouched:
        job.installer.found = job.whole
    # What the menu has taken already is part of what white may cost.
    least = min((1.0 - job.may_cost) * job.installer.found, job.white)
    job.installer.white = job.white = max(held(white.xyz, job.target, job.may_cost), least)


def install(job: "Job") -> Procedure[None]:
    """Install curves for the greys and a cube or a matrix for the colours, each read and made better."""
    for left in reversed(range(MOST_INSTALLED)):
        recalled, spent = job.desk.recalled, job.desk.spent
        yield from _once(job, recalled)
        if job.desk.recalled == recalled or not left:
            break
        # Those that were thrown away are not counted.
        yield from _take_away(job, job.desk.spent - spent)
    if job.desk.given:
        job.desk.notes.append(f"Installed: {', '.join(job.desk.given)}.")


def anew(job: "Job") -> Procedure[None]:
    """Install everything anew, where it turns out late that it was made in another light, or by a meter that had changed."""
    yield from _take_away(job, FOR_ALL_ANEW)
    yield from install(job)


def _take_away(job: "Job", more: int) -> Procedure[None]:
    """Take away what was made of readings of another light, in part at least; so many readings more are allowed."""
    yield from job.desk.put({INSTALLED: job.bare})
    job.desk.budget = max(job.desk.budget, job.desk.spent) + max(more, 0)
    job.desk.notes += [
        "What had been installed by then was made of that: it was taken away and made anew.",
        f"Up to {max(more, 0)} readings more than were allowed were taken for that.",
    ]
    yield from _end_as_wanted(job)


def _once(job: "Job", recalled: int) -> Procedure[None]:
    """Install, until readings turn out to be of another light."""
    assert job.installer is not None
    greys, colours = "white" in job.steps or "grey" in job.steps, "colour" in job.steps
    for step, is_wanted in (
        (job.installer.greys, greys), (job.installer.colours, colours), (job.installer.greys_again, True),
        (job.installer.hold_colours, True),
    ):  # fmt: skip
        if is_wanted and job.desk.recalled == recalled:
            yield from _with_what_is_taken(job, step)


def _with_what_is_taken(job: "Job", step: Callable[[], Procedure[None]]) -> Procedure[None]:
    """Do a step of installing; where the display refuses something after all, without that: a matrix for a cube."""
    assert job.installer is not None
    while True:
        try:
            yield from step()
        except RefusedError as refusal:
            job.installer.does_without(refusal)
        else:
            return
