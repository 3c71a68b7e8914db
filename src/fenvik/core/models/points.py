"""Points of the white balance by hand: from every reading one list of changes, and what they should bring."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control
from fenvik.core.models import grain
from fenvik.core.models.black import black_of
from fenvik.core.models.grey import Fit, Seen, fineness, seen_at, seen_of
from fenvik.core.models.greyends import may_end
from fenvik.core.models.greyfit import fit
from fenvik.core.models.greysolve import lift_of, reachable, solve
from fenvik.core.models.greyworth import doubt_of, metric, worth_reading
from fenvik.core.models.palette import SDR, Palette
from fenvik.core.models.rolloff import RollOff
from fenvik.core.models.room import at_their_end, freed, stuck
from fenvik.core.models.stays import Stays, stays_of
from fenvik.core.types import Floats

LEAST_LEVELS = 4  # fewer levels say nothing of a curve
WORTH = 0.05  # of a mean error: what a list of changes must bring to be worth entering
WORTH_A_PRESS = 0.0015  # of a mean error: what each key of it must bring
WELL = 3.0  # times within the tolerance: what a mean is to be where no level is outside of it
LESS = 0.3  # of what a fit doubts a level by, it is off by in fact: 0.0006 of drive on random displays, where 0.002 are doubted
WAY = 3  # keys from one control to the next
JUDGED_FROM = 0.05  # fraction of signal
MAY_COST = 0.02  # of HLG's peak: what a white without a tint may cost, unless somebody lets it cost more
TAKEN = 0.016  # of the peak: as much of that is kept for what readings and whole steps take beside it
DARKEST = 0.03  # fraction of signal: a darker level tells more of black than of a curve
MOST_AGAIN = 10
SURELY = 0.5  # of the squared error: what a larger step of the display's must explain, where a person does the turning
NEAR = 0.006  # fraction of signal: two levels nearer than this are one
REACH = 0.05  # of signal: a point that lies so far beyond the end of an HDR display still pulls at what it shows
WITHOUT_POINTS = (100.0, 90.0, 80.0, 70.0, 60.0, 50.0, 40.0, 30.0, 20.0, 15.0, 10.0)  # percent of the range that is judged


@dataclass(frozen=True)
class Plan:
    """``steps`` (k,) from where the knobs stand; errors (n,) at ``levels`` (n,) as expected now and then, and in the ``end``.

    What is not known of a level stays in it whatever is turned. A first list moves what it does not know by less than it would, and
    is read again: in the end there is more to be had than by it alone.

    ``counts`` (n,): 1, or less where an HDR display ends already or its own black drowns what is wanted.
    """

    steps: Floats
    levels: Floats
    now: Floats
    then: Floats
    end: Floats
    at_end: tuple[int, ...]
    model: Fit
    counts: Floats
    weight: float = 1.0  # how many of the target's own differences count as one of CIEDE2000
    colour_end: Floats | None = None  # (n,) errors of colour alone in the end, where luminance counts too
    wants_room: int = 0  # 1 where gains end at their top, -1 at their bottom, and would bring more if they went on; else 0

    @property
    def is_worth_it(self) -> bool:
        """Whether the changes bring more than can be seen or told, and what pressing all those keys is worth."""
        return bool(self.steps.any()) and self.gain(self.now, self.end) >= max(WORTH, WORTH_A_PRESS * self.presses)

    def gain(self, before: Floats, after: Floats) -> float:
        """Return what gets better from errors (n,) to others (n,), in CIEDE2000: as the mean, or as a third of the worst level."""
        (mean, worst), (mean_after, worst_after) = self.told(before), self.told(after)
        return max(mean - mean_after, (worst - worst_after) / 3.0) / self.weight

    def told(self, errors: Floats) -> tuple[float, float]:
        """Return the mean and the worst of errors (n,) at the levels that count fully, or at all where none does."""
        full = self.counts >= 1.0
        mine = errors[full] if full.any() else errors
        return float(mine.mean()), float(mine.max())

    def is_within(self, tolerance: float) -> bool:
        """Whether every level is within the tolerance, and all together well within it."""
        mean, worst = self.told(self.now)
        return worst <= tolerance and mean <= tolerance / WELL

    def stays(self, tolerance: float) -> Stays | None:
        """Return what stays outside the tolerance whatever a list turns; None where nothing does."""
        colour = self.end if self.colour_end is None else self.colour_end
        return stays_of(self.levels, self.counts, self.end, colour, tolerance)

    def worst(self) -> int:
        """Return the place of the level that is farthest off now, of those that count fully."""
        full = self.counts >= 1.0
        return int(np.argmax(np.where(full, self.now, -1.0) if full.any() else self.now))

    @property
    def presses(self) -> int:
        """About how many keys of a remote the changes take: one a step, and the way to each control."""
        each = np.array([knob.every for knob in self.model.knobs])
        return int((each * np.abs(self.steps)).sum()) + WAY * int((self.steps != 0).sum())


def held(xyz_of_white: Floats, target: Target, may_cost: float = MAY_COST) -> float:
    """Return the luminance that greys are held to: as bright as the weakest of the three lights allows without raising any.

    PQ says every light itself, up to the peak, and HLG's peak is given away for its balance by no more than ``may_cost`` of it.
    ``xyz_of_white`` (3,) in cd/m².
    """
    weakest, whole = float((xyz_of_white @ target.inverse_matrix.T).min()), float(xyz_of_white[1])
    if target.curve == "pq":
        return whole
    return max(weakest, (1.0 - max(may_cost - TAKEN, 0.0)) * whole) if target.is_hdr else weakest


def errors_of(
    model: Fit, levels: Floats, moved: Floats, target: Target, white: float, black: float, *, curve: bool,
    roll: RollOff | None = None,
) -> Floats:  # fmt: skip
    """Return the target's error (n,) that a model expects at levels (n,); without ``curve`` luminance does not count.

    Beside the white that the model expects, as a pass is judged by its own; PQ says every light itself.
    """
    xyz = seen_at(model.at(levels, moved), target, white, black, roll)
    beside = white
    if target.curve != "pq":
        beside = float(seen_at(model.at(np.ones(1), moved), target, white, black)[0, 1])
    wanted = target.xyz(np.repeat(levels[:, None], 3, axis=1), beside, black)
    compare = target.metric.whole if curve else target.metric.colour_only
    return np.asarray(compare(wanted, xyz, target.white * beside))


def as_felt(knobs: Sequence[Control], seen_by: grain.SeenBy, target: Target) -> list[Control]:
    """Return the knobs in a display's own steps, where what was read speaks for larger ones than its menu's.

    ``seen_by``: the readings with the moves of such knobs.
    """
    seen, fitted = seen_by(knobs), partial(fit, fine=fineness(target), may_end=may_end(target, knobs))
    if len({round(s.level, 4) for s in seen}) < LEAST_LEVELS or not any(s.moved.any() for s in seen):
        return list(knobs)
    return grain.find(fitted(knobs, seen), seen_by, fitted, SURELY) or list(knobs)


def turnable(knobs: Sequence[Control], palette: Palette, target: Target, *, curve: bool) -> list[bool]:
    """Return which knobs (k,) a list turns: points, and in PQ gains and offsets with them.

    There the three lights are wanted as the signal says, and not only alike: gains and offsets bring all levels nearer with a few
    entries, and leave to the points what bends. In SDR they are two-point's, whose balance the points are to keep.
    """
    both = target.curve == "pq" and curve
    return [
        knob.at <= palette.top + REACH if knob.kind in ("point", "tone") else both and knob.kind in ("gain", "offset")
        for knob in knobs
    ]


def plan(
    knobs: Sequence[Control], seen: Sequence[Seen], moved: Floats, target: Target, white: float, black: float, *,
    allowed: Sequence[bool], curve: bool = True, palette: Palette = SDR, goal: float = 0.0,
    blacks: Sequence[tuple[Floats, float]] = (),
) -> Plan | None:  # fmt: skip
    """Return the changes that one solve over everything proposes; None while too little was read.

    ``moved`` (k,) steps that the knobs stand from where they were found; ``white``, ``black`` in cd/m²; ``allowed`` (k,).
    ``blacks``: each black that was read, with the moves (k,) of the knobs then and its luminance in cd/m²: where there are any,
    offsets are not turned so far that black would shine brighter.
    ``goal``: an error that is good enough: only what lies at or beside a level that is farther off is turned.
    """
    seen = [s for s in seen if s.level <= palette.top + NEAR]
    read = sorted({round(s.level, 4) for s in seen})
    if len(read) < LEAST_LEVELS or not any(allowed):
        return None
    model = fit(knobs, seen, fineness(target), may_end=may_end(target, knobs))
    at = {k.at for k in knobs if k.kind in ("point", "tone") and k.at <= palette.top + NEAR}
    # A level that was sent as the nearest code of a point's is that point.
    # Nor do two that were nearly alike count twice: what was asked for as found, and what the list asks for.
    apart = set(at)
    for v in read:
        if v >= DARKEST and all(abs(v - other) > NEAR for other in apart):
            apart.add(v)
    levels = np.array(sorted(apart))
    lift = _room_of_black(model, blacks, white, black) if blacks else None
    then = solve(model, moved, target, white, black, allowed=allowed, levels=levels, curve=curve, lift=lift, roll=palette.roll)
    judged = levels[levels >= JUDGED_FROM]
    now_errors = errors_of(model, judged, moved, target, white, black, curve=curve, roll=palette.roll)
    sure = solve(
        replace(model, doubt=np.zeros_like(model.doubt)), moved, target, white, black, allowed=allowed, levels=levels, curve=curve,
        lift=lift, roll=palette.roll,
    )  # fmt: skip
    unsure = _unsure(model, judged, moved, seen, target, white, black, curve=curve, roll=palette.roll)
    then_errors, end_errors = (
        np.hypot(errors_of(model, judged, at_last, target, white, black, curve=curve, roll=palette.roll), unsure)
        for at_last in (then, sure)
    )
    values = np.array([k.value + v * k.step for k, v in zip(knobs, then, strict=True)])
    at_end = tuple(
        i for i, k in enumerate(knobs)
        if allowed[i] and then[i] != moved[i] and (values[i] <= k.low + 1e-9 or values[i] >= k.high - 1e-9)
    )  # fmt: skip
    counts = np.ones(len(judged))
    if target.curve == "pq":
        counts = reachable(judged, target, white, black, palette.roll)
    of_colour = None  # with what is not known in it too, so that this is not taken for light
    if curve:
        of_colour = np.hypot(errors_of(model, judged, sure, target, white, black, curve=False, roll=palette.roll), unsure)
    made = Plan(then - moved, judged, now_errors, then_errors, end_errors, at_end, model, counts, target.metric.weight, of_colour)
    if target.curve == "pq" and (at_their_end(knobs, then) or stuck(knobs, then)):
        free = solve(
            replace(model, knobs=tuple(freed(k) for k in knobs)), moved, target, white, black, allowed=allowed, levels=levels,
            curve=curve, lift=lift, roll=palette.roll,
        )  # fmt: skip
        errors = np.hypot(errors_of(model, judged, free, target, white, black, curve=curve, roll=palette.roll), unsure)
        ends = at_their_end(knobs, then, free)
        made = replace(made, wants_room=ends if ends and made.gain(then_errors, errors) >= WORTH else 0)
    if goal <= 0:
        return made
    bad = judged[(now_errors > goal) & (counts >= 1.0)]
    if not bad.size:
        return replace(made, steps=np.zeros_like(made.steps), then=now_errors, end=now_errors, at_end=())
    between = np.diff(np.array(sorted(at)))
    beside = 1.01 * float(between.min()) if between.size else 1.0
    near = [bool(a) and float(np.abs(bad - k.at).min()) <= beside for k, a in zip(knobs, allowed, strict=True)]
    if not any(near):
        return made
    return plan(knobs, seen, moved, target, white, black, allowed=near, curve=curve, palette=palette)


def _unsure(
    model: Fit, levels: Floats, moved: Floats, seen: Sequence[Seen], target: Target, white: float, black: float, *, curve: bool,
    roll: RollOff | None,
) -> Floats:  # fmt: skip
    """Return the error (n,), in the target's own measure, that levels (n,) have by what is not known of them."""
    weigh = metric(levels, target, white, black, roll) @ seen_of(model.boost)
    if not curve:
        weigh[:, 0] = 0.0
    off = weigh * doubt_of(model, levels, moved, seen)[:, None, :]
    return np.asarray(LESS * target.metric.weight * np.sqrt((off**2).sum(axis=(1, 2))))


def _room_of_black(model: Fit, blacks: Sequence[tuple[Floats, float]], white: float, black: float) -> float:
    """Return by how much of signal black may be lifted at most, from where the knobs were found."""
    read = [(float(lift_of(model, moved) @ moved), luminance) for moved, luminance in blacks]
    return black_of(white, black, read).most(black)


def to_read(knobs: Sequence[Control], palette: Palette = SDR) -> list[float]:
    """Return the levels in percent, bright to dark, at which points are judged: their own, white, and some between few.

    In HDR only up to where the display ends, with some about that.
    """
    if palette.is_shortened:
        top = 100.0 * palette.top
        mine = {round(100.0 * k.at, 3) for k in knobs if k.kind in ("point", "tone") and 100.0 * k.at < top}
        between = (100.0, 60.0, 40.0, 25.0, 20.0) if mine else WITHOUT_POINTS
        # Black too: offsets may raise it.
        mine |= {100.0, *palette.end, *palette.greys(between), *([0.0] if any(k.kind == "offset" for k in knobs) else [])}
        return sorted(mine, reverse=True)
    at = {round(100.0 * k.at, 3) for k in knobs if k.kind in ("point", "tone")} | {100.0}
    if len(at) < 12:
        at |= {5.0, 10.0, 15.0, 35.0, 55.0, 75.0, 95.0}
    return sorted(at, reverse=True)


def to_read_again(
    model: Fit, moved: Floats, at: Sequence[float], seen: Sequence[Seen], target: Target, white: float, black: float,
    palette: Palette = SDR,
) -> list[float]:
    """Return the levels in percent that a second pass should read: those expected to be worst, or that are known least."""
    at = [v for v in at if v <= 100.0 * (palette.top + NEAR)]
    order = worth_reading(model, np.array(at) / 100.0, moved, seen, target, white, black, palette.roll)
    return sorted({100.0, *(float(at[i]) for i in order[:MOST_AGAIN])}, reverse=True)
