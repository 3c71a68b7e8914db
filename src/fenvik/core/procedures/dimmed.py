"""Light that is wanted in HDR: what it costs in PQ, and by what the rest is judged in HLG.

PQ says the luminance of every grey. Some displays bring their peak down alone by their light; most bring every grey down with it,
and what that takes no point of a menu gives back. HLG is relative to the peak: a lower one has a system gamma of its own, and
colours that were within reach may be so no more. So what is left is held against what was found beside the same light.
"""

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.models.palette import palette_for
from fenvik.core.procedures import lights
from fenvik.core.procedures.scoring import white_of
from fenvik.core.procedures.steps import Procedure
from fenvik.core.procedures.taken import Taken

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

OF_WANTED = 0.25  # of the white that is wanted: a grey that no end bends, before or after
WORSE = 0.15  # of ln luminance, by which a grey may move away from what is wanted: points bring that back
ANOTHER_PEAK = 0.1  # of ln luminance of white: with less everything is as it was found
ALIKE = 0.05  # of ln luminance: how differently the light may take of a grey and of white, and yet take of everything alike
IN_HLG = 60.0  # percent of signal: a grey that is read anyway
DIFFUSE = 203.0  # cd/m² of the film's white, BT.2408


def bring_to(job: "Job", luminance: float) -> Procedure[bool]:
    """Turn the light to the white that is wanted in HDR, in cd/m²; return whether anything stays turned."""
    if job.target.curve == "pq":
        return (yield from _in_pq(job, luminance))
    whole, before = job.whole, (yield from job.desk.read_once(IN_HLG))
    turned = yield from lights.turn_light(job.desk, luminance)
    if turned:
        yield from _beside_another_peak(job, IN_HLG, before, whole)
    return turned


def _in_pq(job: "Job", luminance: float) -> Procedure[bool]:
    """Turn it, unless that takes the light of every grey: then leave it, and say how a dimmer picture is had."""
    if job.by == "install" and (job.takes.get("curves") or job.takes.get("cube")):
        return (yield from lights.turn_light(job.desk, luminance))  # what is installed gives back what it takes
    level = round(100.0 * float(job.target.fraction(OF_WANTED * min(luminance, job.white), job.white, job.black)), 2)
    before, found = (yield from job.desk.read_once(level)), job.desk.settings
    if not (yield from lights.turn_light(job.desk, luminance)):
        return False
    after = yield from job.desk.read_once(level)
    wanted, was, now = float(job.target.xyz(before.fraction, job.white, job.black)[1]), float(before.xyz[1]), float(after.xyz[1])
    if min(wanted, was, now) <= 0 or abs(np.log(now / wanted)) <= abs(np.log(was / wanted)) + WORSE:
        return True
    yield from job.desk.put(found)
    job.luminance = None
    white = (job.target.diffuse or DIFFUSE) * min(now / was, 1.0)
    said = f"With the light at {luminance:.0f} cd/m² a grey that is wanted at {wanted:.3g} goes from {was:.3g} to {now:.3g}"
    job.desk.notes.append(
        f"{said}, and PQ says each by itself: the light was left as it is. A dimmer picture is had by a reference white, "
        f"{white:.0f} cd/m² here, to which every light is wanted in proportion."
    )
    return False


def _beside_another_peak(job: "Job", level: float, before: Taken, whole: float) -> Procedure[None]:
    """See what is found beside another peak; ``whole``: the one that was found, in cd/m²; ``before``: a grey of a level at that.

    Where the light takes as much of a grey as of white it takes as much of everything; else all of it is read once more.
    """
    job.settle((yield from job.desk.greys((100.0, 0.0))))
    less = np.log(job.whole / whole)
    if abs(less) <= ANOTHER_PEAK:
        return
    after = yield from job.desk.read_once(level)
    found, now = job.as_found, job.desk.settings
    if min(after.xyz[1], before.xyz[1]) > 0 and abs(np.log(after.xyz[1] / before.xyz[1]) - less) < ALIKE:
        share = job.whole / white_of(found)
        job.as_found = [replace(t, xyz=share * t.xyz, settings=now) for t in found]
    else:
        job.judged_by = job.palette = palette_for(job.target, job.white, job.black)
        job.as_found = yield from job.desk.reads(job.proof)
    job.untouched = found
