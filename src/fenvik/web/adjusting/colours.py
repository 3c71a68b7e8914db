"""What single colours know at a moment: where each stands, what its controls do, and the next nudge."""

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np

from fenvik.core.analysis.analysis import Analysis, analyse
from fenvik.core.controls import Control, of_colour
from fenvik.core.errors import NoWhiteError
from fenvik.core.models import hueprior
from fenvik.core.models import hues as core
from fenvik.core.models.hues import HUES
from fenvik.core.signal.patches import Patch, grey, patch
from fenvik.core.types import Floats
from fenvik.web.adjusting.ends import palette_of
from fenvik.web.adjusting.speaking import grey_level, speaks
from fenvik.web.controls.history import History
from fenvik.web.controls.values import Values, values_of
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.services import start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import core_readings
from fenvik.web.visits.models import Tuning

LEAST_PATCHES = 2  # of a colour's, that a look has: the full one and the pale one


@dataclass(frozen=True)
class Hue:
    """One colour: ``parts`` are the differences of its newest look, ``nudge`` what to turn; both None while it was not read."""

    name: str
    turns: list[Control]
    parts: Floats | None
    is_stale: bool
    nudge: core.HueNudge | None
    dead: list[str]  # labels of controls that do nothing
    basis: Reading | None
    weight: float = 1.0  # by which parts, weighed as CIEDE2000, become the target's own measure

    @property
    def errors(self) -> Floats | None:
        """The size of the difference of each patch, in the target's own measure."""
        return None if self.parts is None else core.errors_of(self.parts) * self.weight

    @property
    def expected(self) -> float | None:
        """The average that the nudge should leave, in the target's own measure."""
        return None if self.nudge is None else float(self.nudge.then.mean()) * self.weight

    @property
    def error(self) -> float | None:
        """The average over the patches."""
        return None if self.errors is None else float(self.errors.mean())

    @property
    def is_done(self) -> bool:
        """Whether it was read as it stands and nothing more is proposed."""
        return self.parts is not None and not self.is_stale and self.nudge is None


def patches(tuning: Tuning, hue: str) -> list[Patch]:
    """Return the patches that a colour is judged by."""
    range_: Any = tuning.range
    return [patch(label, percent, tuning.bits, range_) for label, percent in palette_of(tuning).hues[hue]]


def hues_of(tuning: Tuning, values: Values, rows: list[Reading]) -> list[Hue]:
    """Return every colour that the menu has controls for; ``rows`` are recent readings, oldest first."""
    rows = [row for row in rows if speaks(row) and not row.too_dark and row.y > 0]
    history = values.history
    epochs = [history.epoch_of(row) for row in rows]
    colours = {c["id"] for c in values.controls if (c.get("role") or "").startswith("colour.")}
    # White and black as they were read last since anything but a single colour was turned.
    since = history.since(colours)
    white, black = _level(rows, epochs, since, 1.0), _level(rows, epochs, since, 0.0)
    hold = (float(white or 1.0), black or 0.0)
    seen = [
        _seen(tuning, rows if white else [], epochs if white else [], history, name, turns, hold)
        for name in HUES
        if (turns := of_colour(values.controls, values.now, name))
    ]
    dead = found_dead(tuning)
    return [_hue(tuning, each, [s for s in seen if s is not each], history, hold, since, dead) for each in seen]


@dataclass(frozen=True)
class _Seen:
    """What was read of a colour: its looks, how its controls have stood, and its newest reading with the epoch of that."""

    name: str
    turns: list[Control]
    fraction: Floats
    looks: list[core.Look]
    settings: list[Floats]
    newest: Reading | None
    at: int


def found_dead(tuning: Tuning) -> frozenset[str]:
    """Return the controls that the newest hands-free run of this tuning found to do nothing."""
    runs = tuning.passes.filter(purpose=PassPurpose.HANDS_FREE, finished_at__isnull=False)
    return frozenset(runs.order_by("-created_at").values_list("run__dead", flat=True).first() or ())


def _level(rows: list[Reading], epochs: list[int], since: int, level: float) -> float | None:
    there = [
        (epoch >= since, row) for row, epoch in zip(rows, epochs, strict=True)
        if (read := grey_level(row)) is not None and abs(read - level) < 1e-6
    ]  # fmt: skip
    fresh = [row for is_fresh, row in there if is_fresh]
    found = fresh or [row for _, row in there]
    return None if not found else max(float(found[-1].seen[1]), 0.0)


def _seen(
    tuning: Tuning, rows: list[Reading], epochs: list[int], history: History, name: str, turns: list[Control],
    hold: tuple[float, float],
) -> _Seen:  # fmt: skip
    wanted = patches(tuning, name)
    mine = {turn.id for turn in turns}
    eras = history.eras(mine)
    settings = [
        np.array([value / t.step for t, value in zip(turns, stood, strict=True)])
        for stood in history.stood([(t.id, t.value) for t in turns])
    ]
    fraction = np.array([p.fraction(tuning.bits, tuning.range) for p in wanted])
    looks: list[core.Look] = []
    newest: Reading | None = None
    at = -1
    for epoch in sorted(set(epochs)):
        seen = {}
        for row, its in zip(rows, epochs, strict=True):
            if its == epoch:
                seen[(row.r, row.g, row.b, row.pass_of.bits)] = row
        found = [seen.get((*p.rgb, tuning.bits)) for p in wanted]
        if None in found[:LEAST_PATCHES]:
            continue
        # A look without its skin tone teaches of the others all the same.
        xyz = np.array([np.full(3, np.nan) if row is None else row.seen for row in found])
        looks.append(core.Look(core.parts_of(fraction, xyz, tuning.target, *hold), settings[epoch], eras[epoch]))
        newest, at = next(row for row in reversed(found) if row is not None), epoch
    return _Seen(name, turns, fraction, looks, settings, newest, at)


def _hue(
    tuning: Tuning, seen: _Seen, others: list[_Seen], history: History, hold: tuple[float, float], since: int,
    dead_before: frozenset[str],
) -> Hue:  # fmt: skip
    name, turns, looks, at = seen.name, seen.turns, seen.looks, seen.at
    if not looks:
        return Hue(name, turns, None, False, None, [], None)
    # What a step does to one colour it does to the others too: a hue's direction is known after the first that was turned.
    taught_by = ((other.turns, other.fraction, other.looks) for other in others)
    belief = hueprior.believed((turns, seen.fraction, looks), taught_by, tuning.target, *hold)
    parts = core.standing(belief, looks, seen.settings[-1])
    if not np.isfinite(parts).all():
        return Hue(name, turns, None, False, None, [], None)
    # Turned since it was read: one of its own controls, or what every colour hangs on, such as the light.
    mine = {turn.id for turn in turns}
    stale = at < since or any(control in mine for _, _, changed in history.starts[at:] for control in changed)
    # What hands-free has found to do nothing is not tried again by hand.
    none = np.array([t.id in dead_before for t in turns])
    belief = replace(belief, dead=tuple(bool(d or n) for d, n in zip(belief.dead, none, strict=True)))
    nudge = None if stale or none.all() else core.propose(turns, belief, parts)
    if nudge is not None and nudge.steps[none].any():
        nudge = None if not nudge.steps[~none].any() else replace(nudge, steps=np.where(none, 0, nudge.steps))
    dead = [t.label for t, is_dead in zip(turns, belief.dead, strict=True) if is_dead]
    return Hue(name, turns, parts, stale, nudge, dead, seen.newest, tuning.target.metric.weight)


def chosen(all_hues: list[Hue], asked: str) -> Hue | None:
    """Return the colour that is worked on: the one that was asked for, else the worst that is not done."""
    by_name = {hue.name: hue for hue in all_hues}
    if asked in by_name:
        return by_name[asked]
    open_ones = [hue for hue in all_hues if not hue.is_done]
    return max(open_ones or all_hues, key=lambda hue: hue.error or 0.0, default=None)


@needs(Right.MEASURE)
def read_hues(*, tuning_id: int, actor: User, names: list[str], now: datetime) -> Pass:
    """Read the patches of colours, white first where there is more than one. Raises what ``start_pass`` raises."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("display__menu_map").get(pk=tuning_id)
    values = values_of(tuning)
    known = {hue for hue in HUES if of_colour(values.controls, values.now, hue)}
    range_: Any = tuning.range
    listed = [grey(100.0, tuning.bits, range_)] if len(names) != 1 else []
    for name in names or list(HUES):
        if name in known:
            listed += patches(tuning, name)
    return start_pass(tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.ADJUST, patches=listed)


def analysis_now(tuning: Tuning, rows: list[Reading], found: Analysis | None) -> Analysis | None:
    """Return the analysis of the newest reading of every patch that single colours are judged by; None without one."""
    range_: Any = tuning.range
    wanted = {p.rgb for hue in HUES for p in patches(tuning, hue)} | {grey(100.0, tuning.bits, range_).rgb}
    newest: dict[tuple[int, int, int], Reading] = {}
    adjusting = (PassPurpose.ADJUST, PassPurpose.HANDS_FREE)
    for row in rows:
        if row.pass_of.purpose in adjusting and (row.r, row.g, row.b) in wanted and not row.too_dark:
            newest[(row.r, row.g, row.b)] = row
    if not newest:
        return None
    shown = list(newest.values())
    try:
        readings = core_readings(shown[-1].pass_of, shown)
        # White as it was read with them, else as it was found.
        return analyse(
            readings, tuning.target, white=None if found is None else found.white, black=None if found is None else found.black
        )
    except NoWhiteError:
        return None
