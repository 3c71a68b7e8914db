"""A whole job on a display, as most tests of hands-free run one."""

from fenvik.core.colour.target import TARGETS
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform

SDR = TARGETS["bt709-bt1886"]


def adjusted(rig, target=SDR, steps=None, *, budget=150, given=None, by_hand=False, **more):
    """Return a job that has been run to its end at a rig."""
    job = Job(Desk(rig.controls, budget=budget, given=given or {}, by_hand=by_hand), target, *([steps] if steps else []), **more)
    perform(job.run(), rig)
    return job
