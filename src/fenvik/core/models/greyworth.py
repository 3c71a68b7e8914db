"""How drives of greys are judged, how far they may be off, and which levels are therefore worth a reading."""

from collections.abc import Sequence

import numpy as np

from fenvik.core.colour.difference import xyz_to_lab
from fenvik.core.colour.itp import ITP, ictcp
from fenvik.core.colour.target import Target
from fenvik.core.models.grey import NOISE, Fit, Seen, seen_at, seen_of, wanted_of
from fenvik.core.models.greyblock import UNEQUAL
from fenvik.core.models.rolloff import RollOff
from fenvik.core.types import Floats

UNREAD = 0.006  # of drive: how far a level that was never read may be off
SAME_LEVEL = 0.006  # fraction of signal: levels that are nearer are one


def metric(levels: Floats, target: Target, white: float, black: float, roll: RollOff | None = None) -> Floats:
    """Return the matrices (levels, 3, 3) that make a change of drives into ΔL/S_L, 1.5·Δa, Δb: CIEDE2000 near grey.

    In HDR into the three parts of ΔE ITP, weighed as CIEDE2000.
    """
    step = 1e-3
    if target.is_hdr:
        return _metric_itp(levels, target, white, black, step, roll)
    aim = target.xyz(np.repeat(levels[:, None], 3, axis=1), white, black)
    away = xyz_to_lab(aim, target.white * white)[:, 0] - 50.0
    lightness = 1.0 + 0.015 * away**2 / np.sqrt(20.0 + away**2)
    weigh = np.stack([1.0 / lightness, np.full(len(levels), 1.5), np.ones(len(levels))], axis=-1)
    made = np.empty((len(levels), 3, 3))
    for c in range(3):
        up, down = (np.repeat(levels[:, None], 3, axis=1) for _ in range(2))
        up[:, c] += step
        down[:, c] -= step
        lab = [xyz_to_lab(target.xyz(v, white, black), target.white * white) for v in (up, down)]
        made[:, :, c] = weigh * (lab[0] - lab[1]) / (2 * step)
    return made


def _metric_itp(
    levels: Floats, target: Target, white: float, black: float, step: float, roll: RollOff | None
) -> Floats:
    """Return the matrices (levels, 3, 3) that make a change of drives into I, T and P of ΔE ITP."""
    at = wanted_of(levels, target, white, black, roll)
    made = np.empty((len(levels), 3, 3))
    for c in range(3):
        up, down = (np.repeat(at[:, None], 3, axis=1) for _ in range(2))
        up[:, c] += step
        down[:, c] -= step
        both = [ictcp(seen_at(v, target, white, black, roll)) for v in (up, down)]
        made[:, :, c] = ITP * (both[0] - both[1]) / (2 * step) / target.metric.weight
    return made


def doubt_of(model: Fit, levels: Floats, moved: Floats, seen: Sequence[Seen]) -> Floats:
    """Return how far the drives (levels, 3) may be off: by noise, and by what was turned since a level was read last."""
    made = np.full((len(levels), 3), UNREAD)
    effects = model.effects(levels, moved)
    for i, level in enumerate(levels):
        mine = [s for s in seen if abs(s.level - level) < SAME_LEVEL]
        if not mine:
            continue
        since = effects[i] * (moved - mine[-1].moved)
        noise = model.fine * NOISE * (1.0 + (0.12 / max(float(level), 0.02)) ** 2) / np.sqrt(len(mine))
        made[i] = np.hypot(noise, np.sqrt(((UNEQUAL * since) ** 2).sum(axis=1)))
    return made


def judged_size(
    off: Floats, levels: Floats, boost: float, target: Target, white: float, black: float, roll: RollOff | None = None
) -> Floats:
    """Return how large changes of drives (n, 3) at levels (n,) are as they are judged (n,); ``boost``: of a white sub-pixel."""
    weigh = metric(levels, target, white, black, roll) @ seen_of(boost)
    size: Floats = np.sqrt(((weigh @ off[:, :, None]) ** 2).sum(axis=(1, 2)))
    return size


def worth_reading(
    model: Fit, levels: Floats, moved: Floats, seen: Sequence[Seen], target: Target, white: float, black: float,
    roll: RollOff | None = None,
) -> list[int]:  # fmt: skip
    """Return the places of levels (n,): first those that are expected to be farthest off, or that are known least of."""
    off = model.at(levels, moved) - wanted_of(levels, target, white, black, roll)[:, None]
    size = judged_size(off, levels, model.boost, target, white, black, roll)
    weigh = metric(levels, target, white, black, roll) @ seen_of(model.boost)
    unsure = np.sqrt(((weigh * doubt_of(model, levels, moved, seen)[:, None, :]) ** 2).sum(axis=(1, 2)))
    return [int(i) for i in np.argsort(-np.hypot(size, unsure) * np.clip(levels / 0.1, 0.4, 1.0))]
