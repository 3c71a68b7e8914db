"""Whether the reference can be believed: it may be away, covered, unsteady, or bumped since the meter was corrected by it."""

from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.procedures.correcting import OTHERWISE, seen_otherwise
from fenvik.core.procedures.samelight import turned_back
from fenvik.core.procedures.steps import (
    Ask,
    AwayError,
    Fraction,
    LeftOutError,
    Procedure,
    Read,
    RestlessError,
    TooBrightError,
)
from fenvik.core.procedures.taken import Taken
from fenvik.core.types import Floats

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

MOST_CALLS = 3  # times that somebody is called for the same: who says that it is right may be wrong
SEES = 0.02  # share of the light that the meter has seen: with less of it nothing is seen but what leaks in
MOST_TRIES = 3  # readings of a patch by the reference, until two of them agree


def by_reference(job: "Job", percent: Fraction, light: float = 0.0) -> Procedure[Floats | None]:
    """Read a patch with the reference; return XYZ (3,) in cd/m², None where it gives none and nobody sets that right.

    ``light``: the cd/m² that the meter has seen of it. A reference that gives none is not asked again in this run; of a patch that
    has more light than it can read it tells nothing, of others it does.
    """
    said = ""
    for _ in range(MOST_CALLS):
        if job.lost:
            return None
        try:
            _, xyz = yield Read(percent, "reference")
            if xyz[1] > SEES * light:
                return np.asarray(xyz, dtype=np.float64)
            said = "The reference sees no light: something may be before it, or it has lost its aim."
        except LeftOutError as problem:
            said = str(problem)
            break
        except AwayError as problem:
            said = str(problem)
        except TooBrightError:
            return None
        if not (yield Ask(f"{said} Set that right, then go on.")):
            break
    job.lost = said
    job.desk.notes.append(f"{said} The corrected meter could not be held against it any more.")
    return None


def is_sure(job: "Job", percent: Fraction, first: Floats, limit: float) -> Procedure[Floats | None]:
    """Return XYZ (3,) in cd/m² of a patch on which two readings of the reference agree; None where no two do, or it gives none.

    ``first``: what it has given already. ``limit``: of an error, how far two readings may be apart. It is asked where it says
    otherwise than the meter: one reading that slipped would have everything corrected anew. Raises RestlessError where no two
    agree and the correction was never confirmed: then that is no better than those readings.
    """
    read = [first]
    for _ in range(MOST_TRIES - 1):
        now = yield from by_reference(job, percent, float(first[1]))
        if now is None:
            return None
        for before in read:
            if apart(job, before, now) <= limit:
                return np.asarray((before + now) / 2.0)
        read.append(now)
    job.lost = "The reference does not give the same of one patch twice."
    if not job.agreed:
        raise RestlessError(f"{job.lost} So nothing that the meter has read through its correction can be believed.")
    job.desk.notes.append(f"{job.lost} Nothing is corrected by it any more.")
    return None


def apart(job: "Job", one: Floats, other: Floats) -> float:
    """Return the error of one XYZ (3,) in cd/m² beside another, luminance included."""
    return float(job.target.metric.whole(one[None], other[None], job.target.white * job.whole)[0])


def it_has_changed(job: "Job", limit: float) -> Procedure[bool]:
    """Return whether the reference is what has changed since the meter was corrected by it, and the meter is as it was.

    Both look once more at white, with everything turned back to how it stood then: whichever gives another light than it gave
    has changed. ``limit``: of an error, what is more than noise. Where the display has changed both have, and the meter is
    corrected anew; so it is where a reading that it was corrected by may have slipped, and was not confirmed since. It is not
    asked of a person to turn everything back.
    """
    made, stood = job.corrected, job.stood
    if made is None or made.matrix is None or stood is None or job.desk.by_hand:
        return False
    if not job.agreed and seen_otherwise(made.sides) > OTHERWISE:
        return False
    patch, (was_reference, was_meter) = made.sides["white"]
    seen = yield from turned_back(job.desk, stood, _of_both(job, patch.percent))
    if seen is None:
        return True
    reference, meter = seen
    moved = apart(job, made.matrix @ was_meter, made.matrix @ meter)
    return moved <= limit < apart(job, was_reference, reference)


def _of_both(job: "Job", percent: Fraction) -> Procedure[tuple[Floats, Floats] | None]:
    reference = yield from by_reference(job, percent)
    if reference is None:
        return None
    _, meter = yield Read(percent, "meter")
    return reference, np.asarray(meter, dtype=np.float64)


def believe(job: "Job", percent: Fraction) -> None:
    """Keep how the display stands while the meter is corrected: ``percent`` is what its white was shown by."""
    job.agreed = False
    job.stood = Taken(np.asarray(percent) / 100.0, np.zeros(3), job.desk.settings)
