"""Where a display stands now: its last readings, carried forward over the changes made since."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.controls import Control, steps_to
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.models.grains import GROUPS, choices
from fenvik.core.models.nudge import Level, Surroundings
from fenvik.core.models.twopoint import Response, drive
from fenvik.core.types import Floats

SCALES = (0.12, 0.3, 3.0, 10.0)  # of what a step does by its range, where it does not do that
AS_EXPECTED = 0.4  # of the square that was expected: a surprise that asks for no other scale
SCALE_DOUBT, UNUSUAL = 1.2, 8.0  # deviation of the logarithm of that scale; what must speak for another than the range's own
FEW_CHANGES, LARGER = 3, 14.0  # changes that were read: fewer tell nothing of larger steps; what must speak for those
SURELY_FELT, PROMISED = 5, 0.02  # steps; of drive, as their range has it
DID_NOTHING, LEAST_DRIVE = 0.12, 0.003  # of what was promised; of drive: less is the meter's noise
FEW_TURNED = 2  # controls: fewer that do little tell nothing of all


@dataclass(frozen=True)
class GreyReading:
    """A grey that was read: level as a fraction of signal, XYZ (3,) in cd/m², and the controls as they stood (k,)."""

    level: float
    xyz: Floats
    average: int
    settings: tuple[float, ...]  # of the controls, in their order, in the display's own values
    fresh: bool = True  # read while adjusting, at a level that the person works on
    era: int = 0  # how often something else was turned before it, such as the light: across that nothing is learned


def _drives(readings: Sequence[GreyReading], surroundings: Surroundings, meter: Repeatability) -> tuple[Floats, Floats]:
    """Return the drives (n, 3) of readings and their covariances (n, 3, 3)."""
    xyz = np.array([reading.xyz for reading in readings])
    covariance = meter.covariance(xyz, np.array([float(reading.average) for reading in readings]))
    size, axes = np.linalg.eigh(covariance)
    steps = np.swapaxes(0.5 * np.sqrt(np.maximum(size, 0.0))[:, None, :] * axes, -1, -2)  # (n, axis, 3)
    points = np.concatenate([xyz[:, None], xyz[:, None] + steps, xyz[:, None] - steps], axis=1)
    drives = drive(points, surroundings.target, surroundings.white, surroundings.black)
    slope = drives[:, 1:4] - drives[:, 4:7]
    return drives[:, 0], np.swapaxes(slope, -1, -2) @ slope


@dataclass(frozen=True)
class _Change:
    """Two readings of a level, neighbours in time, with the values of the controls (k,) before and after."""

    level: float
    before: tuple[float, ...]
    after: tuple[float, ...]
    drive: Floats  # (3,) by which it changed
    covariance: Floats  # (3, 3)


def steps_between(before: Sequence[float], after: Sequence[float], controls: Sequence[Control]) -> Floats:
    """Return how many steps each control went between two states of the controls, (k,)."""
    return steps_to(controls, np.array(after)) - steps_to(controls, np.array(before))


def as_felt(
    readings: Sequence[GreyReading], controls: Sequence[Control], surroundings: Surroundings, meter: Repeatability,
    prior_of: Callable[[Sequence[Control]], Response],
) -> tuple[list[Control], Response]:  # fmt: skip
    """Return the controls and the belief after every pair of neighbouring readings of a level between which something was turned.

    They are in the display's own steps where readings speak for larger ones than the menu's: a control that was turned by less
    did nothing, and is not dead. ``prior_of``: the belief before. ``readings`` are in order of time. Nothing is kept between calls:
    what was undone or read again counts as it stands. How much a step of this menu does is told by its range only roughly: of the
    scales in SCALES that one holds which explains best what was seen, for a single control that does little may be dead.
    """
    best, changes = list(controls), _changes(readings, surroundings, meter)
    response, against = _learned(changes, best, prior_of(best))
    if len(changes) < FEW_CHANGES or against[0] < AS_EXPECTED * 3 * len(changes):
        return best, response
    least = float(against.sum()) - LARGER
    for others in choices(controls, GROUPS[0]):
        other, against = _taught(prior_of(others), others, changes)
        if float(against.sum()) < least:
            best, response, least = others, other, float(against.sum())
    return best, response


def _learned(changes: Sequence[_Change], controls: Sequence[Control], prior: Response) -> tuple[Response, Floats]:
    """Return the belief after all changes, of the scale that explains them best, and what speaks against it (2,)."""
    best, told = _taught(prior, controls, changes)
    if told[0] < AS_EXPECTED * 3 * len(changes):
        return best, told
    least = float(told.sum())
    turned = sum(any(c.before[k] != c.after[k] for c in changes) for k in range(len(controls)))
    for scale in (scale for scale in SCALES if scale > 1.0 or turned >= FEW_TURNED):
        response, against = _taught(prior.scaled(scale), controls, changes)
        speaks_against = float(against.sum()) + (np.log(scale) / SCALE_DOUBT) ** 2 + UNUSUAL
        if speaks_against < least:
            best, least, told = response, speaks_against, against
    return best, told


def _taught(prior: Response, controls: Sequence[Control], changes: Sequence[_Change]) -> tuple[Response, Floats]:
    """Return the belief after all changes, and what spoke against it (2,), as of ``Response.learn``."""
    response, against = prior, np.zeros(2)
    stood = np.array([(c.before, c.after) for c in changes]).reshape(len(changes), 2, len(controls))
    went = np.diff(steps_to(controls, stood), axis=1)[:, 0]
    for change, steps in zip(changes, went, strict=True):
        response, told = response.learn(change.level, steps, change.drive, change.covariance)
        against = against + told
    return response, against


def _changes(readings: Sequence[GreyReading], surroundings: Surroundings, meter: Repeatability) -> list[_Change]:
    """Return what neighbours of one level tell between which something was turned."""
    made: list[_Change] = []
    last: dict[float, tuple[GreyReading, Floats, Floats]] = {}
    for reading, here, covariance in zip(readings, *_drives(readings, surroundings, meter), strict=True) if readings else ():
        if reading.level in last:
            earlier, before, before_covariance = last[reading.level]
            if earlier.era == reading.era and earlier.settings != reading.settings:
                both = (earlier.settings, reading.settings)
                made.append(_Change(reading.level, *both, here - before, covariance + before_covariance))
        last[reading.level] = (reading, here, covariance)
    return made


def nothing_came(
    readings: Sequence[GreyReading], controls: Sequence[Control], surroundings: Surroundings, meter: Repeatability, kind: str
) -> bool:
    """Whether gains, or offsets, were turned by what every display shows, and nothing came of it, as often as that was done.

    Of controls that are locked, by a white preset as a rule, each seems dead; one dead control among others is no lock.
    """
    prior, told = Response.prior(controls), []
    for change in _changes(readings, surroundings, meter):
        steps = steps_between(change.before, change.after, controls)
        mine = np.array([control.kind == kind for control in controls])
        promised = float(np.abs(prior.jacobian(change.level) @ np.where(mine, steps, 0.0)).max())
        if np.count_nonzero(steps[mine]) > 1 and np.abs(steps[mine]).max() >= SURELY_FELT and promised > PROMISED:
            told.append(float(np.abs(change.drive).max()) < min(DID_NOTHING * promised, LEAST_DRIVE))
    return bool(told) and all(told)


def levels_now(
    readings: Sequence[GreyReading],
    controls: Sequence[Control],
    surroundings: Surroundings,
    meter: Repeatability,
    response: Response,
    *,
    least_level: float = 0.05,
) -> list[Level]:
    """Return every level that was read, as it should stand with the controls as they are now, dark ones first.

    Levels below ``least_level`` are left out: black has no balance. Levels that the person works on weigh double.
    """
    newest: dict[float, GreyReading] = {}
    for reading in readings:
        if reading.level >= least_level:
            newest[reading.level] = reading
    if not newest:
        return []
    now = [control.value for control in controls]
    result = []
    ordered = [newest[level] for level in sorted(newest)]
    for reading, here, covariance in zip(ordered, *_drives(ordered, surroundings, meter), strict=True):
        level = reading.level
        steps = steps_between(reading.settings, now, controls)
        result.append(
            Level(
                level=level,
                drive=here + response.jacobian(level) @ steps,
                covariance=covariance + response.covariance_of(level, steps),
                weight=2.0 if reading.fresh else 1.0,
            )
        )
    return result
