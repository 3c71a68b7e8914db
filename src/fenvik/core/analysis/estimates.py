"""Figures of a whole set of readings with how sure they are: averages of errors and gamma.

An average of lengths is not to be had from an average of readings: noise makes every length longer, near zero most of all. So the
true lengths are estimated together, as a mixture that explains the lengths that were seen (Kiefer and Wolfowitz (1956), Ann. Math.
Stat. 27(4), 887-906), and how sure their average is comes from readings drawn anew around what was estimated (Efron (1979), Ann.
Stat. 7(1), 1-26). The draws have a fixed seed: the same readings give the same figure.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.special import i0e

from fenvik.core.analysis.analysis import Analysis
from fenvik.core.measure.uncertainty import TWO_SIDED_95
from fenvik.core.types import Bools, Floats

DRAWS, CHAINS, BURN = 480, 24, 8  # of the mixture
GRID = 24  # true lengths that the mixture is made of
# Whether a short length is none at all cannot be told from one reading: two beliefs about how many are none, few and many, are both
# followed, and the interval reaches as far as either. (Weight of none, weight of all others together.)
BELIEFS = ((0.1, 0.8), (0.5, 0.3))
# Noise that moves errors in one direction mostly moves their lengths by less, since errors lie in any: by the root of this.
ALONG = 1.5
CLEAR = 6.0  # deviations
TRIALS, STEPS, ONE_SIDE = 400, 21, 0.025  # of the interval
BOTH_SIDES = 3.0  # deviations of an average from zero: from there on an interval misses as often below as above
STANDS_OUT = 2.0  # times what noise alone makes of a length
PAIRS = 90  # of readings drawn anew
SEED = 1886


@dataclass(frozen=True)
class Estimate:
    """A figure as it was read, what the truth is taken to be, and how sure that is.

    ``std``: by noise alone; ``shift`` (3,): what one deviation of the correction's Y, x and y adds. Passes that share a correction
    share the shift, which then cancels in their difference.
    """

    value: float
    truth: float
    std: float
    shift: Floats
    noise: tuple[float, float] | None = None  # of lengths: how far below and above the truth the interval reaches by noise
    may_be_none: bool = False  # of lengths: all that was seen could be noise

    @property
    def total_std(self) -> float:
        """Noise and correction together."""
        return float(np.hypot(self.std, np.sqrt((self.shift**2).sum())))

    @property
    def interval(self) -> tuple[float, float]:
        """The 95 % interval of the truth; of a length from zero on where all of it may be noise."""
        shifted = TWO_SIDED_95 * float(np.sqrt((self.shift**2).sum()))
        down, up = self.noise if self.noise is not None else (TWO_SIDED_95 * self.std,) * 2
        low, high = self.truth - float(np.hypot(down, shifted)), self.truth + float(np.hypot(up, shifted))
        return (0.0 if self.may_be_none else max(low, 0.0), high) if self.noise is not None else (low, high)


def difference_std(first: Estimate, second: Estimate, *, shared: bool) -> float:
    """Return the deviation of second less first; ``shared``: both were looked at through the same correction."""
    if shared:
        shift = float(((first.shift - second.shift) ** 2).sum())
    else:
        shift = float((first.shift**2).sum() + (second.shift**2).sum())
    return float(np.sqrt(first.std**2 + second.std**2 + shift))


def posterior(seen: Floats, noise: Floats, kinds: int, belief: tuple[float, float]) -> tuple[Floats, Floats]:
    """Return draws (DRAWS,) of the average of the true lengths behind lengths (n,) seen with noise, and each one's mean (n,).

    ``noise``: (n,) the root mean square that noise adds to each in all, ``kinds``: in how many directions, 1 to 3. The lengths are
    a mixture whose weights are drawn along with them (Gibbs sampling; Escobar and West (1995), JASA 90(430), 577-588).
    """
    prior = np.concatenate([[belief[0]], np.full(GRID - 1, belief[1] / (GRID - 1))])
    rng = np.random.default_rng(SEED)
    unit = np.maximum(noise, 1e-6) / np.sqrt(max(kinds, ALONG))
    # In units of its own noise every length is as well known as every other, so that none borrows what only suits another level.
    near = seen <= CLEAR * unit
    each = np.sqrt(np.maximum(seen**2 - (max(kinds, ALONG) - 1.0) * unit**2, 0.0))
    # What stands clear of the noise needs no belief; noise hardly lengthens it.
    clear = seen[~near].sum() + np.sqrt((unit[~near] ** 2).sum()) * rng.standard_normal(DRAWS)
    if not near.any():
        return np.asarray(clear / len(seen)), each
    count, seen, unit = len(seen), seen[near] / unit[near], unit[near]
    grid = np.concatenate([[0.0], np.linspace(0.4, CLEAR + 2.0, GRID - 1)])
    likely = _likelihood(seen[:, None], grid, kinds)
    weight = np.full((CHAINS, GRID), 1.0 / GRID)
    kept, each[near] = [], 0.0
    for turn in range(BURN + DRAWS // CHAINS):
        share = np.cumsum(likely * weight[:, None, :], axis=-1)
        share /= share[..., -1:]
        of = (share < rng.random((CHAINS, len(seen), 1))).sum(axis=-1)
        counts = np.zeros((CHAINS, GRID))
        np.add.at(counts, (np.arange(CHAINS)[:, None], of), 1.0)
        drawn = rng.standard_gamma(counts + prior) + 1e-300
        weight = drawn / drawn.sum(axis=1, keepdims=True)
        if turn >= BURN:
            kept.append((unit * grid[of]).sum(axis=1))
            each[near] += (unit * grid[of]).mean(axis=0) / (DRAWS // CHAINS)
    return np.asarray((np.concatenate(kept) + clear) / count), each


@dataclass(frozen=True)
class Spread:
    """What noise does to errors as vectors, in their own measure.

    ``root``: (n, 3, 3), by which standard normal numbers become what noise adds; ``along``: (n, 3) unit vectors of what was seen.
    """

    root: Floats
    along: Floats


def inverted(seen: Floats, each: Floats, noise: Floats, spread: Spread) -> tuple[float, float]:
    """Return the 95 % interval of the average true length by asking which true lengths would give the average that was seen.

    ``each``: (n,) the lengths as they are taken to be; all are made longer or shorter by one factor until the average that was seen
    would come out only once in forty times (Neyman (1937), Phil. Trans. A 236, 333-380). ``noise`` (n,): root mean square of what
    noise alone makes of each.
    """
    value = float(seen.mean())
    pushed = np.einsum("nij,tnj->tni", spread.root, np.random.default_rng(SEED).standard_normal((TRIALS, len(each), 3)))
    square, slope = (pushed**2).sum(axis=-1), 2.0 * (pushed * spread.along).sum(axis=-1)
    middle = max(float(each.mean()), 1e-12)
    # As far as noise may have spread the average, and below by what it lengthens.
    apart = 4.5 * float(np.sqrt((noise**2).sum())) / len(each)
    wanted = np.linspace(max(value - float(noise.mean()) - apart, 0.0), value + apart, STEPS)
    shapes = [each / middle if middle > 1e-9 else np.ones(len(each))]
    # Either all are off a little, or only those that stand out: noise swallows more of what is spread over many.
    stands = seen > STANDS_OUT * noise
    alone, others = np.where(stands, each, 0.0), (seen[~stands] / noise[~stands]) ** 2
    by_noise = (square[:, ~stands] / noise[~stands] ** 2).sum(axis=1)
    if alone.any() and others.size and float(others.sum()) < np.quantile(by_noise, 0.99):
        shapes.append(alone / alone.mean())
    ends = []
    for shape in shapes:
        told = np.array([np.sqrt(np.maximum(square + g * (slope * shape) + (g * shape) ** 2, 0.0)).mean(axis=1) for g in wanted])
        above, below = (told >= value).mean(axis=1), (told <= value).mean(axis=1)
        # A length has no other side at zero: there all that may be missed is missed above, and from there on half of it below
        # (Feldman and Cousins (1998), Phys. Rev. D 57, 3873-3889).
        under = ONE_SIDE * np.clip(wanted / np.maximum(BOTH_SIDES * told.std(axis=1), 1e-12), 0.0, 1.0)
        over = 2.0 * ONE_SIDE - under
        low = float(np.interp(0.0, np.maximum.accumulate(above - over), wanted)) if above[0] < over[0] else float(wanted[0])
        ends.append((low, float(np.interp(0.0, -np.minimum.accumulate(below - under), wanted))))
    return min(low for low, _ in ends), max(high for _, high in ends)


def _likelihood(d: Floats, g: Floats, kinds: int) -> Floats:
    """How likely lengths d are for true ones g, with a deviation of 1 in each of 1 to 3 directions, up to a factor of d's own."""
    z = d * g
    if kinds == 1:
        bend = 0.5 * (1.0 + np.exp(-2.0 * z))
    elif kinds == 3:
        with np.errstate(divide="ignore", invalid="ignore"):
            bend = np.where(z > 1e-9, -np.expm1(-2.0 * z) / (2.0 * z), 1.0)
    else:
        bend = i0e(z)
    result: Floats = bend * np.exp(-0.5 * (d - g) ** 2)
    return result


class Draws:
    """Readings of an analysis drawn anew: what noise adds to each, shape (DRAWS, n, 3), in pairs that go opposite ways."""

    def __init__(self, analysis: Analysis) -> None:
        self.analysis = analysis
        readings = analysis.readings
        rng = np.random.default_rng(SEED)
        size, axes = np.linalg.eigh(readings.own_noise)
        root = axes * np.sqrt(np.maximum(size, 0.0))[:, None, :]
        half = np.einsum("nij,bnj->bni", root, rng.standard_normal((PAIRS, *readings.xyz.shape)))
        own = half
        if readings.shared is not None:
            drawn = rng.standard_normal((PAIRS, readings.shared.shape[-1]))
            half = half + readings.xyz * np.einsum("nik,bk->bni", readings.shared, drawn)
        self.noise = np.concatenate([half, -half])
        ends = readings.neutral & np.isin(readings.fraction[:, 0], (0.0, 1.0))
        shared = np.where(ends[:, None], half, half - own)
        self.common = np.concatenate([shared, -shared])

    def _ends(self, xyz: Floats) -> tuple[Floats, Floats]:
        """White and black (m, 1) that drawn readings (m, n, 3) are held against."""
        analysis = self.analysis
        made = []
        for level, known in ((1.0, analysis.white), (0.0, analysis.black)):
            there = analysis.readings.neutral & (analysis.readings.fraction[:, 0] == level)
            usual = 0.0 if known is None else float(known[1])
            made.append(xyz[:, there, 1].mean(axis=1) if there.any() else np.full(len(xyz), usual))
        return np.maximum(made[0], 1e-9)[:, None], np.maximum(made[1], 0.0)[:, None]

    def lengths(self, xyz: Floats, which: Bools, measure: str) -> Floats:
        """Return errors (m, k) of those k of drawn readings (m, n, 3), each against the white and black of its own draw."""
        analysis = self.analysis
        white, black = self._ends(xyz)
        wanted = analysis.target.xyz(analysis.readings.fraction[which], white, black)
        compare = getattr(analysis.target.metric, measure)
        result: Floats = compare(wanted, xyz[:, which], analysis.target.white * white[..., None])
        return result

    def average(self, which: Bools, measure: str) -> Estimate | None:
        """Return the average error of some readings (n,) by "whole" or "colour_only"; None of none."""
        if not which.any():
            return None
        xyz = self.analysis.readings.xyz
        here = self.lengths(xyz[None], which, measure)[0]
        shift = self._shift(lambda moved: float(self.lengths(moved[None], which, measure).mean()))
        value = float(here.mean())
        if not self.noise.any():
            return Estimate(value, value, 0.0, shift, (0.0, 0.0))
        noise, kinds, most = self._as_noise(which, measure, here, self.noise)
        drawn = [posterior(here, noise, kinds, belief) for belief in BELIEFS]
        both = [draws for draws, _ in drawn]
        common = self._common(which, measure)
        truth = float(np.mean([draws.mean() for draws in both]))
        spread = self._spread(which, measure, here, noise, kinds)
        low, high = inverted(here, np.mean([each for _, each in drawn], axis=0), noise, spread)
        reach = (truth - low, high - truth)
        # What all share moves the average as a whole, beside what the noise of each does.
        more = TWO_SIDED_95 * common
        wide = (float(np.hypot(reach[0], more)), float(np.hypot(reach[1], more)))
        apart = 0.5 * abs(float(both[0].mean() - both[-1].mean()))
        std = float(np.sqrt(np.mean([draws.var() for draws in both]) + common**2 + apart**2))
        none = float(((here / noise) ** 2).sum()) < most
        return Estimate(value, truth, std, shift, wide, none)

    def _as_noise(self, which: Bools, measure: str, here: Floats, drawn: Floats) -> tuple[Floats, int, float]:
        """Return what noise alone makes of each length, root mean square, and in how many directions it moves them.

        Last, up to what the squares of lengths add up by noise alone 95 times of 100, in units of it.
        """
        centre = self.analysis.readings.xyz.copy()
        wanted = self.analysis.target_xyz[which]
        if measure == "colour_only":
            base = np.where(wanted[:, 1:2] > 0, wanted / np.maximum(wanted[:, 1:2], 1e-12), self.analysis.target.white)
            wanted = base * centre[which, 1:2]
        centre[which] = wanted
        square = self.lengths(centre + drawn, which, measure) ** 2
        noise = np.sqrt(np.maximum(square.mean(axis=0), 1e-12))
        square = square / noise**2
        spread = np.maximum(square.var(axis=0), 1e-9)
        kinds = int(np.clip(np.round(np.median(2.0 * square.mean(axis=0) ** 2 / spread)), 1, 3))
        most = float(np.quantile(square.sum(axis=1), 0.95))
        # Far from what is wanted a difference is weighed otherwise: there its own slope tells.
        moved = self.lengths(self.analysis.readings.xyz + drawn, which, measure)
        half = len(moved) // 2
        sloped = (0.5 * (moved[:half] - moved[half:])).std(axis=0) * np.sqrt(max(kinds, ALONG))
        return np.where(here > 0.5 * CLEAR * noise, np.maximum(sloped, 1e-6), noise), kinds, most

    def _spread(self, which: Bools, measure: str, here: Floats, noise: Floats, kinds: int) -> Spread:
        """Return what the noise of each reading by itself does to errors as vectors, about what is wanted of them."""
        analysis, readings = self.analysis, self.analysis.readings
        wanted, xyz = analysis.target_xyz[which], readings.xyz[which]
        centre = wanted
        if measure == "colour_only":
            base = np.where(wanted[:, 1:2] > 0, wanted / np.maximum(wanted[:, 1:2], 1e-12), analysis.target.white)
            centre = base * xyz[:, 1:2]
        size, axes = np.linalg.eigh(readings.own_noise[which])
        deviation = np.sqrt(np.maximum(size, 1e-18))
        steps = axes * deviation[:, None, :]  # (n, 3, axis)
        compare, white = getattr(analysis.target.metric, measure), analysis.target.white * float(analysis.white[1])

        def square(away: Floats) -> Floats:
            made: Floats = 0.5 * (compare(centre, centre + away, white) ** 2 + compare(centre, centre - away, white) ** 2)
            return made

        own = [square(steps[..., a]) for a in range(3)]
        metric = np.empty((len(xyz), 3, 3))  # of a deviation along each axis of the noise
        for a in range(3):
            for b in range(3):
                both = own[a] if a == b else 0.5 * (square(steps[..., a] + steps[..., b]) - own[a] - own[b])
                metric[:, a, b] = both
        value, vectors = np.linalg.eigh(metric)
        root = np.einsum("nij,nj,nkj->nik", vectors, np.sqrt(np.maximum(value, 0.0)), vectors)
        off = np.einsum("nij,nj->ni", root, np.einsum("nji,nj->ni", axes, xyz - centre) / deviation)
        along = off / np.maximum(np.linalg.norm(off, axis=1, keepdims=True), 1e-12)
        # Far from what is wanted a difference is weighed otherwise: there its own slope tells.
        far = here > 0.5 * CLEAR * noise
        mine = np.linalg.norm(np.einsum("nij,ni->nj", root, along), axis=1)
        told = noise / np.sqrt(max(kinds, ALONG))
        return Spread(root * np.where(far, told / np.maximum(mine, 1e-9), 1.0)[:, None, None], along)

    def _common(self, which: Bools, measure: str) -> float:
        """Return the deviation of an average by what its readings share: the white that they are held against, whites for drift."""
        moved = self.lengths(self.analysis.readings.xyz + self.common, which, measure).mean(axis=1)
        half = len(moved) // 2
        return float((0.5 * (moved[:half] - moved[half:])).std())

    def _shift(self, figure: Callable[[Floats], float]) -> Floats:
        """Return what one deviation of each part of the correction adds to a figure, shape (3,)."""
        readings = self.analysis.readings
        if readings.systematic is None:
            return np.zeros(3)
        moved = [figure(readings.xyz + readings.shift[:, :, i]) - figure(readings.xyz - readings.shift[:, :, i]) for i in range(3)]
        return 0.5 * np.array(moved)

    def gamma(self, among: Bools | None = None) -> Estimate | None:
        """Return the mean effective gamma, of some levels (n,) or all; None without one."""
        analysis = self.analysis
        which = analysis.graded & np.isfinite(analysis.gamma)
        which = which if among is None else which & among
        if not which.any():
            return None
        level = analysis.readings.fraction[which, 0]

        def mean(xyz: Floats) -> Floats:
            white, _ = self._ends(xyz)
            with np.errstate(divide="ignore", invalid="ignore"):
                told = np.log(xyz[:, which, 1] / white) / np.log(level)
            return np.asarray(np.nanmean(told, axis=1))

        xyz = analysis.readings.xyz
        value = float(mean(xyz[None])[0])
        std = self._gamma_std(which, level)
        return Estimate(value, value, std, self._shift(lambda moved: float(mean(moved[None])[0])))

    def _gamma_std(self, which: Bools, level: Floats) -> float:
        """Return the deviation of the mean gamma by noise; white stands below every level of it. Source: JCGM 100, 5.2."""
        readings = self.analysis.readings
        lit = np.maximum(readings.xyz[:, 1], 1e-12)
        slope = np.zeros(len(lit))  # of the mean by ln Y of each reading
        slope[which] = 1.0 / np.log(level) / level.size
        whites = readings.neutral & (readings.fraction[:, 0] == 1.0)
        if whites.any():
            white = lit[whites].mean()
            slope[whites] -= (1.0 / np.log(level)).mean() * lit[whites] / white / whites.sum()
        variance = float((slope**2 * readings.own_noise[:, 1, 1] / lit**2).sum())
        if readings.shared is not None:
            variance += float(((slope @ readings.shared[:, 1, :]) ** 2).sum())
        return float(np.sqrt(variance))
