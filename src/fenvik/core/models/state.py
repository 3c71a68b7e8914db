"""Where a display stands now: its last readings, carried forward over the changes made since."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.controls import Control
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.models.nudge import Level, Surroundings
from fenvik.core.models.twopoint import Response, drive
from fenvik.core.types import Floats


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

    ``readings`` are in order of time. Nothing is kept between calls: what was undone or read again counts as it stands.
    """
    response = prior
    last: dict[float, tuple[GreyReading, Floats, Floats]] = {}
    if not readings:
        return response
    for reading, here, covariance in zip(readings, *_drives(readings, surroundings, meter), strict=True):
        if reading.level in last:
            earlier, before, before_covariance = last[reading.level]
            steps = steps_between(earlier.settings, reading.settings, controls)
            if earlier.era == reading.era:
                response = response.learn(reading.level, steps, here - before, covariance + before_covariance)
        last[reading.level] = (reading, here, covariance)
    return response


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
