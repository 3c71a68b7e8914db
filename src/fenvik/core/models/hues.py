"""Single colours by hand: what each step of a colour's controls does, learned from readings, and the next nudge.

A colour is judged on its full and its half-saturated patch, red and yellow on a skin tone too, so that the whole set gets
better and not one point of it. The differences are the signed, weighted parts of the target's own metric.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control
from fenvik.core.signal.patches import COLOURS
from fenvik.core.types import Floats

Percent = tuple[float, float, float]
HUES = COLOURS
TOP, HALF = 75.0, 37.5  # percent of signal: a full colour, and the other lights of the half-saturated one
SKINS: dict[str, tuple[str, Percent]] = {
    "red": ("tanned skin", (72.0, 54.0, 44.0)),
    "yellow": ("pale skin", (88.0, 74.0, 66.0)),
}
WEIGHTS = (1.0, 0.9, 0.7)  # of the full, the half-saturated and the skin patch
NOISE, BEND = 0.12, 0.15  # of a difference: a reading's, and the share of a change that a straight line leaves out
FORESEEN = 0.25  # of a difference: what a look that was not read may be off by
DEAD, SURELY_FELT = 0.35, 5  # of a difference: less is none; steps that a display feels, even where it counts in larger ones
OWN = 6  # parts of the full and the pale patch: a skin tone is moved by its neighbours too
CHARGED = 0.4
PRICE, WORTH = 0.004, 0.12
PROBE = 0.14  # of a range: a move that shows


@dataclass(frozen=True)
class Look:
    """One look at a colour's patches: signed differences (m,), three for each patch, and the controls as they stood (k,).

    A patch that was not read is NaN. ``era`` tells how often anything but this colour's controls had been turned: across that
    nothing is learned. ``foreseen``: worked out from other patches, and not read.
    """

    parts: Floats
    settings: Floats  # in steps from anywhere fixed
    era: int = 0
    foreseen: bool = False


@dataclass(frozen=True)
class Belief:
    """What a step of each control does: slope (m, k) and its covariance (m, k, m, k).

    ``seen`` tells which controls were turned, ``dead`` which did nothing.
    """

    slope: Floats
    covariance: Floats
    seen: tuple[bool, ...]
    dead: tuple[bool, ...]
    unlikely: float = 0.0  # twice the logarithm of how little what was seen was to be expected

    @property
    def std(self) -> Floats:
        """The deviation of the slope (m, k)."""
        made: Floats = np.sqrt(np.maximum(np.einsum("mkmk->mk", self.covariance), 0.0))
        return made


class Prior(NamedTuple):
    """What a step of each control does before anything was seen: slope (m, k), and by how much it is off, of each part by itself
    and of all parts of a control alike.
    """

    mean: Floats
    own: Floats
    common: Floats


@dataclass(frozen=True)
class HueNudge:
    """Steps (k,) to turn, the errors of each patch now and as expected; ``learns`` names a control that is turned to be known."""

    steps: Floats
    now: Floats
    then: Floats
    learns: str = ""


def patches_of(name: str) -> tuple[Percent, Percent]:
    """Return the full and the half-saturated patch of a hue, in percent of signal."""
    mix = HUES[name]
    full = tuple(TOP if lit else 0.0 for lit in mix)
    half = tuple(TOP if lit else HALF for lit in mix)
    return full, half  # type: ignore[return-value]


def weighed(parts: Floats) -> Floats:
    """Return parts (3n,) by what each patch counts for."""
    return np.asarray(parts * np.repeat(WEIGHTS[: len(parts) // 3], 3))


def patches_for(hue: str) -> list[tuple[str, Percent]]:
    """Return the patches that a colour is judged by, with their names: percent of signal."""
    full, half = patches_of(hue)
    made = [(f"{hue} 75 %", full), (f"pale {hue}", half)]
    return [*made, SKINS[hue]] if hue in SKINS else made


def parts_of(fraction: Floats, xyz: Floats, target: Target, white: float, black: float) -> Floats:
    """Return the signed parts (3n,) of readings XYZ (n, 3) in cd/m² of signal fractions (n, 3), weighed as CIEDE2000."""
    parts = target.metric.parts(target.xyz(fraction, white, black), xyz, target.white * white)
    return np.stack([parts.lightness, parts.chroma, parts.hue], axis=-1).reshape(-1) / target.metric.weight


def errors_of(parts: Floats) -> Floats:
    """Return the size (n,) of the differences of each patch; the rotation of blues is left out, it is small here."""
    size: Floats = np.sqrt((parts.reshape(-1, 3) ** 2).sum(axis=1))
    return size


def learn(prior: Prior, looks: Sequence[Look]) -> Belief:
    """Return the belief after looks in order of time: each pair between which controls were turned says what they did."""
    rows, k = prior.mean.shape
    mean = prior.mean.reshape(-1).copy()
    covariance = np.diag(prior.own.reshape(-1) ** 2)
    for i in range(k):
        alike = np.zeros((rows, k))
        alike[:, i] = prior.common[:, i]
        covariance += np.outer(alike, alike)
    turned, moved, unlikely = np.zeros(k), np.zeros((rows, k)), 0.0
    for before, after in pairwise(looks):
        steps = after.settings - before.settings
        if not steps.any() or before.era != after.era:
            continue
        change = after.parts - before.parts
        if np.count_nonzero(steps) == 1:
            i = int(np.flatnonzero(steps)[0])
            if abs(steps[i]) >= turned[i]:
                turned[i], moved[:, i] = abs(steps[i]), change
        turned += (np.abs(steps) > 0) * 1e-9
        noise = sum((FORESEEN if look.foreseen else NOISE) ** 2 for look in (before, after))
        noise += (BEND * float(np.sqrt(np.nanmean(change**2)))) ** 2
        read = np.flatnonzero(np.isfinite(change))
        told = np.kron(np.eye(rows)[read], steps)  # (parts, rows of all controls)
        spread = told @ covariance @ told.T + noise * np.eye(len(read))
        gain, off = covariance @ told.T @ np.linalg.inv(spread), change[read] - told @ mean
        unlikely += float(off @ np.linalg.solve(spread, off)) + float(np.linalg.slogdet(spread)[1])
        mean += gain @ off
        covariance -= gain @ told @ covariance
    dead = tuple(bool(turned[i] >= SURELY_FELT and np.sqrt((moved[:3, i] ** 2).sum()) < DEAD) for i in range(k))
    seen = tuple(bool(t > 0) for t in turned)
    return Belief(mean.reshape(rows, k), covariance.reshape(rows, k, rows, k), seen, dead, unlikely)


def standing(belief: Belief, looks: Sequence[Look], settings: Floats) -> Floats:
    """Return the parts (m,) as they should be with the controls at settings (k,): each patch's newest, and what was turned since.

    NaN for a patch that was not read since anything else was turned.
    """
    parts = np.full(belief.slope.shape[0], np.nan)
    for look in looks:
        if look.era == looks[-1].era:
            carried = look.parts + belief.slope @ (settings - look.settings)
            parts = np.where(np.isfinite(carried), carried, parts)
    return parts


def propose(
    turns: Sequence[Control], belief: Belief, parts: Floats, *, worth: float = WORTH
) -> HueNudge | None:
    """Return the nudge that lowers the expected squared difference over all patches; None where nothing is worth it.

    ``worth``: by how much the mean difference is to fall at least.
    """
    live = [i for i, dead in enumerate(belief.dead) if not dead]
    steps = least(turns, belief.slope, belief.std, parts, np.repeat(WEIGHTS[: len(parts) // 3], 3), live)
    now = errors_of(parts)
    then = errors_of(parts + belief.slope @ steps)
    if steps.any() and float(now.mean() - then.mean()) >= worth:
        return HueNudge(steps, now, then)
    return _probe(turns, belief, parts, live)


def least(
    turns: Sequence[Control], slope: Floats, std: Floats, parts: Floats, weight: Floats, live: Sequence[int]
) -> Floats:
    """Return the whole steps (k,) that a descent finds the least expected squared difference for.

    ``slope``, ``std`` (m, k): what a step does to the parts (m,), and how surely; ``live``: controls that may be turned.
    """
    a, b = slope * weight[:, None], -parts * weight
    doubt = CHARGED * (std * weight[:, None])

    def cost(steps: Floats) -> float:
        missed = a @ steps - b
        return float((missed**2).sum() + ((doubt @ np.abs(steps)) ** 2).sum() + PRICE * np.abs(steps).sum())

    steps = np.zeros(len(turns))
    best = cost(steps)
    for size in (8, 4, 2, 1):
        while True:
            tries = []
            for i in live:
                for way in (-size, size):
                    new = steps.copy()
                    new[i] += way
                    low, high = turns[i].room
                    if low <= new[i] <= high:
                        tries.append((cost(new), tuple(new)))
            if not tries or min(tries)[0] >= best - 1e-9:
                break
            best, found = min(tries)
            steps = np.array(found)
    return steps


def _probe(turns: Sequence[Control], belief: Belief, parts: Floats, live: Sequence[int]) -> HueNudge | None:
    """Return a move of a control that nothing is known of, where what it may do is what is lacking."""
    now = errors_of(parts)
    off = np.abs(parts[:3])
    if float(off.max()) < 2 * DEAD:
        return None
    for i in live:
        if belief.seen[i] or belief.slope[:, i].any():
            continue  # only a control whose very direction is unknown
        if off[2] < DEAD:
            continue
        low, high = turns[i].room
        size = max(round(PROBE * (turns[i].high - turns[i].low) / turns[i].step), 1)
        steps = np.zeros(len(turns))
        steps[i] = min(size, high) if high >= -low else -min(size, -low)
        return HueNudge(steps, now, now, turns[i].label)
    return None


def order_of(worst: dict[str, float]) -> list[str]:
    """Return the colours, those farthest off first."""
    return sorted((hue for hue in HUES if hue in worst), key=lambda hue: -worst[hue])
