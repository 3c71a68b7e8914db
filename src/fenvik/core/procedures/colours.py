"""Six colours by attribute or by mixing: every look teaches what the controls do, and the next move follows from all looks.

The learning is that of the nudges by hand (core/models/hues.py). Here all colours move at once between two looks.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control, control_of
from fenvik.core.models import hues
from fenvik.core.models.hues import DEAD, HUES, Look
from fenvik.core.models.palette import SDR, Palette
from fenvik.core.procedures import overall
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import ENDS, Procedure
from fenvik.core.types import Floats

ROUNDS = 6
LACKING = 1.5  # of a difference in lightness: what is worth a sentence
WOULD_SHOW = 3.0 * DEAD  # of a difference: what a move should have done for its absence to tell
LITTLE = 0.4  # share of what a first move should have done
PROBE = 0.14  # of a range: a move that shows
# Of a difference: a colour that rests farther off than this has its controls turned one by one, the worst few of them; by how much.
STUCK, MOST_STUCK, SHOWS = 1.0, 4, 1.5
OWN = 6  # parts of the full and the pale patch: a skin tone is moved by its neighbours too
# Share of what was expected of a first move by which it did something else: only then one by one tells anything. Of 130 colours
# those below won 0.06 by it on average, at ten readings each.
SURPRISED = 1.2
GAINED, MOST_IN_VAIN = 0.15, 2  # of a difference: what that should bring, and how many colours may do without


@dataclass
class Hue:
    """One colour: its controls, its looks in order of time, and the place of the best."""

    name: str
    controls: list[dict[str, Any]]
    patches: list[hues.Percent]  # the full and the pale one, of red and yellow a skin tone too, as by hand
    looks: list[Look] = field(default_factory=list)
    read: list[tuple[int, Floats]] = field(default_factory=list)  # of each look: after how many readings, and XYZ of its patches
    best: int = 0
    rests: bool = False
    is_dead: bool = False
    goal: float = 0.0  # of a difference: a colour that is no farther off rests

    def __post_init__(self) -> None:
        self.fraction: Floats = np.array(self.patches) / 100.0

    def turns(self) -> list[Control]:
        """Return the controls as they stand."""
        return [control for c in self.controls if (control := control_of(c, c["value"])) is not None]

    @property
    def settings(self) -> Floats:
        """The controls' values in steps."""
        return np.array([float(c["value"]) / float(c["step"]) for c in self.controls])

    @property
    def error(self) -> float:
        """The mean difference of its patches where they were best."""
        return float(hues.errors_of(self.looks[self.best].parts).mean())


def adjust(
    desk: Desk, target: Target, hold: tuple[float, float], palette: Palette = SDR, goal: float = 0.0, *,
    kept: list[Hue] | None = None,
) -> Procedure[None]:  # fmt: skip
    """Adjust what colour management there is; a control that does nothing is left alone, said, and noted at the desk as dead.

    ``hold``: white and black in cd/m² that colours are judged beside, ``palette``: by which patches, ``goal``: error that is good
    enough, 0 for none;
    ``kept`` gets the colours with all their looks. Raises BudgetError; the best that was read stands then.
    """
    yield from overall.gamut(desk, target, palette)
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
    if kept is not None:
        kept += every
    try:
        for hue in every:
            yield from _look(desk, target, hold, hue)
        yield from _rounds(desk, target, hold, every)
        stuck = [h for h in every if not h.is_dead and h.error > STUCK and _surprise(h, target, hold) > SURPRISED]
        stuck.sort(key=lambda h: -h.error)
        in_vain = 0
        for hue in stuck[:MOST_STUCK]:
            before = hue.error
            yield from _one_by_one(desk, target, hold, hue)
            yield from _rounds(desk, target, hold, [hue])
            in_vain = in_vain + 1 if hue.error > before - GAINED else 0
            if in_vain == MOST_IN_VAIN:
                break  # what is missing is missing to all of them, as light beside a white sub-pixel is
    except ENDS:
        yield from _rest(desk, every)
        raise
    yield from _rest(desk, every)


def _rounds(desk: Desk, target: Target, hold: tuple[float, float], every: Sequence[Hue]) -> Procedure[None]:
    """Move all colours at once and look at them, until none of them finds a move that is worth it."""
    for _ in range(ROUNDS):
        moved = []
        for hue in every:
            if not hue.rests and (yield from _move(desk, target, hold, hue)):
                moved.append(hue)
        if not moved:
            break
        for hue in moved:
            yield from _look(desk, target, hold, hue)
        for hue in moved:
            if len(hue.looks) == 2 and _did_little(hue, target, hold):
                yield from _try_again(desk, target, hold, hue)


def _one_by_one(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[None]:
    """Turn each control alone from where the colour was best, by what shows: together, one was taken for another."""
    best = hue.looks[hue.best]
    turns = _turns_at(hue, best.settings)
    belief = hues.learn(*hues.usual(turns, hue.fraction, target, *hold), hue.looks)
    for i, turn in enumerate(turns):
        slope = belief.slope[:, i]
        most = round(2 * PROBE * (turn.high - turn.low) / turn.step)
        size = max(min(round(SHOWS / max(float(hues.errors_of(slope).max()), 1e-6)), most), 1)
        better = -1 if float(hues.weighed(best.parts) @ hues.weighed(slope)) > 0 else 1
        wanted = best.settings.copy()
        wanted[i] += _within(turn, better * size)
        if any(np.array_equal(wanted, look.settings) for look in hue.looks):
            continue
        yield from _set(desk, hue, wanted)
        yield from _look(desk, target, hold, hue)
    hue.rests = False


def _within(turn: Control, steps: int) -> int:
    """Return steps in this direction, or the other way where there is more room than in this one."""
    low, high = turn.room
    if not low <= steps <= high and (high > -low) != (steps > 0):
        steps = -steps
    return min(max(steps, low), high)


def _turns_at(hue: Hue, settings: Floats) -> list[Control]:
    """Return the controls of a colour as they would stand with these settings."""
    return [turn.moved(steps) for turn, steps in zip(hue.turns(), settings - hue.settings, strict=True)]


def _look(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[None]:
    """Read both patches of a colour."""
    settings = hue.settings
    read = yield from desk.reads(hue.patches)
    hue.fraction = np.array([t.fraction for t in read])
    parts = hues.parts_of(hue.fraction, np.array([t.xyz for t in read]), target, *hold)
    hue.looks.append(Look(parts, settings))
    hue.read.append((len(desk.taken) - len(read), np.array([t.xyz for t in read])))
    if _cost(parts) < _cost(hue.looks[hue.best].parts):
        hue.best = len(hue.looks) - 1


def see_otherwise(
    desk: Desk, target: Target, hold: tuple[float, float], every: Sequence[Hue], change: Floats, since: int
) -> Procedure[None]:
    """Move each colour by its looks as they are through a change (3, 3) of the meter after so many readings.

    No more is read: what is left shows whether it was right.
    """
    for hue in every:
        if hue.is_dead or all(at < since for at, _ in hue.read):
            continue
        hue.read = [(at, xyz if at < since else xyz @ change.T) for at, xyz in hue.read]
        hue.looks = [
            replace(look, parts=hues.parts_of(hue.fraction, xyz, target, *hold))
            for look, (_, xyz) in zip(hue.looks, hue.read, strict=True)
        ]
        hue.best = min(range(len(hue.looks)), key=lambda i: _cost(hue.looks[i].parts))
        hue.rests = False
        if not (yield from _move(desk, target, hold, hue)):
            yield from _set(desk, hue, hue.looks[hue.best].settings)


def _cost(parts: Floats) -> float:
    return float((hues.weighed(parts) ** 2).sum())


def _move(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[bool]:
    """Turn what lowers the expected difference from where it was best; return whether anything was turned."""
    best = hue.looks[hue.best]
    if float(hues.errors_of(best.parts).max()) <= hue.goal:
        yield from _set(desk, hue, best.settings)
        hue.rests = True
        return False
    # From where it was best, as long as nothing better was seen.
    turns = _turns_at(hue, best.settings)
    belief = hues.learn(*hues.usual(turns, hue.fraction, target, *hold), hue.looks)
    nudge = hues.propose(turns, belief, best.parts)
    steps = np.zeros(len(turns)) if nudge is None else nudge.steps.copy()
    if len(hue.looks) == 1:
        steps += _unknown(turns, belief, best.parts) * (steps == 0)
    if not steps.any():
        hue.rests = True
        return False
    wanted = best.settings + steps
    if any(np.array_equal(wanted, look.settings) for look in hue.looks):
        hue.rests = True
        return False
    yield from _set(desk, hue, wanted)
    return True


def _surprise(hue: Hue, target: Target, hold: tuple[float, float]) -> float:
    """Return by what share of what it should have done a first move did something else; endless where nothing was expected."""
    if len(hue.looks) < 2:
        return np.inf
    before, after = hue.looks[:2]
    mean, _ = hues.usual(hue.turns(), hue.fraction, target, *hold)
    should = hues.weighed(mean @ (after.settings - before.settings))
    did = hues.weighed(after.parts - before.parts)
    return float(np.linalg.norm(did - should)) / max(float(np.linalg.norm(should)), 1e-6)


def _did_little(hue: Hue, target: Target, hold: tuple[float, float]) -> bool:
    """Return whether a first move did much less than it should have: then its controls may be dead, and a neighbour did it."""
    before, after = hue.looks
    mean, _ = hues.usual(hue.turns(), hue.fraction, target, *hold)
    should = float(hues.errors_of((mean @ (after.settings - before.settings))[:OWN]).max())
    did = float(hues.errors_of((after.parts - before.parts)[:OWN]).max())
    return should >= WOULD_SHOW and did < LITTLE * should


def _try_again(desk: Desk, target: Target, hold: tuple[float, float], hue: Hue) -> Procedure[None]:
    """Put the controls back and read the patches again, alone: if nothing changes, they do nothing."""
    before, after = hue.looks
    yield from _set(desk, hue, before.settings)
    read = yield from desk.reads(hue.patches)
    parts = hues.parts_of(hue.fraction, np.array([t.xyz for t in read]), target, *hold)
    hue.is_dead = hue.rests = bool(hues.errors_of((parts - after.parts)[:OWN]).max() < DEAD)
    if not hue.is_dead:
        yield from _set(desk, hue, after.settings)


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


def _set(desk: Desk, hue: Hue, settings: Floats) -> Procedure[None]:
    for control, value in zip(hue.controls, settings, strict=True):
        yield from desk.set(control, float(value) * float(control["step"]))


def _rest(desk: Desk, every: Sequence[Hue]) -> Procedure[None]:
    """Leave each colour where it was best, one whose controls do nothing where it was found, and say what is left to say."""
    for hue in every:
        if hue.looks:
            yield from _set(desk, hue, hue.looks[0 if hue.is_dead else hue.best].settings)
        if hue.is_dead:
            desk.dead += [control["id"] for control in hue.controls]
            desk.notes.append(f"The controls of {hue.name} do nothing that a reading can tell; they were left alone.")
    dim = [hue.name for hue in every if hue.looks and not hue.is_dead and hue.looks[hue.best].parts[0] < -LACKING]
    if dim:
        desk.notes.append(f"Too dark beside this white, and their controls give no more light: {', '.join(dim)}.")
