"""What comes before a job adjusts anything: processing off, and light as it is wanted."""

from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.analysis.clipping import may_clip
from fenvik.core.models.palette import palette_for
from fenvik.core.procedures import lights
from fenvik.core.procedures.doubt import agree
from fenvik.core.procedures.samelight import DAYLIGHT, LIFTED
from fenvik.core.procedures.steps import Fraction, OtherLightError, Procedure

if TYPE_CHECKING:
    from fenvik.core.procedures.desk import Desk, Taken
    from fenvik.core.procedures.job import Job

WORTH_LIGHT = 0.02  # of the peak: less growth of it is worth no turn of the light
INSTALLABLE = ("tone", "curves", "matrix", "cube")  # what a job installs
TRIES = 3  # to find out whether anything was installed
OTHER_PEAK = 0.25  # of ln luminance of white
SAME_CODE = 0.003  # fraction of signal: a code is rounded by less
KEPT_ON = ("process.tone-mapping",)  # in SDR it does nothing
# In HDR zones make the black that the mode is watched with: without them nothing dark can be right, and black would be given away.
KEPT_ON_IN_HDR = ("process.dimming",)


def process_off(job: "Job") -> Procedure[None]:
    """Turn off the processing that works on the picture, by the value that the display itself says means off."""
    turned = []
    for control in job.desk.by_role("process"):
        stays = control["role"] in (KEPT_ON_IN_HDR if job.target.is_hdr else KEPT_ON)
        if stays or control.get("off") is None or control["value"] == control["off"]:
            continue
        yield from job.desk.set(control, control["off"])
        turned.append(control["label"])
    if turned:
        # What the display itself says is believed: a switch that was thrown may not hold.
        yield from job.desk.adopt()
        kept = [c["label"] for c in job.desk.by_role("process") if c["label"] in turned and c["value"] != c["off"]]
        off = [label for label in turned if label not in kept]
        if off:
            job.desk.notes.append(f"Turned off before measuring: {', '.join(off)}.")
        if kept:
            job.desk.notes.append(f"Could not be turned off, and works on the picture: {', '.join(kept)}.")
        job.settle((yield from job.desk.greys((100.0, 0.0))))


def bare(job: "Job") -> Procedure[None]:
    """Take away what is installed already, whoever did it: curves are made for the display itself.

    The link tells nobody what is installed. A colour of which each kind of it changes something tells whether anything was.
    """
    desk, takes = job.desk, [what for what in INSTALLABLE if job.takes.get(what)]
    patch, other = (patches[0][1] for patches in list(job.palette.hues.values())[:2])
    before, said = (yield from desk.newest(patch)), list(desk.given)
    if not any(agree(before, t) for t in job.as_found if np.array_equal(t.fraction, before.fraction)):
        before = yield from desk.confirmed(before)  # the processing that was turned off, or a slip
    beside = next((t for t in job.as_found if t.settings == before.settings and shows(t, other)), None)
    for what in takes:
        yield from desk.uninstall(what)
    for _ in range(TRIES):
        # Not held against anything: that it is another light is just what is asked. Twice and in two ways, for one may be a slip.
        is_as_it_was = agree(before, (yield from desk.read(patch))) or agree(before, (yield from desk.read(patch)))
        if not is_as_it_was and beside is not None:
            is_as_it_was = agree(beside, (yield from desk.read(other)))
        if is_as_it_was:
            if said:
                desk.was_bare()
            return
        white, dark = (yield from desk.read((100.0,) * 3)), (yield from desk.read((0.0,) * 3))
        problem = _other_light(desk, before, white, dark)
        if problem is None:
            break
        yield from desk.set_right(problem)
    if not said:
        desk.had_more()
        job.has_lost = True
        desk.notes.append(
            "Something was installed in this mode that Fenvik knows nothing of. It was taken away, for what is installed now is "
            "made for the display itself; it cannot be put back."
        )
    else:
        desk.notes.append(f"What was installed before was taken away first: {', '.join(said)}.")
    job.settle([white, dark])
    if job.target.is_hdr:
        job.palette = palette_for(job.target, job.white, job.black)
        if job.palette.is_shortened:
            yield from job.find_end()


def _other_light(desk: "Desk", before: "Taken", white: "Taken", dark: "Taken") -> OtherLightError | None:
    """Return what happened where light was lost, or came, just when what was installed was taken away.

    What is installed ends about where the display ends, and makes no black lighter.
    """
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


def shows(taken: "Taken", percent: Fraction) -> bool:
    """Return whether a patch of percentages of signal is what was read."""
    return bool(np.abs(taken.fraction - np.array(percent) / 100.0).max() < SAME_CODE)


def light(job: "Job") -> Procedure[None]:
    """Bring white to the luminance that is wanted, and let nothing clip below it."""
    turned = False
    if job.target.curve == "pq" and job.luminance is None:
        yield from _light_to_top(job)
    # In HDR white is where the display ends: that nothing grows there is no clipping that a white level could mend.
    if job.desk.by_role("white-level") and not job.target.is_hdr:
        top = np.array([t.xyz for t in (yield from job.desk.each_once((100.0, 90.0, 80.0)))])
        turned = may_clip(top, job.target) and (yield from lights.lower_white_level(job.desk, job.target))
    if job.luminance is not None:
        turned = (yield from lights.turn_light(job.desk, job.luminance)) or turned
    if turned:
        job.settle((yield from job.desk.greys((100.0, 0.0))))


def _light_to_top(job: "Job") -> Procedure[None]:
    """Turn the light of a PQ mode to its top, where the peak grows by it: the signal itself says how bright things are."""
    control = next((c for c in job.desk.by_role("light") if c["kind"] == "range"), None)
    if control is None or float(control["value"]) >= float(control["max"]):
        return
    yield from job.desk.say("light")
    before, usual = job.white, control["value"]
    yield from job.desk.set(control, control["max"])
    ends = yield from job.desk.greys((100.0, 0.0))
    if float(ends[0].xyz[1]) < (1.0 + WORTH_LIGHT) * before:
        yield from job.desk.set(control, usual)
        return
    job.settle(ends)
    job.palette = palette_for(job.target, job.white, job.black)
    yield from job.find_end()
    grew = f"the peak went from {before:.0f} to {job.white:.0f} cd/m²"
    job.desk.notes.append(f"{control['label']} was turned to its top: {grew}.")


def light_again(job: "Job") -> Procedure[None]:
    """Bring white back to what is wanted: gains that were lowered since took light from it."""
    if job.luminance is None or "light" not in job.steps or not job.desk.by_role("light"):
        return
    white = float((yield from job.desk.read_once(100.0)).xyz[1])
    if abs(white / job.luminance - 1.0) > lights.LIGHT_OFF:
        yield from lights.turn_light(job.desk, job.luminance)
