"""Figures of a whole set of readings with how sure they are: averages of errors and gamma.

What noise does to errors comes from readings drawn anew around what was read (Efron (1979), Ann. Stat. 7(1), 1-26), and what that
means for their average from ``lengths``. The draws have a fixed seed: the same readings give the same figure.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fenvik.core.analysis.analysis import Analysis
from fenvik.core.analysis.lengths import ALONG, CLEAR, SEED, Spread, inverted, posterior
from fenvik.core.measure.uncertainty import TWO_SIDED_95
from fenvik.core.types import Bools, Floats

# Whether a short length is none at all cannot be told from one reading: two beliefs about how many are none, few and many, are both
# followed, and the interval reaches as far as either. (Weight of none, weight of all others together.)
BELIEFS = ((0.1, 0.8), (0.5, 0.3))
LEAST = 1e-6  # where noise alone can hardly have made what was seen, though it may be next to none
PAIRS = 90  # of readings drawn anew


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
        return (0.0 if self.may_be_none else max(low, LEAST), high) if self.noise is not None else (low, high)


def difference_std(first: Estimate, second: Estimate, *, shared: bool) -> float:
    """Return the deviation of second less first; ``shared``: both were looked at through the same correction."""
    if shared:
        shift = float(((first.shift - second.shift) ** 2).sum())
    else:
        shift = float((first.shift**2).sum() + (second.shift**2).sum())
    return float(np.sqrt(first.std**2 + second.std**2 + shift))


def even_draws(rng: np.random.Generator, columns: int) -> Floats:
    """Return draws (PAIRS, columns) of standard normal numbers whose spread is as it should be in every direction, not by luck."""
    drawn = rng.standard_normal((PAIRS, columns))
    return np.linalg.qr(drawn)[0] * np.sqrt(PAIRS) if columns <= PAIRS else drawn


class Draws:
    """Readings of an analysis drawn anew: what noise adds to each, shape (2 PAIRS, n, 3), in pairs that go opposite ways."""

    def __init__(self, analysis: Analysis) -> None:
        self.analysis = analysis
        readings = analysis.readings
        rng = np.random.default_rng(SEED)
        size, axes = np.linalg.eigh(readings.own_noise)
        root = axes * np.sqrt(np.maximum(size, 0.0))[:, None, :]
        ends = self.ends = readings.neutral & np.isin(readings.fraction[:, 0], (0.0, 1.0))
        # What moves all of them is drawn evenly: it is not averaged out.
        factors = 0 if readings.shared is None else readings.shared.shape[-1]
        evenly = even_draws(rng, 3 * int(ends.sum()) + factors)
        drawn = rng.standard_normal((PAIRS, *readings.xyz.shape))
        drawn[:, ends] = evenly[:, factors:].reshape(PAIRS, -1, 3)
        half = np.einsum("nij,bnj->bni", root, drawn)
        own = half
        if readings.shared is not None:
            half = half + readings.xyz * np.einsum("nik,bk->bni", readings.shared, evenly[:, :factors])
        self.noise = np.concatenate([half, -half])
        # What only one reading has: white's noise moves all of them together, and is not counted a second time in each.
        alone = np.where(ends[:, None], 0.0, own)
        self.own = np.concatenate([alone, -alone])
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
        none = value < most
        low, high = inverted(here, np.mean([each for _, each in drawn], axis=0), noise, spread, may_be_none=none)
        wide = (truth - low, high - truth)
        apart = 0.5 * abs(float(both[0].mean() - both[-1].mean()))
        std = float(np.sqrt(np.mean([draws.var() for draws in both]) + common**2 + apart**2))
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
        most = float(np.quantile(np.sqrt(square).mean(axis=1), 0.95))
        square = square / noise**2
        spread = np.maximum(square.var(axis=0), 1e-9)
        kinds = int(np.clip(np.round(np.median(2.0 * square.mean(axis=0) ** 2 / spread)), 1, 3))
        # Far from what is wanted a difference is weighed otherwise: there its own slope tells.
        moved = self.lengths(self.analysis.readings.xyz + self.own, which, measure)
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
        ends = self.ends[which]  # their noise is what all share
        whole = root * np.where(far & ~ends, told / np.maximum(mine, 1e-9), 1.0)[:, None, None]
        together = np.einsum("mni,nij->mnj", self._together(which, measure), axes) / deviation
        return Spread(np.where(ends[:, None, None], 0.0, whole), along, np.einsum("nij,mnj->mni", whole, together))

    def _together(self, which: Bools, measure: str) -> Floats:
        """Return draws (m, k, 3) of how far what readings share moves each in XYZ from what it is held against."""
        analysis = self.analysis
        moved = self.common[:, which]
        white, black = self._ends(analysis.readings.xyz + self.common)
        wanted = analysis.target.xyz(analysis.readings.fraction[which], white, black) - analysis.target_xyz[which]
        if measure == "colour_only":  # held against its own luminance
            still = analysis.target_xyz[which]
            base = np.where(still[:, 1:2] > 0, still / np.maximum(still[:, 1:2], 1e-12), analysis.target.white)
            wanted = base * moved[..., 1:2]
        return np.asarray(moved - wanted)

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
