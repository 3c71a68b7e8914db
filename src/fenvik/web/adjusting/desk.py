"""Everything that the stop Adjust knows at a moment: computed from readings and changes, never kept."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fenvik.charts.balance import Level as ChartLevel
from fenvik.core.analysis import greyscale
from fenvik.core.controls import Control, of_greys
from fenvik.core.measure import uncertainty
from fenvik.core.measure.noticed import is_as_proposed, turned
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.models import grains
from fenvik.core.models.nudge import Level, Nudge, Surroundings, clipping_channels, propose
from fenvik.core.models.state import GreyReading, as_felt, levels_now, nothing_came
from fenvik.core.models.twopoint import Response, drive, light
from fenvik.core.types import Floats
from fenvik.web.adjusting.ends import ends_of, highest
from fenvik.web.adjusting.learned import learned_version, prior_of
from fenvik.web.adjusting.speaking import grey_level, speaks
from fenvik.web.controls.history import History
from fenvik.web.controls.values import Values
from fenvik.web.kit.keeping import Kept
from fenvik.web.passes.models import PassPurpose, Reading
from fenvik.web.visits.models import Tuning

LOCKED = (
    "Nothing came of what was turned. Either the meter sees another display or picture mode, or this one lets white balance be set "
    "in another {preset} alone."
)
CHANNEL = {"red": 0, "green": 1, "blue": 2}


@dataclass(frozen=True)
class GreyRow:
    """A grey reading with what was known of the controls when it was begun."""

    row: Reading
    level: float  # fraction of signal
    epoch: int  # how many groups of changes had been made before it was begun
    adjust: bool


@dataclass(frozen=True)
class Desk:
    """The state of two-point adjusting."""

    tuning: Tuning
    values: Values
    controls: list[Control]
    surroundings: Surroundings | None
    repeatability: Repeatability | None
    greys: list[GreyRow]
    levels: list[Level]
    response: Response | None
    nudge: Nudge | None
    other: Nudge | None  # of the other end, once this end has nothing left: turning one end moves the other a little
    basis: GreyRow | None  # the reading that the nudge stands on
    newest: GreyRow | None  # the newest at the level that is worked on
    ends: tuple[float, float] = (80.0, 30.0)  # percent: the levels of the two ends
    is_locked: bool = False  # nothing came of what was turned at this end

    @property
    def end(self) -> str:
        """Gain or offset: what is turned at the end that is worked on."""
        return "gain" if self.tuning.place.end == "high" else "offset"

    @property
    def percent(self) -> float:
        """The level that is worked on, in percent."""
        return self.ends[0] if self.tuning.place.end == "high" else self.ends[1]

    @property
    def is_stale(self) -> bool:
        """Whether the controls were turned after the newest reading at this level."""
        return self.newest is None or self.newest.epoch < self.values.history.newest

    @property
    def other_percent(self) -> float:
        """The level of the other end, in percent."""
        return self.ends[1] if self.tuning.place.end == "high" else self.ends[0]

    @property
    def other_was_read(self) -> bool:
        """Whether the other end was worked on already."""
        return any(grey.adjust and abs(grey.level * 100.0 - self.other_percent) < 0.5 for grey in self.greys)

    @cached_property
    def live(self) -> tuple[Floats, Floats, float, float] | None:
        """Return balance, its std, error and its std of the newest reading at this level."""
        if self.newest is None or self.surroundings is None or self.repeatability is None:
            return None
        row, around = self.newest.row, self.surroundings
        xyz = np.array(row.seen)
        covariance = self.repeatability.covariance(xyz, np.asarray(float(row.average)))

        target, white = around.target, around.target.white * around.white
        wanted = target.xyz(np.full((1, 3), self.newest.level), around.white, around.black)

        whole = bool(around.says_tone(np.array([self.newest.level]))[0])

        def error(values: Floats) -> Floats:
            return (target.metric.whole if whole else target.metric.colour_only)(wanted, values, white)

        std = uncertainty.length_std(error, xyz[None], covariance[None])
        balance = greyscale.balance(xyz, target)
        balance_std = uncertainty.propagate(lambda v: greyscale.balance(v, target), xyz[None], covariance[None])[0]
        return balance, balance_std, float(error(xyz[None])[0]), float(std[0])

    @property
    def told(self) -> list[str]:
        """What readings tell of the menu."""
        return [*grains.said(self.controls), *([LOCKED.format(preset=lock)] if (lock := self.locked_by) else [])]

    @property
    def locked_by(self) -> str:
        """What the menu calls its white preset, where nothing came of what was turned at this end; else empty."""
        presets = [str(c["label"]) for c in self.values.controls if c.get("role") == "white-preset"]
        return [*presets, "white preset"][0] if self.is_locked else ""

    @property
    def taught(self) -> Response | None:
        """What a step of the menu does, for the next sample of the model."""
        return None if self.response is None or not self.controls else self.response.scaled(1.0 / self.controls[0].every)

    @property
    def light_off(self) -> float | None:
        """By what share the newest reading at this level has more light than is wanted; None where only the balance counts."""
        around = self.surroundings
        if self.newest is None or around is None or not around.says_tone(np.array([self.newest.level]))[0]:
            return None
        wanted = around.target.xyz(np.full((1, 3), self.newest.level), around.white, around.black)[0, 1]
        return float(self.newest.row.seen[1] / wanted - 1.0)

    @cached_property
    def noticed(self) -> tuple[Floats, bool] | None:
        """What was turned without being logged: each light's change as a share, and whether it is what was proposed.

        Told from the newest reading at this level and the one that the nudge stands on, with the controls as they are known.
        """
        if self.newest is None or self.basis is None or self.surroundings is None or self.repeatability is None:
            return None
        if self.newest.row.pk == self.basis.row.pk or self.newest.epoch != self.basis.epoch:
            return None
        rows, around = (self.basis.row, self.newest.row), self.surroundings
        xyz = [np.array(row.seen) for row in rows]
        change = turned(xyz[0], xyz[1], around.target, self.repeatability, (rows[0].average, rows[1].average))
        if change is None:
            return None
        as_proposed = False
        if self.nudge is not None and self.nudge.moves and self.response is not None:
            steps = np.zeros(len(self.controls))
            for move in self.nudge.moves:
                steps[self.controls.index(move.control)] = move.steps
            drives = drive(np.stack(xyz), around.target, around.white, around.black)
            as_proposed = is_as_proposed(drives[1] - drives[0], self.response.jacobian(self.newest.level) @ steps)
        return change, as_proposed

    def chart_levels(self, found: dict[float, Floats], tolerance: float) -> tuple[ChartLevel, ...]:
        """Return the rows of the balance chart as the display should stand now; ``found``: balance by percent."""
        if self.surroundings is None or not self.levels:
            return ()
        around = self.surroundings
        at = np.array([level.level for level in self.levels])
        drives = np.array([level.drive for level in self.levels])
        xyz = light(drives, around.target, around.white, around.black)
        balance = greyscale.balance(xyz, around.target) - 100.0
        errors = around.errors(at, drives)
        band = greyscale.tolerance_percent(at, around.target, around.white, around.black, tolerance)
        rows = []
        for i, level in enumerate(self.levels):
            # d(ln light) is the curve's slope times the drive's change; the mean of the three carries no balance.
            slope = _log_slope(around, level)
            std = 100.0 * slope * np.sqrt(np.maximum(np.diag(level.covariance), 0.0))
            percent = round(float(at[i]) * 100.0)
            was = found.get(float(percent))
            rows.append(
                ChartLevel(
                    percent=float(percent),
                    deviation=(float(balance[i, 0]), float(balance[i, 1]), float(balance[i, 2])),
                    std=(float(std[0]), float(std[1]), float(std[2])),
                    error=float(errors[i]),
                    found=None if was is None else (float(was[0]), float(was[1]), float(was[2])),
                    tolerance=float(band[i]),
                )
            )
        return tuple(rows)


def _log_slope(around: Surroundings, level: Level) -> Floats:
    step = 1e-4
    up = around.target.light(level.drive + step, around.white, around.black)
    down = around.target.light(level.drive - step, around.white, around.black)
    result: Floats = (up - down) / (2 * step) / np.maximum(0.5 * (up + down), 1e-9)
    return result


def core_controls(values: Values) -> list[Control]:
    """Return the two-point controls of a menu whose value is known."""
    return of_greys(values.controls, values.now, ("gain", "offset"))


def _grey_rows(rows: list[Reading], history: History) -> list[GreyRow]:
    made = []
    for row in rows:
        level = grey_level(row)
        if level is not None and row.y > 0 and speaks(row):
            made.append(GreyRow(row, level, history.epoch_of(row), row.pass_of.purpose == PassPurpose.ADJUST))
    return made


def at_rest(greys: Sequence[GreyRow]) -> list[GreyRow]:
    """Return the readings that can be relied on: while reading continuously, the first of each state of the controls.

    The later ones may have been taken while the person was turning, before Fenvik was told.
    """
    seen = set()
    kept = []
    for grey in greys:
        key = (grey.row.pass_of_id, grey.epoch, grey.level)
        if grey.row.pass_of.repeat and key in seen:
            continue
        seen.add(key)
        kept.append(grey)
    return kept


def _brings_tone(tuning: Tuning, values: Values) -> bool:
    """Whether gains and offsets are all that brings luminance where the target says it: PQ, and a menu without points."""
    return tuning.target.curve == "pq" and tuning.corrects_curve


def _surroundings(tuning: Tuning, greys: Sequence[GreyRow], values: Values) -> Surroundings | None:
    """Return white and black that errors are counted against: of the first whole pass, so that learning has one scale."""
    tone = _brings_tone(tuning, values)
    whites = [grey for grey in greys if grey.level == 1.0]
    black = next((max(grey.row.seen[1], 0.0) for grey in greys if grey.level == 0.0), 0.0)
    if whites:
        return Surroundings(tuning.sought, whites[0].row.seen[1], black, tone)
    if greys:
        brightest = max(greys, key=lambda grey: grey.level)
        share = float(tuning.sought.light(brightest.level, 1.0, 0.0))
        return Surroundings(tuning.sought, brightest.row.seen[1] / max(share, 1e-6), 0.0, tone)
    return None


_kept: Kept["Desk"] = Kept(12)  # each holds hundreds of readings


def kept_lay_out(tuning: Tuning, values: Values, rows: list[Reading]) -> Desk:
    """Return the desk of a tuning, from memory where nothing that it is made of has changed.

    Readings and changes are only ever added, so the newest of each says whether an earlier desk still holds.
    """
    key = (
        tuning.pk, ends_of(tuning), tuning.place.end, tuning.sought,
        tuning.picture_mode, rows[-1].pk if rows else 0, len(rows), learned_version(tuning),
        values.changes[-1].pk if values.changes else 0,
        repr(values.found), repr(values.controls), frozenset((row.pass_of_id, row.pass_of.correction_id) for row in rows),
    )  # fmt: skip
    return _kept.get(key, lambda: lay_out(tuning, values, rows))


def lay_out(tuning: Tuning, values: Values, rows: list[Reading]) -> Desk:
    """Return the desk of a tuning; ``rows`` are its recent readings, oldest first."""
    controls = core_controls(values)
    history = values.history
    greys = _grey_rows(rows, history)
    around = _surroundings(tuning, greys, values)
    meter = greys[-1].row.pass_of.meter_facts if greys else None
    repeatability = None if meter is None else Repeatability.of(meter["repeatability"])
    ends = ends_of(tuning)
    percent = ends[0] if tuning.place.end == "high" else ends[1]
    # What an HDR display rolls off says nothing of what a gain does.
    top = highest(tuning) / 100.0 + 0.02
    here = [grey for grey in greys if abs(grey.level * 100.0 - percent) < 0.5]
    newest = here[-1] if here else None
    levels: list[Level] = []
    response = nudge = other = basis = None
    is_locked = False
    if controls and around is not None and repeatability is not None:
        states = history.stood([(control.id, control.value) for control in controls])
        eras = history.eras({control.id for control in controls})
        rest = at_rest(greys)
        readings = [
            GreyReading(
                grey.level, np.array(grey.row.seen), grey.row.average,
                states[grey.epoch], fresh=grey.adjust, era=eras[grey.epoch],
            )
            for grey in rest
            if grey.level <= top
        ]  # fmt: skip
        controls, response = as_felt(readings, controls, around, repeatability, prior_of(tuning, controls))
        levels = levels_now(readings, controls, around, repeatability, response)
        is_locked = nothing_came(readings, controls, around, repeatability, "gain" if tuning.place.end == "high" else "offset")
        rest_here = [grey for grey in rest if abs(grey.level * 100.0 - percent) < 0.5]
        basis = rest_here[-1] if rest_here else None
        if levels and basis is not None:
            kinds = ("gain", "offset") if tuning.place.end == "high" else ("offset", "gain")

            def for_end(end: str) -> Nudge:
                assert response is not None
                assert around is not None
                return propose(
                    levels=levels,
                    controls=controls,
                    response=response,
                    surroundings=around,
                    allowed=[control.id for control in controls if control.kind == end],
                    clipping=() if tuning.target.is_hdr else _clipping(levels),
                )

            nudge = for_end(kinds[0])
            other = None if nudge.moves else for_end(kinds[1])
    return Desk(
        tuning, values, controls, around, repeatability, greys, levels, response, nudge, other, basis, newest, ends, is_locked
    )


def _clipping(levels: Sequence[Level]) -> tuple[int, ...]:
    return clipping_channels(np.array([lv.level for lv in levels]), np.array([lv.drive for lv in levels]))
