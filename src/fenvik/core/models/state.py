"""Where a display stands now: its last readings, carried forward over the changes made since."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.controls import Control
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.models.nudge import Level, Surroundings
from fenvik.core.models.twopoint import Response, drive
from fenvik.core.types import Floats

SCALES = (0.12, 0.3, 3.0, 10.0)  # of what a step does by its range, where it does not do that
AS_EXPECTED = 0.4  # of the square that was expected: a surprise that asks for no other scale
SCALE_DOUBT, UNUSUAL = 1.2, 8.0  # deviation of the logarithm of that scale; what must speak for another than the range's own
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


def steps_between(before: Sequence[float], after: Sequence[float], controls: Sequence[Control]) -> Floats:
    """Return how many steps each control went between two states of the controls, (k,)."""
    widths = np.array([control.step for control in controls])
    result: Floats = np.round((np.asarray(after) - np.asarray(before)) / widths, 6)
    return result


def learn_from(
    readings: Sequence[GreyReading],
    controls: Sequence[Control],
    surroundings: Surroundings,
    meter: Repeatability,
    prior: Response,
) -> Response:
    """Return the belief after every pair of neighbouring readings of one level between which controls were turned.

    ``readings`` are in order of time. Nothing is kept between calls: what was undone or read again counts as it stands. How much
    a step of this menu does is told by its range only roughly: of the scales in SCALES that one holds which explains best what
    was seen, for a single control that seems to do little may be dead.
    """
    seen = _changes(readings, controls, surroundings, meter)
    if not seen:
        return prior
    best, against = _taught(prior, seen)
    if against[0] < AS_EXPECTED * 3 * len(seen):
        return best
    least = float(against.sum())
    turned = int(np.any([steps for _, steps, _, _ in seen], axis=0).sum())
    for scale in (scale for scale in SCALES if scale > 1.0 or turned >= FEW_TURNED):
        response, against = _taught(prior.scaled(scale), seen)
        speaks_against = float(against.sum()) + (np.log(scale) / SCALE_DOUBT) ** 2 + UNUSUAL
        if speaks_against < least:
            best, least = response, speaks_against
    return best


def _taught(prior: Response, seen: Sequence[tuple[float, Floats, Floats, Floats]]) -> tuple[Response, Floats]:
    """Return the belief after all changes, and what spoke against it (2,), as of ``Response.learn``."""
    response, against = prior, np.zeros(2)
    for change in seen:
        response, told = response.learn(*change)
        against = against + told
    return response, against


def _changes(
    readings: Sequence[GreyReading], controls: Sequence[Control], surroundings: Surroundings, meter: Repeatability
) -> list[tuple[float, Floats, Floats, Floats]]:
    """Return level, steps (k,), change of drive (3,) and its covariance (3, 3) of neighbours between which something was turned."""
    made: list[tuple[float, Floats, Floats, Floats]] = []
    last: dict[float, tuple[GreyReading, Floats, Floats]] = {}
    for reading, here, covariance in zip(readings, *_drives(readings, surroundings, meter), strict=True) if readings else ():
        if reading.level in last:
            earlier, before, before_covariance = last[reading.level]
            steps = steps_between(earlier.settings, reading.settings, controls)
            if earlier.era == reading.era and steps.any():
                made.append((reading.level, steps, here - before, covariance + before_covariance))
        last[reading.level] = (reading, here, covariance)
    return made


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
