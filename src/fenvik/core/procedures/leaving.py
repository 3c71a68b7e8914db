"""What a job leaves: read like what was found, and put back, whole or in part, where it is no better."""

from typing import TYPE_CHECKING

from fenvik.core.procedures import lights
from fenvik.core.procedures.samelight import OF_COLOUR
from fenvik.core.procedures.scoring import parts_of, score, worse_colours
from fenvik.core.procedures.steps import Procedure

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

LEFT = "as left"  # what is said when what is left is read
MANY_RECALLED = 8  # readings


def look_left(job: "Job") -> Procedure[None]:
    """Read what is left; where it is no better than what was found, put everything back."""
    yield from job.desk.say(LEFT)
    yield from job.desk.look()
    # Kept back for it; where the display moves in the middle of it, it is read once more, whatever was allowed.
    job.desk.budget = max(job.desk.budget, job.desk.spent) + 3 * len(job.proof)
    recalled = job.desk.recalled
    job.as_left = yield from job.desk.reads(job.proof)
    if job.balance is not None and job.desk.recalled > recalled + MANY_RECALLED:
        # Only what is left has shown that the greys were adjusted in another light.
        yield from job.balance.go_on()
        yield from job.desk.say(LEFT)
        job.as_left = yield from job.desk.reads(job.proof)
    elif job.installer is not None and job.desk.recalled > recalled + MANY_RECALLED:
        yield from job.install_anew()
        yield from job.desk.say(LEFT)
        job.as_left = yield from job.desk.reads(job.proof)
    if job.luminance is not None and "light" in job.steps:
        white = next(float(t.xyz[1]) for t in job.as_left if (t.fraction == 1.0).all())
        job.desk.notes += [said] if (said := lights.where_it_ended(job.desk, white, job.luminance)) else []
    if job.desk.slips:
        several = "1 reading was" if job.desk.slips == 1 else f"{job.desk.slips} readings were"
        job.desk.notes.append(f"{several} not confirmed by a second and a third, and thrown away.")
    is_worse = score(job.as_left, job.target) > score(job.as_found, job.target)
    if is_worse and job.has_lost:
        job.desk.notes.append("What is left is no better than what was found. What had been installed then is gone, so it is kept.")
    elif is_worse and not (yield from _keep_what_is_better(job)):
        job.desk.notes.append("What was left was no better than what was found, so every control was put back.")
        yield from job.put_back()
        job.restored = True
        job.as_left = list(job.as_found)  # the display stands as it was read then
    elif "colour" in job.steps:
        worse = worse_colours(job.as_found, job.as_left, job.target, job.palette)
        if worse:
            told = ", ".join(f"{name} from {was:.1f} to {now:.1f}" for name, was, now in worse)
            job.desk.notes.append(f"Worse than found: {told}. Everything else got better or stayed.")


def _keep_what_is_better(job: "Job") -> Procedure[bool]:
    """Put back the greys or the colours alone, where the others got better and readings can prove it; return whether."""
    found, left = parts_of(job.as_found, job.target), parts_of(job.as_left, job.target)
    better = [name for name in found if left[name] < found[name]]
    # What is installed for greys and for colours hangs together.
    if len(better) != 1 or job.desk.has_installed or job.desk.spent + len(job.proof) > job.total:
        return False
    colours = {c["id"] for role in OF_COLOUR for c in job.desk.by_role(role)}
    back = {name: value for name, value in job.desk.found.items() if (name in colours) == (better[0] == "greys")}
    yield from job.desk.put(back)
    again = yield from job.desk.reads(job.proof)
    if score(again, job.target) > score(job.as_found, job.target):
        return False
    job.as_left = again
    worse = "colours" if better[0] == "greys" else "greys"
    job.desk.notes.append(f"The {worse} were no better than found, so their controls were put back; the rest is kept.")
    return True
