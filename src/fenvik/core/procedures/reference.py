"""The corrected meter held against the reference in between and at the end: where they disagree, it is corrected anew.

A meter that was bumped, or that warmed, tells of another display from then on. What it read before counts as it was; colours that
it may have looked at since are looked at again, and the greys go on.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.measure.believed import MOST_APART
from fenvik.core.measure.correction_patches import AGAIN
from fenvik.core.procedures import colours, giving, trusted
from fenvik.core.procedures.correcting import correct
from fenvik.core.procedures.greys import Greys
from fenvik.core.procedures.steps import BudgetError, Fraction, Procedure
from fenvik.core.procedures.taken import Taken
from fenvik.core.signal.patches import Patch
from fenvik.core.types import Floats

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

# Between the reference and the corrected meter, of an error (CIEDE2000, ΔE ITP): less is the noise of both.
DISAGREE, DISAGREE_IN_HDR = 0.8, 1.7
IN_THE_MIDDLE, MOST_CHECKED = 0.5, 3  # of the range that is judged
FOR_GREYS_ANEW = 16  # readings: what curves are made from, and the peak
FOR_COLOURS_ANEW = 24
MOST_ANEW = 3  # times in one place that a correction is made anew
SELDOM = 25  # readings after which the meter may have changed
WHITE: Fraction = (100.0, 100.0, 100.0)
BRIGHT = 0.6  # of the range that is judged: a grey from there up tells as much of a correction as white does


@dataclass(frozen=True)
class Renewed:
    """A correction was made anew: the one (3, 3) ``before`` it, and how many readings that one is right of."""

    before: Floats
    since: int


def patches_of(job: "Job") -> list[Patch]:
    """Return what the meter is corrected by: in HDR full P3 colours, beside a grey of their own light.

    At full drive a display's end is read, and not its colours: white is then less than its parts together.
    """
    if not job.target.is_hdr:
        return list(job.correction)
    light = job.palette.white_of_colours
    percent = dict(zip(("red", "green", "blue"), job.palette.full, strict=False)) | {"white": light, AGAIN: light}
    return [replace(patch, percent=percent.get(patch.label, patch.percent)) for patch in job.correction]


def first_comparison(job: "Job") -> tuple[list[Patch], dict[str, Floats]]:
    """Return the patches of the first correction, and by label what the meter, uncorrected, has given of them, XYZ (3,) in cd/m².

    Where nothing had to be turned off, the display stands as it was found: the meter has read it all. White is not read again at
    the end then, where it gave the same before and after everything else that was found.
    """
    back = np.eye(3) if job.in_force is None else np.linalg.inv(job.in_force)
    read: dict[str, list[Floats]] = {}
    patches = patches_of(job)
    for patch in patches:
        read[patch.label] = [back @ t.xyz for t in job.desk.just_read_all() if t.shows(patch.percent)]
    whites = np.array(read["white"]).reshape(-1, 3)
    is_steady = len(whites) > 1 and bool((whites.max(axis=0) <= (1.0 + MOST_APART) * whites.min(axis=0)).all())
    just_read = {label: each[0] for label, each in read.items() if each and label != AGAIN}
    if is_steady:
        just_read["white"] = whites.mean(axis=0)
    return [patch for patch in patches if patch.label != AGAIN or not is_steady], just_read


def hold_between(job: "Job", *, goes_on: bool = False) -> Procedure[None]:
    """Hold the corrected meter against the reference where that was not done of late, on what the meter has just read anyway."""
    if not job.lost and job.desk.spent >= job.compared + SELDOM:
        yield from hold(job, [_just_read(job)], goes_on=goes_on)


def _just_read(job: "Job") -> Fraction:
    """Return in percent the brightest grey that was read since anything was last turned; white where none is bright."""
    bright = [t for t in job.desk.just_read_all() if t.is_grey and t.fraction.min() >= BRIGHT * job.palette.top]
    if not bright:
        return WHITE
    red, green, blue = (100.0 * float(v) for v in max(bright, key=lambda t: float(t.fraction.min())).fraction)
    return red, green, blue


def hold(job: "Job", patches: Sequence[Fraction], *, goes_on: bool = False) -> Procedure[None]:
    """Hold the corrected meter against the reference on some patches; where they disagree, correct it anew and go on.

    Until they agree: what is adjusted anew takes readings, and in the middle of those a meter may change back. ``goes_on``: what
    follows adjusts anyway.
    """
    earlier: Renewed | None = None
    for _ in range(MOST_ANEW):
        before = None if job.corrected is None else job.corrected.matrix
        since = yield from _corrected_anew(job, patches, earlier)
        if since is None or goes_on:
            return
        assert before is not None
        earlier = Renewed(before, since)
        yield from _adjust_again(job, since)


def _corrected_anew(job: "Job", patches: Sequence[Fraction], earlier: Renewed | None) -> Procedure[int | None]:
    """Return how many readings were taken before the meter changed; None where it and the reference agree.

    ``earlier``: the correction that was made anew just before this one.
    """
    before = None if job.corrected is None else job.corrected.matrix
    if before is None or job.lost:
        return None
    desk, is_installed = job.desk, job.installer is not None and bool(job.desk.given)
    limit = DISAGREE_IN_HDR if job.target.is_hdr else DISAGREE
    off = yield from _apart(job, patches, limit)
    if off is None:
        return None
    is_last = len(patches) > 1
    where = "on what is left" if is_last else "in between"
    said = f"The reference was read again {where}: it and the corrected meter are up to {off:.1f} apart"
    if off <= limit:
        job.agreed = True
        if is_last:
            desk.notes.append(f"{said}.")
        return None
    if (yield from trusted.it_has_changed(job, limit)):
        job.lost = "The reference gives another light than when the meter was corrected by it, and the meter does not."
        desk.notes.append(f"{said}. {job.lost} The correction stands, and nothing is held against the reference any more.")
        return None
    anew = yield from correct(patches_of(job), job.black, is_installed=is_installed)
    if anew.matrix is None:
        desk.notes += [f"{said}.", *anew.notes, "The correction that was made before stands."]
        return None
    job.corrected = anew
    trusted.believe(job, anew.sides["white"][0].percent)
    desk.notes += [f"{said}, so the correction was made anew and everything is looked at through it.", *anew.notes]
    since = 0
    if job.balance is not None and job.balance.model is not None:
        # What was read before the meter changed is right as it is, what is found among it.
        since, before = _when(job, job.balance, anew.matrix, before, earlier)
    yield from desk.look_through(anew, job.as_found, job.untouched, instead_of=before, since=since)
    return since


def checked(job: "Job") -> list[Fraction]:
    """Return what both meters are held against each other by in the end: white, a grey in the middle, a skin tone, of the proof."""
    greys = [percent for percent in job.proof if len(set(percent)) == 1]
    top = 100.0 * job.palette.top
    middle = min(greys, key=lambda percent: abs(percent[0] - IN_THE_MIDDLE * top))
    return [job.proof[0], middle, *(percent for percent in job.proof if percent in job.palette.skins.values())][:MOST_CHECKED]


def witness(job: "Job") -> Procedure[list[Taken]]:
    """Read what both meters are held against each other by with the reference alone: it is believed where the meter is not."""
    made = []
    for percent in checked(job):
        xyz = yield from trusted.by_reference(job, percent)
        if job.lost:
            return []
        if xyz is not None:
            made.append(Taken(np.array(percent) / 100.0, xyz, job.desk.settings))
    return made


def _apart(job: "Job", patches: Sequence[Fraction], limit: float) -> Procedure[float | None]:
    """Return the error of the corrected meter beside the reference on the patch where it is most; None where that tells nothing.

    Where it is above the limit, both have looked twice.
    """
    offs = {}
    for percent in patches:
        seen = yield from check(job, percent)
        if seen is None:
            continue  # it is too bright for the reference, unless that is lost
        offs[percent] = trusted.apart(job, *seen), seen[0]
    if job.lost or not offs:
        return None
    for percent in sorted(offs, key=lambda percent: -offs[percent][0]):
        off, told = offs[percent]
        if off <= limit:
            break
        sure = yield from trusted.is_sure(job, percent, told, limit)
        if sure is None:
            return None
        meter = yield from _of_meter(job, percent, anew=True)
        offs[percent] = min(off, trusted.apart(job, sure, meter)), sure
        if offs[percent][0] > limit:
            break
    return max(off for off, _ in offs.values())


def check(job: "Job", percent: Fraction) -> Procedure[tuple[Floats, Floats] | None]:
    """Return XYZ (3,) in cd/m² of a patch as it stands, by the reference and by the corrected meter; None where one sees nothing.

    What the meter has just read it is not asked again; what it reads for this is of use to the rest of the job.
    """
    meter = yield from _of_meter(job, percent)
    told = yield from trusted.by_reference(job, percent, float(meter[1]))
    job.compared = job.desk.spent
    return None if told is None else (told, meter)


def _of_meter(job: "Job", percent: Fraction, *, anew: bool = False) -> Procedure[Floats]:
    just = None if anew else job.just_read(percent)
    if just is None:
        job.desk.budget = max(job.desk.budget, job.desk.spent + 1)  # it is never saved on
        just = (yield from job.desk.reads([percent]))[0]
    return just.xyz


def _when(job: "Job", greys: Greys, anew: Floats, before: Floats, earlier: Renewed | None) -> tuple[int, Floats]:
    """Return how many readings were taken before the meter changed, and the correction (3, 3) through which they are seen.

    A meter may change in the middle of the very readings that a correction is made of: that one is right of nothing. Where all
    greys are explained better as if it had never been, they are seen as before it.
    """
    since, unlikely = greys.changed_at(np.asarray(anew @ np.linalg.inv(before)))
    if earlier is None:
        return since, before
    kept = list(job.desk.taken), list(job.as_found)
    back = earlier.before @ np.linalg.inv(before)
    for seen in (job.desk.taken, job.as_found):
        if earlier.since < len(seen):
            right = earlier.since if seen is job.desk.taken else 0
            seen[right:] = [replace(t, xyz=np.asarray(back @ t.xyz)) for t in seen[right:]]
    at_once, less = greys.changed_at(np.asarray(anew @ np.linalg.inv(earlier.before)))
    if less < unlikely:
        return at_once, earlier.before
    job.desk.taken[:], job.as_found[:] = kept
    return since, before


def _adjust_again(job: "Job", since: int) -> Procedure[None]:
    """Adjust what the meter that had changed after so many readings has spoilt."""
    if _colours_may_be_spoilt(job, since):
        _allow(job, FOR_COLOURS_ANEW)
        yield from _as_far_as_allowed(job, colours.look_again(job.desk, job.target, job.hold(), job.hues))
    if job.balance is not None:
        _allow(job, FOR_GREYS_ANEW)
        yield from _as_far_as_allowed(job, job.balance.go_on())
    if job.installer is not None:
        # A cube as much as curves, and each stands on the other.
        yield from _as_far_as_allowed(job, giving.anew(job))


def _as_far_as_allowed(job: "Job", part: Procedure[None]) -> Procedure[None]:
    try:
        yield from part
    except BudgetError as spent:
        if job.desk.spent < job.desk.budget:
            raise  # it was the time that ended
        job.desk.notes.append(f"{spent} What was reached by then is kept.")


def _colours_may_be_spoilt(job: "Job", since: int) -> bool:
    """Return whether a colour was looked at after the meter changed, or after the last grey that was read before that."""
    last = max((at for hue in job.hues for at in hue.looked), default=-1)
    greys = (when for when, t in enumerate(job.desk.taken[:since]) if np.ptp(t.fraction) == 0)
    return last >= 0 and not any(when > last for when in greys)


def _allow(job: "Job", readings: int) -> None:
    """Let so many readings be taken, whatever was allowed: without them nothing that was adjusted is worth anything."""
    more = readings - max(job.desk.budget - job.desk.spent, 0)
    if more > 0:
        job.desk.budget = max(job.desk.budget, job.desk.spent) + more
        job.desk.notes.append(f"Up to {more} readings more than were allowed were taken for that.")

