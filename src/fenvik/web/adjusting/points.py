"""What the points of the white balance know at a moment: levels that were read, the next list of changes, and what is left."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from fenvik.core.controls import Control, of_greys, steps_to
from fenvik.core.models import menuwords
from fenvik.core.models import points as core
from fenvik.core.models.grey import Seen, drives_of
from fenvik.core.models.palette import SDR, Palette
from fenvik.core.models.rolloff import roll_off_of
from fenvik.formats.numbers import NumberError, number
from fenvik.web.adjusting.ends import palette_of
from fenvik.web.adjusting.models import ChangeList, ListKind
from fenvik.web.adjusting.speaking import grey_level, speaks
from fenvik.web.adjusting.whitelevel import WhiteLevel
from fenvik.web.controls.history import History
from fenvik.web.controls.values import Values
from fenvik.web.kit.keeping import Kept
from fenvik.web.passes.models import Reading
from fenvik.web.visits.models import Tuning

POINTS = ("point", "tone")
KINDS = ("gain", "offset", *POINTS)
BENDS = ("white.at.", "gamma.at.")  # roles of points
MOST_KEPT = 12
NEAR_END, CLOSELY = (0.85, 1.25), 5  # of the greatest level that is judged; levels there that tell how a display ends
MOST_CLOSED = 12  # lists that were closed last, of which is known what came of them
MOST_GOAL = 10.0  # of the error


@dataclass(frozen=True)
class Points:
    """``plan`` is None while too little was read; ``levels`` in percent is what the next pass reads."""

    knobs: list[Control]
    allowed: list[bool]  # which of them a list may turn
    moved: Any  # (k,) steps from as found, of points from their defaults
    plan: core.Plan | None
    levels: list[float]
    read_now: int  # of the levels, with the controls as they stand now
    count: int  # levels in all
    white: float
    palette: Palette = SDR  # with how an HDR display ends
    # A control, and what it is to be turned to, for gains that are at their end.
    gives_room: tuple[dict[str, Any], float] | None = None

    @property
    def has_points(self) -> bool:
        """Whether the menu has points whose values are known."""
        return any(knob.kind in POINTS for knob in self.knobs)

    @property
    def can_turn(self) -> bool:
        """Whether there is anything that a list may turn: in PQ gains and offsets too."""
        return any(self.allowed)

    @property
    def is_stale(self) -> bool:
        """Whether the controls were turned after the levels were read."""
        return self.read_now < min(6, self.count)

    @property
    def told(self) -> list[str]:
        """What the readings tell of the menu."""
        return menuwords.said(self.knobs, None if self.plan is None else self.plan.model)

    @property
    def point_count(self) -> int:
        """How many levels the menu has."""
        return len({knob.at for knob in self.knobs if knob.kind in POINTS})

    @property
    def control_count(self) -> int:
        """How many controls a list may turn."""
        return sum(self.allowed)

    def proposes(self, tolerance: float, goal: float = 0.0) -> bool:
        """Whether a list is worth its keys: not all is well within the tolerance, and the changes bring enough for them.

        ``goal``: an error at which a person is content; 0 for as good as it gets.
        """
        if self.plan is None or (self.plan.told(self.plan.now)[1] <= goal if goal else self.plan.is_within(tolerance)):
            return False
        return self.gives_room is not None or self.plan.is_worth_it

    def rows(self, values: Values) -> list[dict[str, Any]]:
        """Return the proposed changes in the menu's own order."""
        if self.plan is None:
            return []
        if self.gives_room is not None:
            control, after = self.gives_room
            return [_row(control, values.now[control["id"]], after, control["label"], None)]
        steps = {knob.id: (knob, step) for knob, step in zip(self.knobs, self.plan.steps, strict=True) if step}
        made = []
        for control in values.controls:
            if control["id"] not in steps:
                continue
            knob, step = steps[control["id"]]
            after = round(knob.value_at(knob.steps_to(float(values.now[knob.id])) + float(step)), 9)
            made.append(_row(control, values.now[knob.id], after, _place(knob), knob.light))
        return made


def _row(control: dict[str, Any], before: Any, after: float, group: str, channel: int | None) -> dict[str, Any]:
    return {
        "control": control["id"], "label": control["label"], "before": before,
        "after": int(after) if float(after).is_integer() else after, "group": group, "channel": channel,
    }  # fmt: skip


def _place(knob: Control) -> str:
    """Return under which heading a control is entered: its level, or what its kind is called."""
    return f"{100 * knob.at:g} %" if knob.kind in POINTS else f"{knob.kind.capitalize()}s"


_kept: Kept[Points] = Kept(MOST_KEPT)


def points_of(tuning: Tuning, values: Values, rows: list[Reading], goal: float = 0.0) -> Points:
    """Return the points of a tuning; ``rows`` are its recent readings, oldest first. From memory where nothing has changed.

    ``goal``: an error that is good enough; 0 is as good as it gets.
    """
    closed = list(
        ChangeList.objects.filter(tuning=tuning, kind=ListKind.POINTS, closed_at__isnull=False).order_by("-pk")[:MOST_CLOSED]
    )
    key = (
        tuning.pk, tuning.sought, tuning.corrects_curve, goal, closed[0].pk if closed else 0, rows[-1].pk if rows else 0, len(rows),
        values.changes[-1].pk if values.changes else 0, repr(values.found), repr(values.controls),
        frozenset((row.pass_of_id, row.pass_of.correction_id) for row in rows),
    )  # fmt: skip
    return _kept.get(key, lambda: _points(tuning, values, rows, goal, closed))


@dataclass(frozen=True)
class _Grey:
    """A grey that was read since anything else was turned; ``level`` as a fraction of signal."""

    level: float
    epoch: int
    row: Reading

    @property
    def luminance(self) -> float:
        """What was read, in cd/m², by the correction that counts now."""
        return float(self.row.seen[1])


def _greys_since(rows: list[Reading], history: History, mine: set[str]) -> list[_Grey]:
    """Return the greys that were read since anything but these controls was turned, such as the light: of this display."""
    since = history.since(mine)
    made = []
    for row in rows:
        level = grey_level(row)
        if level is None or not speaks(row) or row.pass_of.repeat:
            continue
        epoch = history.epoch_of(row)
        if epoch >= since:
            made.append(_Grey(level, epoch, row))
    return made


def _points(tuning: Tuning, values: Values, rows: list[Reading], goal: float, closed: list[ChangeList]) -> Points:
    found, history, target = values.found or {}, values.history, tuning.sought
    were = {**values.now, **found}
    # A display's curve is smooth as its maker made it: points that somebody had turned before are moves from there.
    usual = {
        c["id"]: c["default"] for c in values.controls
        if (c.get("role") or "").startswith(BENDS) and c.get("default") is not None and were.get(c["id"]) is not None
    }  # fmt: skip
    knobs = of_greys(values.controls, were | usual, KINDS)
    stood = np.array(history.stood([(k.id, float(were[k.id])) for k in knobs]))
    now = np.array([float(values.now[k.id]) for k in knobs])
    palette = palette_of(tuning)
    allowed = core.turnable(knobs, palette, target, curve=tuning.corrects_curve)
    at = core.to_read(knobs, palette)
    level = WhiteLevel.of(tuning, values)
    greys = _greys_since(rows, history, {knob.id for knob in knobs} | level.ids)
    whites = [grey.row for grey in greys if grey.level == 1.0]
    if not whites or whites[0].y <= 0:
        return Points(knobs, allowed, steps_to(knobs, now), None, at, 0, len(at), 0.0)
    white = core.held(np.array(whites[0].seen), target)
    blacks = [(grey.epoch, max(grey.luminance, 0.0)) for grey in greys if grey.level == 0.0]
    black = blacks[0][1] if blacks else 0.0
    # Only points can bring down single levels that the display shows at its peak; what gains would do for those costs all others.
    has_points = any(k.kind in ("point", "tone") for k in knobs)
    if palette.is_shortened:
        told = _at_the_end(greys, palette.reach if has_points else palette.top)
        palette = replace(palette, roll=roll_off_of([v for v, _ in told], [y for _, y in told], black))
    lit = [grey for grey in greys if grey.level > 0.025 and grey.row.y > 0]
    newest = {round(100 * grey.level, 1) for grey in lit if grey.epoch == history.newest}
    drives = drives_of(np.array([grey.row.seen for grey in lit]), target, white, black, roll=palette.roll)
    if palette.roll is not None and target.ends_otherwise and has_points:
        tells = [not palette.roll.hides(float(d.mean()), grey.level) for d, grey in zip(drives, lit, strict=True)]
        lit, drives = [grey for grey, does in zip(lit, tells, strict=True) if does], drives[tells]
    shifted = level.shifts(history)


    def seen_by(knobs: Sequence[Control]) -> list[Seen]:
        states = steps_to(knobs, stood)
        return [Seen(grey.level, drives[i], states[grey.epoch], float(i), shifted[grey.epoch]) for i, grey in enumerate(lit)]

    knobs = core.as_felt(knobs, seen_by, target)
    seen, moved = seen_by(knobs), steps_to(knobs, now)
    darks = [(steps_to(knobs, stood[epoch]), luminance) for epoch, luminance in blacks]
    turns_offsets = any(a and knob.kind == "offset" for a, knob in zip(allowed, knobs, strict=True))
    propose = partial(
        core.plan, knobs, seen, moved, target, white, black, allowed=allowed, curve=tuning.corrects_curve, palette=palette,
        blacks=darks if turns_offsets else (),
    )  # fmt: skip
    plan = propose(goal=goal)
    outside = plan is not None and plan.told(plan.now)[1] > target.tolerance
    if plan is not None and outside and not goal and not plan.is_worth_it and _kept_its_word(closed, plan):
        # All of it is not worth its keys: perhaps what stands out is.
        part = propose(goal=target.tolerance)
        if part is not None and part.is_worth_it and part.told(part.then)[1] <= target.tolerance:
            plan = part
    read_now = sum(any(abs(percent - v) < 0.6 for v in newest) for percent in at)
    # After the first list of a menu with many points only those levels are read again that are worst or known least.
    again = at
    if plan is not None and moved[np.array(allowed)].any() and len(at) > core.MOST_AGAIN:
        times = [sum(abs(100 * grey.level - v) < 0.6 for grey in lit) for v in at]
        if min(times) >= 2:
            again = core.to_read_again(plan.model, moved, at, seen, target, white, black, palette)
    gives_room = None if plan is None else level.proposed(history, knobs, plan.wants_room, closed)
    return Points(knobs, allowed, moved, plan, again, read_now, len(at), white, palette, gives_room)


def _kept_its_word(closed: list[ChangeList], plan: core.Plan) -> bool:
    """Return whether the last list brought the worst level at least half of the way that it promised; where none was, yes."""
    last = closed[0] if closed else None
    if last is None or "worst_now" not in last.expected:
        return True
    promised = last.expected["worst_now"] - last.expected["worst_then"]
    return bool(last.expected["worst_now"] - plan.told(plan.now)[1] >= 0.5 * promised)


def _at_the_end(greys: list[_Grey], top: float) -> list[tuple[float, float]]:
    """Return levels and luminances of the epoch that tells best how a display ends: the earliest that read its end closely.

    Gains and offsets move the whole course, and with it what it comes to; points bend it, so a later epoch tells less.
    """
    low, high = NEAR_END[0] * top, NEAR_END[1] * top
    near = {epoch: {g.level for g in greys if g.epoch == epoch and low < g.level < high} for epoch in {g.epoch for g in greys}}
    closely = [epoch for epoch in sorted(near) if len(near[epoch]) >= CLOSELY]
    chosen = closely[0] if closely else min(near)
    return [(grey.level, grey.luminance) for grey in greys if grey.epoch == chosen]


def goal_of(typed: str) -> float:
    """Return the error that a list may be content with; 0, as good as it gets, where none was typed that is one."""
    try:
        told = number(typed) if typed.strip() else 0.0
    except NumberError:
        return 0.0
    return told if 0.0 <= told <= MOST_GOAL else 0.0
