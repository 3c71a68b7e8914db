"""What comes before a job adjusts anything: processing off, and light as it is wanted."""

from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.analysis.clipping import may_clip, surely_grows
from fenvik.core.models.palette import palette_for
from fenvik.core.procedures import defaults, dimmed, lights, scoring
from fenvik.core.procedures.steps import Procedure, TooBrightError

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

OFF_S = 4.0  # until what was turned off no longer works on the picture, before anything tells how soon a turn is seen
WORTH_LIGHT = 0.02  # of the peak: less growth of it is worth no turn of the light
FOUND_AT, WHITE = (100.0, 80.0, 60.0), (100.0, 100.0, 100.0)  # percent of signal: greys of what is found, and what is seen anew
AS_IT_WAS = 0.02  # of ln of each of X, Y and Z of white
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
        if not job.desk.by_hand:
            yield from job.desk.following.wait_long(job.desk.settings, OFF_S)
        if not job.correction:
            job.settle((yield from job.desk.greys((100.0, 0.0))))
            return
        dark = (yield from job.desk.greys((0.0,)))[0]  # white is read by both meters anyway
        job.black = max(float(dark.xyz[1]), 0.0)


def begin_at_defaults(job: "Job") -> Procedure[None]:
    """Put to its defaults what was turned, and is far off, of what the job adjusts by the menu; what it does is learned anew."""
    desk, off = job.desk, scoring.parts_of(job.as_found, job.target)
    far_off = defaults.far_off(desk, off, job.steps, job.target, job.goal)
    several = [control for controls in far_off.values() for control in controls]
    for control in several:
        yield from desk.set(control, control["default"], as_far_as_it_lets=True)
    if not any(control["value"] == control["default"] for control in several):
        return
    if not desk.by_hand:
        yield from desk.following.wait_long(desk.settings, OFF_S)
    ends = yield from desk.greys((100.0, 0.0))
    said = f"{', '.join(far_off).capitalize()} had been turned before, and " + " and ".join(f"{k} {v:.1f}" for k, v in off.items())
    if defaults.are_none(several, job.target, next(t for t in job.as_found if t.shows(WHITE)), ends[0]):
        for control in several:
            yield from desk.set(control, desk.found[control["id"]], as_far_as_it_lets=True)
        desk.notes.append(f"{said} off; at what the display calls their defaults white is worse: they stay as they were.")
        ends = yield from desk.greys((100.0, 0.0))
    else:
        desk.notes.append(f"{said} off: they begin at their defaults.")
    job.settle(ends)
    if job.target.is_hdr:
        yield from ends_elsewhere(job)


def light(job: "Job") -> Procedure[None]:
    """Bring white to the luminance that is wanted, and let nothing clip below it."""
    turned = False
    # In HDR white is where the display ends: that nothing grows there is no clipping that a white level could mend.
    if job.desk.by_role("white-level") and not job.target.is_hdr and not _grew_when_found(job):
        top = np.array([t.xyz for t in (yield from job.desk.each_once((100.0, 90.0, 80.0)))])
        turned = may_clip(top, job.target) and (yield from lights.lower_white_level(job.desk, job.target))
    if job.luminance is not None:
        bring = dimmed.bring_to(job, job.luminance) if job.target.is_hdr else lights.turn_light(job.desk, job.luminance)
        turned = (yield from bring) or turned
    if job.target.curve == "pq" and job.luminance is None:
        yield from _light_to_top(job)
    if turned:
        job.settle((yield from job.desk.greys((100.0, 0.0))))
        if job.target.is_hdr:
            yield from ends_elsewhere(job)


def ends_elsewhere(job: "Job") -> Procedure[None]:
    """See where a display ends whose peak is another now: its roll-off has moved with it."""
    job.palette = palette_for(job.target, job.white, job.black)
    if job.palette.is_shortened:
        yield from job.find_end()


def _grew_when_found(job: "Job") -> bool:
    """Return whether the light was seen to grow up to white when it was found, and white is as it was then."""
    white, *below = (next((t for t in job.as_found if t.shows((level,) * 3)), None) for level in FOUND_AT)
    now = next((t for t in reversed(job.desk.taken) if t.shows(WHITE)), None)
    if white is None or now is None or not all(below):
        return False
    is_as_it_was = bool((np.abs(np.log(np.maximum(now.xyz, 1e-6) / np.maximum(white.xyz, 1e-6))) < AS_IT_WAS).all())
    return is_as_it_was and surely_grows(np.array([t.xyz for t in (white, *below) if t]), np.array(FOUND_AT), job.target)


def _light_to_top(job: "Job") -> Procedure[None]:
    """Turn the light of a PQ mode to its top, where the peak grows by it: the signal itself says how bright things are."""
    control = next((c for c in job.desk.by_role("light") if c["kind"] == "range"), None)
    if control is None or float(control["value"]) >= float(control["max"]):
        return
    yield from job.desk.say("light")
    before, usual = job.white, control["value"]
    yield from job.desk.set(control, control["max"])
    try:
        ends = yield from job.desk.greys((100.0, 0.0))
    except TooBrightError as problem:
        yield from job.desk.set(control, usual)
        job.desk.notes.append(f"{control['label']} was left as it is: at its top the meter cannot read the light ({problem}).")
        return
    if float(ends[0].xyz[1]) < (1.0 + WORTH_LIGHT) * before:
        yield from job.desk.set(control, usual)
        return
    job.settle(ends)
    yield from ends_elsewhere(job)
    grew = f"the peak went from {before:.0f} to {job.white:.0f} cd/m²"
    job.desk.notes.append(f"{control['label']} was turned to its top: {grew}.")


def light_again(job: "Job") -> Procedure[None]:
    """Bring white back to what is wanted: gains that were lowered since took light from it."""
    if job.luminance is None or "light" not in job.steps or not job.desk.by_role("light"):
        return
    white = float((yield from job.desk.read_once(100.0)).xyz[1])
    if abs(white / job.luminance - 1.0) > lights.LIGHT_OFF:
        yield from lights.turn_light(job.desk, job.luminance)
