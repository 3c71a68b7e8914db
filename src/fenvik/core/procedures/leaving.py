"""What a job leaves: read like what was found, and put back, whole or in part, where it is no better."""

from typing import TYPE_CHECKING, Any

from fenvik.core.procedures import giving, lights, reference
from fenvik.core.procedures.following import said_of
from fenvik.core.procedures.misfit import black_is_another, see_that_it_is_the_one_found
from fenvik.core.procedures.outcome import denies
from fenvik.core.procedures.samelight import OF_COLOUR
from fenvik.core.procedures.scoring import errors_of, parts_of, score, white_of, worse_colours
from fenvik.core.procedures.steps import BudgetError, Fraction, OtherLightError, Procedure
from fenvik.core.procedures.taken import Taken

if TYPE_CHECKING:
    from fenvik.core.procedures.job import Job

LEFT = "as left"  # what is said when what is left is read
WORSE_GREYS = 0.1  # of their mean error: less is what readings of a proof differ by
CLEARLY_WORSE_GREYS = 0.5  # of their mean error: what no colours make up for
CLEARLY_WORSE = 1.0  # of an error: a colour that got worse by more is put back to where it was found
MAKES_COLOURS_HARD = 2.0  # of the greys' mean error
MANY_RECALLED = 8  # readings
WORTH_SAYING = 0.02  # of an HDR peak


def look_left(job: "Job") -> Procedure[None]:
    """Read what is left; where it is no better than what was found, put everything back."""
    yield from job.desk.say(LEFT)
    yield from job.desk.look()
    if not job.desk.by_hand:
        yield from job.desk.following.wait_long(job.desk.settings)
    # Kept back for it; where the display moves in the middle of it, it is read once more, whatever was allowed.
    job.desk.budget = max(job.desk.budget, job.desk.spent) + 3 * len(job.proof)
    recalled = job.desk.recalled
    if job.desk.has_installed or black_is_another(job.desk):
        yield from _of_the_display_found(job)
    job.as_left = yield from _proof(job)
    if job.balance is not None:
        yield from job.balance.see_that_it_fits()
    if job.desk.recalled > recalled + MANY_RECALLED and (job.balance is not None or job.installer is not None):
        # Only what is left has shown that it was adjusted in another light.
        yield from _made_right(job)
        yield from job.desk.say(LEFT)
        job.as_left = yield from job.desk.reads(job.proof)
    yield from _take_back_what_is_denied(job)
    tint = _of_a_white_with_a_tint(job)
    if job.luminance is not None and "light" in job.steps:
        # What balance has taken of a light that was reached is said by itself.
        reached = job.installer.found if tint and job.installer is not None else white_of(job.as_left)
        job.desk.notes += [said] if (said := lights.where_it_ended(job.desk, reached, job.luminance)) else []
    job.desk.notes += [said] if (said := _lost_of_its_peak(job)) else []
    job.desk.notes += [tint] if tint else []
    job.desk.notes += [said] if (said := _of_greys_left_alone(job)) else []
    job.desk.notes += said_of(job.desk.following)
    if job.desk.slips:
        several = "1 reading was" if job.desk.slips == 1 else f"{job.desk.slips} readings were"
        job.desk.notes.append(f"{several} not confirmed by a second and a third, and thrown away.")
    is_worse = _is_worse(job, job.as_left)
    if job.witnessed and not is_worse and not job.has_lost and (yield from _is_denied_by_the_reference(job)):
        yield from job.put_back()
        job.restored = True
        job.as_left = list(job.first)
    elif is_worse and job.has_lost:
        job.desk.notes.append("What is left is no better than what was found. What had been installed then is gone, so it is kept.")
    elif is_worse and not (yield from _keep_what_is_better(job)) and not (yield from _keep_light(job)):
        too = ", and what was installed before" if job.desk.given else ""
        yield from _put_all_back(job, f"What was left was no better than what was found, so every control was put back{too}.")
    elif "colour" in job.steps:
        yield from _put_worse_greys_back(job)
        if job.restored:
            return
        yield from _put_worse_colours_back(job)
        worse = worse_colours(job.as_found, job.as_left, job.target, job.proved)
        if worse:
            told = ", ".join(f"{name} from {was:.1f} to {now:.1f}" for name, was, now in worse)
            job.desk.notes.append(f"Worse than found: {told}. Everything else got better or stayed.")


def _put_all_back(job: "Job", why: str) -> Procedure[None]:
    yield from job.put_back()
    job.desk.notes.append(why)
    job.restored = True
    job.as_left = list(job.first)  # the display stands as it was read then


def _is_worse(job: "Job", left: list[Taken]) -> bool:
    """Return whether readings of the proof are worse than found; light that was wanted is worth what two proofs differ by."""
    if job.desk.settings == job.desk.found:
        return False  # nothing was turned: two proofs differ by their noise
    # Beside a white that was found otherwise; where what was found was read beside this one, nothing is to be allowed for it.
    allowed = 2.0 * WORSE_GREYS * job.target.metric.weight if _has_wanted_light(job) and not job.untouched else 0.0
    return score(left, job.target) > score(job.as_found, job.target) + allowed


def _has_wanted_light(job: "Job") -> bool:
    """Return whether a luminance was wanted, and white is clearly nearer to it than it was found."""
    if job.luminance is None or "light" not in job.steps:
        return False
    found, left = (abs(white_of(taken) / job.luminance - 1.0) for taken in (job.first, job.as_left))
    return left < found - lights.LIGHT_OFF


def _keep_light(job: "Job") -> Procedure[bool]:
    """Put everything back but light that was wanted and processing, where that is no worse than found; return whether."""
    stays = {c["id"] for role in ("light", "process") for c in job.desk.by_role(role)}
    back = {name: value for name, value in job.desk.found.items() if name not in stays and job.desk.settings[name] != value}
    if not back or not _has_wanted_light(job) or job.desk.has_installed:
        return False
    if job.desk.spent + len(job.proof) > job.total and not job.untouched:
        return False
    yield from job.desk.put(job.desk.settings | back)
    again = yield from job.desk.reads(job.proof)
    if not job.untouched and _is_worse(job, again):
        return False
    job.as_left = again
    job.desk.notes.append("What was left was no better than what was found, so every control but light was put back.")
    return True


def _is_denied_by_the_reference(job: "Job") -> Procedure[bool]:
    """Say what the reference sees of what was adjusted by a meter that it could not correct; return whether that is worse."""
    now, before = (yield from reference.witness(job)), {tuple(t.fraction): t for t in job.witnessed}
    now = [t for t in now if tuple(t.fraction) in before]
    if not now:
        job.desk.notes.append("The meter was not corrected, and nothing tells whether it is better: every control was put back.")
        return True
    was, is_now = (float(errors_of(taken, job.target).mean()) for taken in ([before[tuple(t.fraction)] for t in now], now))
    seen = f"{len(now)} patches are off by {is_now:.1f} on average, before by {was:.1f}"
    told = f"The meter was not corrected. By the reference {seen}"
    is_worse = is_now > was + WORSE_GREYS * job.target.metric.weight
    job.desk.notes.append(f"{told}, so every control was put back." if is_worse else f"{told}.")
    return is_worse


def _of_the_display_found(job: "Job") -> Procedure[None]:
    """See that what is left was made for the display that was found. Raises OtherLightError where it was not and stays so."""
    try:
        yield from see_that_it_is_the_one_found(job.desk, job.as_found)
    except OtherLightError as problem:
        yield from job.desk.set_right(problem)


def _lost_of_its_peak(job: "Job") -> str:
    """Return what there is to say of a PQ display whose peak is lower than found: its white balance stands behind its roll-off."""
    if job.target.curve != "pq" or job.by == "install" or _has_wanted_light(job):
        return ""
    was, now = white_of(job.as_found), white_of(job.as_left)
    if now >= (1.0 - WORTH_SAYING) * was:
        return ""
    return f"What brings its greys to the standard takes light at the top too: its peak is {now:.0f} cd/m² instead of {was:.0f}."


def _of_a_white_with_a_tint(job: "Job") -> str:
    """Return what there is to say of an HLG display that curves were installed in, and whose peak or white had to give way."""
    if job.target.curve != "hlg" or job.installer is None or not job.installer.is_bent:
        return ""
    was, now = job.installer.found, white_of(job.as_left)
    white = next((t.xyz for t in job.as_left if (t.fraction == 1.0).all()), None)
    if white is None or now <= 0.0:
        return ""
    lights = white @ job.target.inverse_matrix.T
    lacks = float(lights.min()) / was
    off = float(job.target.metric.whole(now * job.target.white[None], white[None], now * job.target.white)[0])
    if off > job.target.tolerance and 1.0 - lacks > job.may_cost:
        name = ("Red", "Green", "Blue")[int(lights.argmin())]
        without = f"Without one it would be {lacks * was:.0f} cd/m² instead of {now:.0f}"
        return (
            f"{name} has too little light at the peak, so white keeps a tint, {off:.1f} off. {without}: "
            f"what white may cost of the peak is {100 * job.may_cost:.0f} %."
        )
    if now < (1.0 - WORTH_SAYING) * was:
        cost = f"{100 * (1.0 - now / was):.0f} % of the peak"
        return f"A white without a tint has cost {cost}: it is {now:.0f} cd/m² instead of {was:.0f}."
    return ""


def _of_greys_left_alone(job: "Job") -> str:
    """Return what there is to say where colours alone were adjusted beside a white balance that is far off."""
    greys = parts_of(job.as_left, job.target)["greys"]
    if job.steps != ("colour",) or greys <= MAKES_COLOURS_HARD * job.target.metric.weight:
        return ""
    return f"Greys are off by {greys:.1f} on average: colours come nearer where white balance and gamma are adjusted before them."


def _proof(job: "Job") -> Procedure[list[Taken]]:
    """Read the patches of the proof; what was just read to be held against the reference is not read again."""
    desk = job.desk
    just = {percent: t for percent in job.proof if job.correction and (t := job.just_read(percent)) is not None}
    read = iter((yield from desk.reads([percent for percent in job.proof if percent not in just])))
    if not all(any(t is kept for kept in desk.taken) for t in just.values()):
        return (yield from desk.reads(job.proof))  # it was of another light
    return [just[percent] if percent in just else next(read) for percent in job.proof]


def _take_back_what_is_denied(job: "Job") -> Procedure[None]:
    """Take the last move of the greys back where the proof denies it, and keep that where it is better."""
    balance, now = job.balance, job.desk.settings
    if balance is None or balance.model is None or balance.before_last is None or job.desk.has_installed:
        return
    if not denies(balance, job.as_left, balance.before_last):
        return
    # Of all that has been turned since nothing else is to go.
    ids = {knob.id for knob in balance.knobs}
    before = {name: value for name, value in balance.before_last.items() if name in ids and now[name] != value}
    if not before:
        return
    job.desk.budget += len(job.proof)  # beside what is kept for greys or colours that go back
    yield from job.desk.put(now | before)
    again = yield from job.desk.reads(job.proof)
    if parts_of(again, job.target)["greys"] < parts_of(job.as_left, job.target)["greys"]:
        job.as_left = again
        job.desk.notes.append("The last move of the greys did not do what it should, so it was taken back.")
    else:
        yield from job.desk.put(now)


def _made_right(job: "Job") -> Procedure[None]:
    """Go over what was adjusted, or install it anew, as far as the readings of the proof allow."""
    kept = 2 * len(job.proof)
    job.desk.budget -= kept
    try:
        yield from job.go_over_it() if job.installer is None else giving.anew(job)
    except BudgetError as spent:
        job.desk.notes.append(f"{spent} What was reached by then is kept.")
    finally:
        job.desk.budget += kept


def _put_worse_greys_back(job: "Job") -> Procedure[None]:
    """Put the greys' controls back to as found where colours alone got better, and keep that where both are better then.

    Everything goes back where greys stay clearly worse than found: no colour is worth a grey that everybody sees.
    """
    weight, was = job.target.metric.weight, parts_of(job.as_found, job.target)
    found, left = was["greys"], parts_of(job.as_left, job.target)["greys"]
    if left <= found + WORSE_GREYS * weight or job.desk.has_installed:
        return
    before = job.desk.settings
    again = yield from _with_greys_back(job)
    told = f"The greys are at {left:.2f}, where {found:.2f} was found"
    if again is None:
        job.desk.notes.append(f"{told}: what was turned for colours has moved them, and nothing was turned for the greys.")
        return
    now = parts_of(again, job.target)
    is_as_found = all(now[name] <= was[name] + WORSE_GREYS * weight for name in now)
    if is_as_found or (now["greys"] < left and score(again, job.target) < score(job.as_left, job.target)):
        job.as_left = again
        beside = "." if is_as_found else f": beside them greys are at {now['greys']:.2f}, where {found:.2f} was found."
        job.desk.notes.append(f"The greys were no better than found, so their controls were put back; the colours are kept{beside}")
        return
    if left > found + CLEARLY_WORSE_GREYS * weight:
        if (yield from _keep_light(job)):
            return
        yield from _put_all_back(job, f"{told}, and their controls alone put back made it no better: every control was put back.")
        return
    yield from job.desk.put(before)
    job.desk.notes.append(f"{told}; their controls put back made it no better.")


def _with_greys_back(job: "Job") -> Procedure[list[Taken] | None]:
    """Put the controls of the greys back to as found, and return the proof as it is then; None where nothing was to be put.

    Light that was wanted, and processing that was turned off, stay as they are.
    """
    stays = {c["id"] for role in (*OF_COLOUR, "light", "process") for c in job.desk.by_role(role)}
    now = job.desk.settings
    names = {c["id"] for c in job.desk.controls} - stays
    back = {name: value for name, value in job.desk.found.items() if name in names and now[name] != value}
    if not back:
        return None
    yield from job.desk.put(now | back)
    return (yield from job.desk.reads(job.proof))


def _put_worse_colours_back(job: "Job") -> Procedure[None]:
    """Put colours that ended clearly worse than found back to their controls as found, and keep that where it is better.

    All of them where they are worse together, else each by its own controls. What is installed for them hangs together.
    """
    if job.desk.has_installed:
        return
    clearly = CLEARLY_WORSE * job.target.metric.weight
    found, left = parts_of(job.as_found, job.target), parts_of(job.as_left, job.target)
    worse = [name for name, was, now in worse_colours(job.as_found, job.as_left, job.target, job.proved) if now > was + clearly]
    if left["colours"] > found["colours"] + clearly / 2.0:
        controls = [c for role in OF_COLOUR for c in job.desk.by_role(role)]
        yield from _better_of_both(job, "All colours", controls, list(job.proved.named.values()))
        return
    for name in worse:
        yield from _better_of_both(job, name.capitalize(), job.desk.by_role(f"colour.{name}"), [job.proved.named[name]])


def _better_of_both(job: "Job", name: str, controls: list[dict[str, Any]], patches: list[Fraction]) -> Procedure[None]:
    """Put controls back to as found, read patches of the proof, and keep that where it is better than what is left."""
    before = {c["id"]: c["value"] for c in controls}
    back = {id_: job.desk.found[id_] for id_ in before}
    if back == before:
        return
    yield from job.desk.put(back)
    places = {i: percent for i, t in enumerate(job.as_left) for percent in patches if t.shows(percent)}
    as_left = list(job.as_left)
    for place, t in zip(places, (yield from job.desk.reads(places.values())), strict=True):
        as_left[place] = t
    if errors_of(as_left, job.target)[[*places]].mean() >= errors_of(job.as_left, job.target)[[*places]].mean():
        yield from job.desk.put(before)
        return
    job.as_left = as_left
    job.desk.notes.append(f"{name} ended worse than found, so the controls of that were put back.")


def _keep_what_is_better(job: "Job") -> Procedure[bool]:
    """Put back the greys or the colours alone, where the others got better and readings can prove it; return whether."""
    found, left = parts_of(job.as_found, job.target), parts_of(job.as_left, job.target)
    better = [name for name in found if left[name] < found[name]]
    # What is installed for greys and for colours hangs together.
    if len(better) != 1 or job.desk.has_installed or job.desk.spent + len(job.proof) > job.total:
        return False
    colours = {c["id"] for role in OF_COLOUR for c in job.desk.by_role(role)}
    stays = {c["id"] for role in ("light", "process") for c in job.desk.by_role(role)} if job.untouched else set()
    goes = {name for name in job.desk.found if name not in stays and (name in colours) == (better[0] == "greys")}
    back = {name: value for name, value in job.desk.found.items() if name in goes}
    yield from job.desk.put(job.desk.settings | back)  # a choice that goes back may bring others along
    again = yield from job.desk.reads(job.proof)
    if score(again, job.target) > score(job.as_found, job.target):
        return False
    job.as_left = again
    worse = "colours" if better[0] == "greys" else "greys"
    job.desk.notes.append(f"The {worse} were no better than found, so their controls were put back; the rest is kept.")
    return True
