"""Six colours by attribute or by mixing: every look teaches what the controls do, and the next move follows from all looks.

The learning is that of the nudges by hand (core/models/hues.py). Here all colours move at once between two looks, but for one that
goes before them: which way its hue turns, and how much a step does, is no secret of the others any more.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control, control_of
from fenvik.core.models import hueprior, hues
from fenvik.core.models.foreseen import Foresight
from fenvik.core.models.hues import DEAD, HUES, OWN, Look
from fenvik.core.models.palette import SDR, Palette
from fenvik.core.procedures import overall
from fenvik.core.procedures.colourlock import where_they_act
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import ENDS, Procedure
from fenvik.core.types import Floats

ROUNDS = 6
WORTH_LOOKS = 0.2  # of a difference: by how much a move is to lower the mean of a colour, for its patches are read after it
# Colours that may be moved before the others, the one with most to do in hue first, until one of two does something: not those with
# a skin tone, which costs a reading more, nor blue, which many displays give less of than is wanted.
SCOUTS, MOST_SCOUTS = ("green", "cyan", "magenta"), 2
MISJUDGED = 0.8  # of a difference, between what was foreseen and what was read
LACKING = 1.5  # of a difference in lightness: what is worth a sentence
LITTLE = 0.4  # share of what a first move should have done
PROBE = 0.14  # of a range: a move that shows


@dataclass
class Hue:
    """One colour: its controls, its looks in order of time, and the place of the best."""

    name: str
    controls: list[dict[str, Any]]
    patches: list[hues.Percent]  # the full and the pale one, of red and yellow a skin tone too, as by hand
    looks: list[Look] = field(default_factory=list)
    looked: list[int] = field(default_factory=list)  # of each look that was read: after how many readings
    era: int = 0  # how often the meter has changed: a look before it cannot be held against one after it
    best: int = 0
    rests: bool = False
    is_dead: bool = False
    goal: float = 0.0  # of a difference: a colour that is no farther off rests
    others: list["Hue"] = field(default_factory=list, repr=False)  # colours of the same display, which teach of these controls

    def __post_init__(self) -> None:
        self.fraction: Floats = np.array(self.patches) / 100.0

    def forget(self) -> None:
        """Forget every look, and whatever followed from them."""
        self.looks.clear()
        self.looked.clear()
        self.best, self.rests, self.is_dead = 0, False, False

    def turn(self, desk: Desk, settings: Floats) -> Procedure[None]:
        """Set its controls, in steps."""
        for control, value in zip(self.controls, settings, strict=True):
            yield from desk.set(control, float(value) * float(control["step"]))

    def turns(self) -> list[Control]:
        """Return the controls as they stand."""
        return [control for c in self.controls if (control := control_of(c, c["value"])) is not None]

    @property
    def settings(self) -> Floats:
        """The controls' values in steps."""
        return np.array([float(c["value"]) / float(c["step"]) for c in self.controls])

    def foresee(self, xyz: Floats, target: Target, hold: tuple[float, float]) -> None:
        """Take XYZ (n, 3) of the patches for a first look that was not read."""
        self.looks.append(Look(hues.parts_of(self.fraction, xyz, target, *hold), self.settings, foreseen=True))

    def belief(self, target: Target, hold: tuple[float, float]) -> hues.Belief:
        """Return what its controls are taken to do, by its looks and by what the other colours have taught."""
        return hueprior.believed((self.turns(), self.fraction, self.looks), self._others, target, *hold)

    def expected(self, target: Target, hold: tuple[float, float]) -> Floats:
        """Return the slope that was to be expected before it was looked at."""
        return hueprior.believed((self.turns(), self.fraction, self.looks[:1]), self._others, target, *hold).slope

    @property
    def _others(self) -> list[hueprior.Moved]:
        return [(h.turns(), h.fraction, h.looks) for h in self.others if h is not self and not h.is_dead]

    @property
    def error(self) -> float:
        """The mean difference of its patches where they were best."""
        return float(hues.errors_of(self.looks[self.best].parts).mean())


def adjust(
    desk: Desk, target: Target, hold: tuple[float, float], palette: Palette = SDR, goal: float = 0.0, *,
    kept: list[Hue] | None = None, foresight: Foresight | None = None,
) -> Procedure[None]:  # fmt: skip
    """Adjust what colour management there is; a control that does nothing is left alone, said, and noted at the desk as dead.

    ``hold``: white and black in cd/m² that colours are judged beside, ``palette``: by which patches, ``goal``: error that is good
    enough, 0 for none; ``kept`` gets the colours with all their looks; ``foresight``: what they should give before any move,
    where that is known. Raises BudgetError; the best that was read stands then.
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
    yield from desk.say("colours")
    every = [
        Hue(name, controls, [percent for _, percent in palette.hues[name]], goal=goal / target.metric.weight)
        for name, controls in found.items()
    ]
    for hue in every:
        hue.others = every
    if kept is not None:
        kept += every
    try:
        for hue in every:
            if foresight is None:
                yield from _look(desk, target, hold, hue)
            else:
                hue.foresee(foresight.xyz(hue.fraction), target, hold)
        yield from _scout(desk, target, hold, every, is_sure=foresight is None or foresight.is_sure)
        yield from _rounds(desk, target, hold, every, 1)
        dead = [hue for hue in every if hue.is_dead]
        if dead and _little_came(every, target, hold) and (yield from where_they_act(desk, target, hold, dead[0], spaces)):
            for hue in every:  # in another colour space, of which nothing is known
                hue.forget()
                yield from _look(desk, target, hold, hue)
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
    scouts = sorted((h for h in every if h.name in SCOUTS), key=lambda h: -abs(float(h.looks[0].parts[2])))
    if not is_sure and scouts and (yield from _look_after_all(desk, target, hold, scouts[0])) > MISJUDGED:
        for hue in every:
            if hue is not scouts[0]:
                yield from _look_after_all(desk, target, hold, hue)
    for hue in scouts[:MOST_SCOUTS]:
        if (yield from _move(desk, target, hold, hue)):
            yield from _look(desk, target, hold, hue)
            yield from _doubt(desk, target, hold, hue)
        if hueprior.shows(hue.looks):
            return


def _look_after_all(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[float]:
    """Read what was foreseen, and return how far that was off."""
    foreseen = hue.looks.pop()
    yield from _look(desk, target, hold, hue)
    return float(hues.errors_of(foreseen.parts - hue.looks[0].parts).max())


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
            yield from _look(desk, target, hold, hue)
        for hue in moved:
            yield from _doubt(desk, target, hold, hue)


def _turns_at(hue: Hue, settings: Floats) -> list[Control]:
    """Return the controls of a colour as they would stand with these settings."""
    return [turn.moved(steps) for turn, steps in zip(hue.turns(), settings - hue.settings, strict=True)]


def _look(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[None]:
    """Read both patches of a colour."""
    settings = hue.settings
    read = yield from desk.reads(hue.patches)
    hue.fraction = np.array([t.fraction for t in read])
    parts = hues.parts_of(hue.fraction, np.array([t.xyz for t in read]), target, *hold)
    hue.looks.append(Look(parts, settings, hue.era))
    hue.looked.append(len(desk.taken) - len(read))
    if hue.best == len(hue.looks) - 1 or hue.looks[hue.best].foreseen or _cost(parts) < _cost(hue.looks[hue.best].parts):
        hue.best = len(hue.looks) - 1


def look_again(desk: Desk, target: Target, hold: tuple[float, float], every: Sequence[Hue]) -> Procedure[None]:
    """Look at all colours as they stand and go on from there: what they were moved by was seen by a meter that had changed.

    What was learned of their controls still holds.
    """
    yield from desk.say("colours")
    alive = [hue for hue in every if hue.looks and not hue.is_dead]
    try:
        for hue in alive:
            hue.era, hue.best, hue.rests = hue.era + 1, len(hue.looks), False
            yield from _look(desk, target, hold, hue)
        yield from _rounds(desk, target, hold, alive)
    finally:
        for hue in alive:
            if hue.best < len(hue.looks):
                yield from hue.turn(desk, hue.looks[hue.best].settings)


def _cost(parts: Floats) -> float:
    return float((hues.weighed(parts) ** 2).sum())


def _move(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[bool]:
    """Turn what lowers the expected difference from where it was best; return whether anything was turned."""
    best = hue.looks[hue.best]
    if float(hues.errors_of(best.parts).max()) <= hue.goal:
        yield from hue.turn(desk, best.settings)
        hue.rests = True
        return False
    # From where it was best, as long as nothing better was seen.
    turns = _turns_at(hue, best.settings)
    belief = hue.belief(target, hold)
    nudge = hues.propose(turns, belief, best.parts, worth=WORTH_LOOKS)
    steps = np.zeros(len(turns)) if nudge is None else nudge.steps.copy()
    if len(hue.looks) == 1:
        steps += _unknown(turns, belief, best.parts) * (steps == 0)
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
            came += float(should @ (after.parts - before.parts)[:OWN])
            promised += float(should @ should)
    return came < LITTLE * promised


def _did_little(hue: Hue, target: Target, hold: tuple[float, float]) -> bool:
    """Return whether a first move did much less than it should have: then its controls may be dead, and a neighbour did it."""
    before, after = hue.looks
    should = (hue.expected(target, hold) @ (after.settings - before.settings))[:OWN]
    did = (after.parts - before.parts)[:OWN]
    if float(hues.errors_of(should).max()) < hueprior.WOULD_SHOW:
        return False
    if before.foreseen:  # itself off by a little: what counts is whether nothing explains it better than what should have been
        return float(np.linalg.norm(did)) < float(np.linalg.norm(did - should))
    return float(hues.errors_of(did).max()) < LITTLE * float(hues.errors_of(should).max())


def _doubt(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[None]:
    """Where a first move did little, move on or put the controls back and read again, alone: if nothing changes, they do nothing.

    A move of few steps is gone on with: a display may count in larger ones than its menu does.
    """
    if len(hue.looks) != 2 or not _did_little(hue, target, hold):
        return
    before, after = hue.looks
    steps = after.settings - before.settings
    farther = before.settings + steps * np.ceil(hues.SURELY_FELT / np.abs(steps).max())
    if np.abs(steps).max() < hues.SURELY_FELT and all(t.low <= t.value <= t.high for t in _turns_at(hue, farther)):
        yield from hue.turn(desk, farther)
        yield from _look(desk, target, hold, hue)
        parts = hue.looks[-1].parts
    else:
        yield from hue.turn(desk, before.settings)
        read = yield from desk.reads(hue.patches)
        parts = hues.parts_of(hue.fraction, np.array([t.xyz for t in read]), target, *hold)
    hue.is_dead = hue.rests = bool(hues.errors_of((parts - after.parts)[:OWN]).max() < DEAD)
    if not hue.is_dead:
        yield from hue.turn(desk, after.settings)


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
    dim = [hue.name for hue in every if hue.looks and not hue.is_dead and hue.looks[hue.best].parts[0] < -LACKING]
    if dim:
        desk.notes.append(f"Too dark beside this white, and their controls give no more light: {', '.join(dim)}.")
