"""What is installed in a mode before a job installs anything: found out, and taken away.

The link tells nobody what is installed. A grey and a colour tell: curves change the one, a cube and a matrix the other.
"""

from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.models.palette import palette_for
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.doubt import agree
from fenvik.core.procedures.samelight import DAYLIGHT, LIFTED
from fenvik.core.procedures.steps import OtherLightError, Procedure, Wait
from fenvik.core.procedures.taken import Taken

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

INSTALLABLE = ("tone", "curves", "matrix", "cube")  # what a job installs
GREY, OTHER_GREY = 60.0, 40.0  # percent of the range that is judged
TRIES = 3  # to find out whether anything was installed
OTHER_PEAK = 0.25  # of ln luminance of white: what is installed ends about where the display ends
GONE_S = 5.0  # after what is installed was taken away, until it is looked whether anything was


def bare(job: "Job") -> Procedure[None]:
    """Take away what is installed already, whoever did it: curves are made for the display itself."""
    desk, said = job.desk, list(job.desk.given)
    grey, other = ((level,) * 3 for level in job.palette.greys((GREY, OTHER_GREY)))
    colour, second = (patches[0][1] for patches in list(job.palette.hues.values())[:2])
    told: list[tuple[Taken, Taken | None]] = []
    for patch, another in ((grey, other), (colour, second)):
        before = yield from desk.newest(patch)
        if not any(agree(before, t) for t in job.as_found if np.array_equal(t.fraction, before.fraction)):
            before = yield from desk.confirmed(before)  # the processing that was turned off, or a slip
        told.append((before, next((t for t in job.as_found if t.settings == before.settings and t.shows(another)), None)))
    for what in INSTALLABLE:
        if job.takes.get(what):
            yield from desk.uninstall(what)
    yield Wait(GONE_S)  # before anything has told how soon that is seen
    for _ in range(TRIES):
        if (yield from _are_as_they_were(desk, told)):
            if said:
                desk.was_bare()
            return
        white, dark = (yield from desk.read((100.0,) * 3)), (yield from desk.read((0.0,) * 3))
        problem = _other_light(desk, told[0][0], white, dark)
        if problem is None:
            break
        yield from desk.set_right(problem)
    if said:
        desk.notes.append(f"What was installed before was taken away first: {', '.join(said)}.")
    else:
        desk.had_more()
        job.has_lost = True
        desk.notes.append(
            "Something was installed in this mode that Fenvik knows nothing of. It was taken away, for what is installed now is "
            "made for the display itself; it cannot be put back."
        )
    job.settle([white, dark])
    if job.target.is_hdr:
        job.palette = palette_for(job.target, job.white, job.black)
        if job.palette.is_shortened:
            yield from job.find_end()


def _are_as_they_were(desk: Desk, told: list[tuple[Taken, Taken | None]]) -> Procedure[bool]:
    """Read patches again; return whether each gives what it did, or another beside it does.

    Nothing is held against what was read before: that it is another light is just what is asked. One reading may be a slip, so
    each is read twice, and what was read before is doubted too.
    """
    for before, beside in told:
        percent = [100.0 * float(v) for v in before.fraction]
        if agree(before, (yield from desk.read(percent))) or agree(before, (yield from desk.read(percent))):
            continue
        if beside is None or not agree(beside, (yield from desk.read([100.0 * float(v) for v in beside.fraction]))):
            return False
    return True


def _other_light(desk: Desk, before: Taken, white: Taken, dark: Taken) -> OtherLightError | None:
    """Return what happened where light was lost, or came, just when what was installed was taken away."""
    there = [t for t in desk.taken if t.settings == before.settings and t is not white and t is not dark]
    was = next((t for t in reversed(there) if t.fraction.min() == 1.0), None)
    if was is not None and abs(np.log(max(float(white.xyz[1]), 1e-6) / float(was.xyz[1]))) > OTHER_PEAK:
        gave = f"White gave {was.xyz[1]:.3g} cd/m² and gives {white.xyz[1]:.3g}"
        return OtherLightError(f"{gave}, more than what is installed changes: has the meter lost its aim?", desk.lit_well, was)
    was = next((t for t in reversed(there) if t.fraction.max() == 0.0), None)
    if was is not None and float(dark.xyz[1]) > LIFTED * max(float(was.xyz[1]), 0.0) + DAYLIGHT:
        gave = f"Black gave {max(float(was.xyz[1]), 0.0):.3g} cd/m² and gives {dark.xyz[1]:.3g}"
        return OtherLightError(f"{gave}: the room has become lighter.", desk.dark_well, was)
    return None
