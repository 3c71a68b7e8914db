"""What the points of the white balance know at a moment: levels that were read, the next list of changes, and what is left."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from fenvik.core.controls import Control, of_greys
from fenvik.core.models import points as core
from fenvik.core.models.grey import Seen, drives_of
from fenvik.core.models.rolloff import roll_off_of
from fenvik.formats.numbers import NumberError, number
from fenvik.web.adjusting.ends import palette_of
from fenvik.web.adjusting.speaking import grey_level, speaks
from fenvik.web.controls.values import Values
from fenvik.web.kit.keeping import Kept
from fenvik.web.passes.models import Reading
from fenvik.web.visits.models import Tuning

KINDS = ("gain", "offset", "point", "tone")
MOST_KEPT = 12
MOST_GOAL = 10.0  # of the error
REACH = 0.05  # of signal: a point that lies so far beyond the end of an HDR display still pulls at what it shows


@dataclass(frozen=True)
class Points:
    """``plan`` is None while too little was read; ``levels`` in percent is what the next pass reads."""

    knobs: list[Control]
    moved: Any  # (k,) steps from as found
    plan: core.Plan | None
    levels: list[float]
    read_now: int  # of the levels, with the controls as they stand now
    count: int  # levels in all
    white: float

    @property
    def has_points(self) -> bool:
        """Whether the menu has points whose values are known."""
        return any(knob.kind in ("point", "tone") for knob in self.knobs)

    @property
    def is_stale(self) -> bool:
        """Whether the controls were turned after the levels were read."""
        return self.read_now < min(6, self.count)

    @property
    def point_count(self) -> int:
        """How many levels the menu has."""
        return len({knob.at for knob in self.knobs if knob.kind in ("point", "tone")})

    @property
    def control_count(self) -> int:
        """How many controls the points have."""
        return sum(knob.kind in ("point", "tone") for knob in self.knobs)

    def proposes(self, tolerance: float) -> bool:
        """Whether a list is worth its keys: a level is outside the tolerance, and the changes bring enough for them."""
        return self.plan is not None and float(self.plan.now.max()) > tolerance and self.plan.is_worth_it

    def rows(self, values: Values) -> list[dict[str, Any]]:
        """Return the proposed changes in the menu's own order."""
        if self.plan is None:
            return []
        steps = {knob.id: (knob, step) for knob, step in zip(self.knobs, self.plan.steps, strict=True) if step}
        made = []
        for control in values.controls:
            if control["id"] not in steps:
                continue
            knob, step = steps[control["id"]]
            after = round(float(values.now[knob.id]) + float(step) * knob.step, 9)
            made.append(
                {
                    "control": knob.id, "label": control["label"], "before": values.now[knob.id],
                    "after": int(after) if after.is_integer() else after, "group": f"{100 * knob.at:g} %",
                    "channel": knob.light,
                }
            )  # fmt: skip
        return made


_kept: Kept[Points] = Kept(MOST_KEPT)


def points_of(tuning: Tuning, values: Values, rows: list[Reading], goal: float = 0.0) -> Points:
    """Return the points of a tuning; ``rows`` are its recent readings, oldest first. From memory where nothing has changed.

    ``goal``: an error that is good enough; 0 is as good as it gets.
    """
    key = (
        tuning.pk, tuning.target, tuning.corrects_curve, goal, rows[-1].pk if rows else 0, len(rows),
        values.changes[-1].pk if values.changes else 0, repr(values.found), repr(values.controls),
        frozenset((row.pass_of_id, row.pass_of.correction_id) for row in rows),
    )  # fmt: skip
    return _kept.get(key, lambda: _points(tuning, values, rows, goal))


def _points(tuning: Tuning, values: Values, rows: list[Reading], goal: float) -> Points:
    found = values.found or {}
    knobs = of_greys(values.controls, {**values.now, **found}, KINDS)
    mine = {knob.id for knob in knobs}
    moved = np.array([(float(values.now[k.id]) - k.value) / k.step for k in knobs])
    history = values.history
    # What was read before anything else was turned, such as the light, tells of another display.
    since = history.since(mine)
    states = [
        np.array([(value - k.value) / k.step for k, value in zip(knobs, stood, strict=True)])
        for stood in history.stood([(k.id, k.value) for k in knobs])
    ]
    greys = []
    for row in rows:
        level = grey_level(row)
        if level is None or not speaks(row) or row.pass_of.repeat:
            continue
        epoch = history.epoch_of(row)
        if epoch >= since:
            greys.append((level, epoch, row))
    target = tuning.target
    palette = palette_of(tuning)
    at = core.to_read(knobs, palette)
    whites = [row for level, _, row in greys if level == 1.0]
    if not whites or whites[0].y <= 0:
        return Points(knobs, moved, None, at, 0, len(at), 0.0)
    white = core.held(np.array(whites[0].seen), target)
    black = next((max(row.seen[1], 0.0) for level, _, row in greys if level == 0.0), 0.0)
    if palette.is_shortened:
        first = min(epoch for _, epoch, _ in greys)
        told = [(level, float(row.seen[1])) for level, epoch, row in greys if epoch == first]
        palette = replace(palette, roll=roll_off_of([v for v, _ in told], [y for _, y in told], black))
    lit = [(level, epoch, row) for level, epoch, row in greys if level > 0.025 and row.y > 0]
    drives = drives_of(np.array([row.seen for _, _, row in lit]), target, white, black, roll=palette.roll)
    seen = [Seen(level, drives[i], states[epoch], float(i)) for i, (level, epoch, _) in enumerate(lit)]
    allowed = [knob.kind in ("point", "tone") and knob.at <= palette.top + REACH for knob in knobs]
    plan = core.plan(
        knobs, seen, moved, target, white, black, allowed=allowed, curve=tuning.corrects_curve, palette=palette, goal=goal
    )
    here = {round(100 * level, 1) for level, epoch, _ in lit if epoch == history.newest}
    read_now = sum(any(abs(level - v) < 0.6 for v in here) for level in at)
    # After the first list of a menu with many points only those levels are read again that are worst or known least.
    again = at
    if plan is not None and moved[np.array(allowed)].any() and len(at) > core.MOST_AGAIN:
        times = [sum(abs(100 * level - v) < 0.6 for level, _, _ in lit) for v in at]
        if min(times) >= 2:
            again = core.to_read_again(plan.model, moved, at, seen, target, white, black, palette)
    return Points(knobs, moved, plan, again, read_now, len(at), white)


def goal_of(typed: str) -> float:
    """Return the error that a list may be content with; 0, as good as it gets, where none was typed that is one."""
    try:
        told = number(typed) if typed.strip() else 0.0
    except NumberError:
        return 0.0
    return told if 0.0 <= told <= MOST_GOAL else 0.0
