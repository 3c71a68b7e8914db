"""Six colours by attribute or by mixing: every look teaches what the controls do, and the next move follows from all looks.

The learning is that of the nudges by hand (core/models/hues.py). Here all colours move at once between two looks, but for one that
goes before them: which way its hue turns, and how much a step does, is no secret of the others any more.
"""

from collections.abc import Sequence

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control
from fenvik.core.models import hueprior, hues
from fenvik.core.models.foreseen import Foresight
from fenvik.core.models.hues import DEAD, HUES, OWN
from fenvik.core.models.palette import SDR, Palette
from fenvik.core.procedures import overall
from fenvik.core.procedures.colourlock import where_they_act
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.following import PATIENT_S
from fenvik.core.procedures.hue import Hue
from fenvik.core.procedures.steps import ENDS, Procedure, Wait
from fenvik.core.procedures.together import together
from fenvik.core.types import Floats

ROUNDS = 6
WORTH_LOOKS = 0.16  # of a difference: by how much a move is to lower the mean of a colour, for its patches are read after it
# Colours that may be moved before the others, the one with most to do in hue first, until one of two does something: not those with
# a skin tone, which costs a reading more, nor blue, which many displays give less of than is wanted.
SCOUTS, MOST_SCOUTS = ("green", "cyan", "magenta"), 2
MISJUDGED = 0.8  # of a difference, between what was foreseen and what was read
LACKING = 1.5  # of a difference in lightness: what is worth a sentence
LITTLE = 0.4  # share of what a first move should have done
PROBE = 0.14  # of a range: a move that shows


def adjust(
    desk: Desk, target: Target, hold: tuple[float, float], palette: Palette = SDR, goal: float = 0.0, *,
    kept: list[Hue] | None = None, foresight: Foresight | None = None, thrifty: bool = False,
) -> Procedure[None]:  # fmt: skip
    """Adjust what colour management there is; a control that does nothing is left alone, said, and noted at the desk as dead.

    ``hold``: white and black in cd/m² that colours are judged beside, ``palette``: by which patches, ``goal``: error that is good
    enough, 0 for none; ``kept`` gets the colours with all their looks; ``foresight``: what they should give before any move,
    where that is known; ``thrifty``: skin tones are not read where pale colours tell them. Raises BudgetError; the best that was
    read stands then.
    """
    spaces = yield from overall.gamut(desk, target, palette)
    found = {
        name: controls
        for name in HUES
        if (controls := [c for c in desk.by_role(f"colour.{name}") if c["kind"] == "range"])
    }
    if not found:
        yield from overall.saturation_and_tint(desk, target, hold, palette)
        return
    if foresight is not None and not target.is_hdr:
        foresight = yield from together(desk, target, hold, palette, foresight)
    yield from desk.say("colours")
    every = [
        Hue(name, controls, [percent for _, percent in palette.hues[name]], goal=goal / target.metric.weight)
        for name, controls in found.items()
    ]
    # Beside a white sub-pixel nothing pale is told by what is paler.
    tells = thrifty and foresight is not None and foresight.is_sure
    for hue in every:
        hue.others, hue.skin_too = every, not tells
    if kept is not None:
        kept += every
    try:
        for hue in every:
            if foresight is None:
                yield from hue.look(desk, target, hold)
            else:
                hue.foresee(foresight.xyz(hue.fraction), target, hold)
        yield from _scout(desk, target, hold, every, is_sure=foresight is None or foresight.is_sure)
        yield from _rounds(desk, target, hold, every, 1)
        dead = [hue for hue in every if hue.is_dead]
        if dead and _little_came(every, target, hold) and (yield from where_they_act(desk, target, hold, dead[0], spaces)):
            for hue in every:  # in another colour space, of which nothing is known
                hue.forget()
                yield from hue.look(desk, target, hold)
            yield from _scout(desk, target, hold, every, is_sure=True)
        yield from _rounds(desk, target, hold, every, ROUNDS - 1)
    except ENDS:
        yield from _rest(desk, every)
        raise
    yield from _rest(desk, every)


def _scout(
    desk: Desk, target: Target, hold: tuple[float, float], every: Sequence[Hue], *, is_sure: bool
) -> Procedure[None]:
    """Move one colour before all others: which way its hue turns, and by how much, tells of theirs.

    ``is_sure``: whether what was foreseen is to be believed; else it is read of one, and of all where that is another.
    """
    scouts = sorted((h for h in every if h.name in SCOUTS), key=lambda h: -abs(float(h.known[0][2])))
    if not is_sure and scouts and (yield from _look_after_all(desk, target, hold, scouts[0])) > MISJUDGED:
        for hue in every:
            if hue is not scouts[0]:
                yield from _look_after_all(desk, target, hold, hue)
    for hue in scouts[:MOST_SCOUTS]:
        if (yield from _move(desk, target, hold, hue)):
            yield from hue.look(desk, target, hold)
            yield from _doubt(desk, target, hold, hue, alone=True)
        if hueprior.shows(hue.looks):
            return


def _look_after_all(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[float]:
    """Read what was foreseen, and return how far that was off."""
    foreseen = hue.known[-1]
    hue.take_back()
    yield from hue.look(desk, target, hold)
    return float(hues.errors_of(foreseen - hue.known[0]).max())


def _rounds(desk: Desk, target: Target, hold: tuple[float, float], every: Sequence[Hue], most: int = ROUNDS) -> Procedure[None]:
    """Move all colours at once and look at them, until none of them finds a move that is worth it, ``most`` times."""
    for _ in range(most):
        moved = []
        for hue in every:
            if not hue.rests and ((yield from _move(desk, target, hold, hue)) or hue.looks[-1].foreseen):
                hue.rests = False
                moved.append(hue)
        if not moved:
            break
        for hue in moved:
            yield from hue.look(desk, target, hold)
        for hue in moved:
            yield from _doubt(desk, target, hold, hue)


def _turns_at(hue: Hue, settings: Floats) -> list[Control]:
    """Return the controls of a colour as they would stand with these settings."""
    return [turn.moved(steps) for turn, steps in zip(hue.turns(), settings - hue.settings, strict=True)]


def look_again(desk: Desk, target: Target, hold: tuple[float, float], every: Sequence[Hue]) -> Procedure[None]:
    """Look at all colours as they stand and go on from there: what they were moved by was seen by a meter that had changed.

    What was learned of their controls still holds.
    """
    yield from desk.say("colours")
    alive = [hue for hue in every if hue.looks and not hue.is_dead]
    try:
        for hue in alive:
            hue.era, hue.best, hue.rests = hue.era + 1, len(hue.looks), False
            yield from hue.look(desk, target, hold)
        yield from _rounds(desk, target, hold, alive)
    finally:
        for hue in alive:
            if hue.best < len(hue.looks):
                yield from hue.turn(desk, hue.looks[hue.best].settings)


def _move(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[bool]:
    """Turn what lowers the expected difference from where it was best; return whether anything was turned."""
    best, parts = hue.looks[hue.best], hue.known[hue.best]
    if float(hues.errors_of(parts).max()) <= hue.goal:
        yield from hue.turn(desk, best.settings)
        hue.rests = True
        return False
    # From where it was best, as long as nothing better was seen.
    turns = _turns_at(hue, best.settings)
    belief = hue.belief(target, hold)
    nudge = hues.propose(turns, belief, parts, worth=WORTH_LOOKS)
    steps = np.zeros(len(turns)) if nudge is None else nudge.steps.copy()
    if len(hue.looks) == 1:
        steps += _unknown(turns, belief, parts) * (steps == 0)
    if not steps.any():
        hue.rests = True
        return False
    wanted = best.settings + steps
    if any(np.array_equal(wanted, look.settings) and look.era == hue.era for look in hue.looks):
        hue.rests = True
        return False
    yield from hue.turn(desk, wanted)
    return True


def _little_came(every: Sequence[Hue], target: Target, hold: tuple[float, float]) -> bool:
    """Return whether all first moves together brought little of what they should have: then all colours may be locked."""
    came = promised = 0.0
    for hue in every:
        if len(hue.looks) > 1:
            before, after = hue.looks[:2]
            should = (hue.expected(target, hold) @ (after.settings - before.settings))[:OWN]
            came += float(should @ (hue.known[1] - hue.known[0])[:OWN])
            promised += float(should @ should)
    return came < LITTLE * promised


def _did_little(hue: Hue, target: Target, hold: tuple[float, float]) -> bool:
    """Return whether a first move did much less than it should have: then its controls may be dead, and a neighbour did it."""
    before, after = hue.looks
    should = (hue.expected(target, hold) @ (after.settings - before.settings))[:OWN]
    did = (hue.known[1] - hue.known[0])[:OWN]
    if float(hues.errors_of(should).max()) < hueprior.WOULD_SHOW:
        return False
    if before.foreseen:  # itself off by a little: what counts is whether nothing explains it better than what should have been
        return float(np.linalg.norm(did)) < float(np.linalg.norm(did - should))
    return float(hues.errors_of(did).max()) < LITTLE * float(hues.errors_of(should).max())


def _doubt(
    desk: Desk, target: Target, hold: tuple[float, float], hue: Hue, *, alone: bool = False
) -> Procedure[None]:
    """Where a first move did little, move on or put the controls back and read again, alone: if nothing changes, they do nothing.

    A move of few steps is gone on with: a display may count in larger ones than its menu does. ``alone``: nothing else was moved
    between both looks; so the first one, where it was read, is what they give when put back, and need not be read again.
    """
    if len(hue.looks) != 2 or not _did_little(hue, target, hold):
        return
    before, after = hue.looks
    steps = after.settings - before.settings
    farther = before.settings + steps * np.ceil(hues.SURELY_FELT / np.abs(steps).max())
    if np.abs(steps).max() < hues.SURELY_FELT and all(t.low <= t.value <= t.high for t in _turns_at(hue, farther)):
        yield from hue.turn(desk, farther)
        yield from hue.look(desk, target, hold, whole=True)
        parts = hue.known[-1]
    elif alone and not before.foreseen:
        yield from _doubt_alone(desk, target, hold, hue)
        return
    else:
        yield from hue.turn(desk, before.settings)
        read = yield from desk.reads(hue.patches)
        parts = hues.parts_of(hue.fraction, np.array([t.xyz for t in read]), target, *hold)
    hue.is_dead = hue.rests = bool(hues.errors_of((parts - hue.known[1])[:OWN]).max() < DEAD)
    if not hue.is_dead:
        yield from hue.turn(desk, after.settings)


def _doubt_alone(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[None]:
    """Look once more whether nothing came of a move beside which nothing else was turned: it may only have come late."""
    yield Wait(PATIENT_S["turned"])
    read = yield from desk.reads(hue.patches[:1])
    now = hues.parts_of(hue.fraction[:1], np.array([t.xyz for t in read]), target, *hold)
    before, after = hue.known[:2]
    if float(hues.errors_of(now - after[: len(now)]).max()) >= DEAD:
        hue.take_back()
        yield from hue.look(desk, target, hold)
        return
    hue.is_dead = hue.rests = bool(hues.errors_of((after - before)[:OWN]).max() < DEAD)


def _unknown(turns: Sequence[Control], belief: hues.Belief, parts: Floats) -> Floats:
    """Return steps that show what a control does whose direction cannot be told, where what it may do is lacking."""
    steps = np.zeros(len(turns))
    for i, turn in enumerate(turns):
        if belief.slope[:, i].any() or abs(parts[2]) < DEAD:
            continue
        low, high = turn.room
        size = max(round(PROBE * (turn.high - turn.low) / turn.step), 1)
        steps[i] = min(size, high) if high >= -low else -min(size, -low)
    return steps


def _rest(desk: Desk, every: Sequence[Hue]) -> Procedure[None]:
    """Leave each colour where it was best, one whose controls do nothing where it was found, and say what is left to say."""
    for hue in every:
        if hue.looks:
            yield from hue.turn(desk, hue.looks[0 if hue.is_dead else hue.best].settings)
        if hue.is_dead:
            desk.dead += [control["id"] for control in hue.controls]
    dead = [hue.name for hue in every if hue.is_dead]
    if dead:
        is_all = len(dead) == sum(len(hue.looks) > 1 for hue in every) > 1
        locked = " Many menus let them do something in one colour space alone." if is_all else ""
        desk.notes.append(f"The controls of {', '.join(dead)} do nothing that a reading can tell; they were left alone.{locked}")
    dim = [hue.name for hue in every if hue.looks and not hue.is_dead and hue.known[hue.best][0] < -LACKING]
    if dim:
        desk.notes.append(f"Too dark beside this white, and their controls give no more light: {', '.join(dim)}.")
