"""Two passes beside each other: figures that differ only where their intervals say so, on the patches that both have."""

import math
from dataclasses import dataclass, replace

import numpy as np

from fenvik.core.analysis.analysis import Analysis
from fenvik.core.analysis.estimates import Draws, Estimate, difference_std
from fenvik.core.measure.uncertainty import TWO_SIDED_95, same_light
from fenvik.core.types import Bools
from fenvik.web.results.parts import by_patch


@dataclass(frozen=True)
class Figure:
    """One figure of two passes: values, the truth that each stands for, the deviation of the difference, whether they differ.

    ``bounds`` are "> " or "< " where a value is only known to be more or less; nothing can be told apart then but by the values.
    """

    name: str
    places: int
    first: float | None
    second: float | None
    std: float  # of the difference
    truths: tuple[float, float] | None = None  # where what was read is not what the truth is taken to be: averages of lengths
    less_is_better: bool | None = None  # None: neither
    bounds: tuple[str, str] = ("", "")
    may_differ: bool = True

    @property
    def differs(self) -> bool | None:
        """Whether the 95 % interval of the difference leaves out zero; None without two values."""
        if self.first is None or self.second is None:
            return None
        if any(self.bounds):
            # A bound can only be left behind: more than what is known to be less, or less than what is known to be more.
            return self._beyond(self.first, self.second, self.bounds) or self._beyond(self.second, self.first, self.bounds[::-1])
        a, b = self.truths or (self.first, self.second)
        return self.may_differ and (abs(b - a) > TWO_SIDED_95 * self.std if self.std > 0 else a != b)

    @staticmethod
    def _beyond(bounded: float, other: float, bounds: tuple[str, str]) -> bool:
        sign, beside = bounds
        if sign == "> ":
            return beside != "> " and other < bounded
        return sign == "< " and beside != "< " and other > bounded

    @property
    def half_width(self) -> float:
        """Half the 95 % interval of the difference; NaN where one is only a bound."""
        return float("nan") if any(self.bounds) else TWO_SIDED_95 * self.std

    @property
    def verdict(self) -> str:
        """What is to be said of it."""
        if self.first is None and self.second is None:
            return "in neither of them"
        if self.differs is None:
            return "in one of them only"
        if not self.differs:
            return "cannot be told apart"
        a, b = self.truths if self.truths is not None and not any(self.bounds) else (self.first, self.second)
        assert a is not None
        assert b is not None
        lower = b < a
        if self.less_is_better is None:
            return "lower" if lower else "higher"
        return "better" if lower == self.less_is_better else "worse"


@dataclass(frozen=True)
class Compared:
    """Figures and patches of two passes, and on what they rest, in words."""

    figures: list[Figure]
    patches: list[Figure]
    on: str
    against: str  # why nothing is called better or worse; empty where it may be


def alike(first: Analysis, second: Analysis) -> str:
    """Return why two passes cannot be called better or worse than each other; empty where they are held against the same."""
    a, b = (replace(one.target, name="", tolerance=1.0) for one in (first, second))
    if a.white_xy != b.white_xy:
        return "They aim at different whites, so neither is called better."
    return "" if a == b else "They aim at different targets, so neither is called better."


def _common(first: Analysis, second: Analysis) -> tuple[Bools, Bools]:
    """Return which readings of each are of patches that both have, but for greys above the end of either display."""
    mine, theirs = ({key.signal: i for key, i in by_patch(one).items()} for one in (first, second))
    both = {key for key in mine.keys() & theirs if not (first.beyond_end[mine[key]] or second.beyond_end[theirs[key]])}
    made = []
    for one in (first, second):
        signals = np.round(one.readings.fraction * 1000.0).astype(int).tolist()
        made.append(np.array([tuple(signal) in both for signal in signals], dtype=bool))
    return made[0], made[1]


AVERAGES = (
    ("grey, average without luminance", "graded", "colour_only"),
    ("grey, average with luminance", "graded_whole", "whole"),
    ("colours, average", "judged", "whole"),
)


def compare(first: Analysis | None, second: Analysis | None, *, shared: bool) -> Compared:
    """Compare two passes; ``shared``: both were looked at through the same correction, whose errors cancel then."""
    if first is None or second is None:
        return Compared(_alone(first, second), [], "", "")
    against = alike(first, second)
    both = _common(first, second)
    draws = Draws(first), Draws(second)
    made = []
    for name, which, measure in AVERAGES:
        pair = [
            _kept(one, d, which, measure, there)
            for d, one, there in zip(draws, (first, second), both, strict=True)
        ]
        made.append(_of(name, 2, pair[0], pair[1], shared, None if against else True))
    made += _plain(first, second, shared)
    gammas = [d.gamma(there) for d, there in zip(draws, both, strict=True)]
    made.append(_of("gamma, average", 2, gammas[0], gammas[1], shared, None))
    return Compared(made, _patches(first, second, shared, None if against else True), _words(first, second, both), against)


def _kept(analysis: Analysis, draws: Draws, which: str, measure: str, among: Bools) -> Estimate | None:
    """Return an average with its interval, from the analysis where it was made already: it is drawn some hundred times."""
    made: dict[tuple[str, str, bytes], Estimate | None] = analysis.__dict__.setdefault("_averages", {})
    key = (which, measure, among.tobytes())
    if key not in made:
        made[key] = draws.average(getattr(analysis, which) & among, measure)
    return made[key]


def _words(first: Analysis, second: Analysis, both: tuple[Bools, Bools]) -> str:
    greys, colours = int((first.graded & both[0]).sum()), int((first.judged & both[0]).sum())
    more = int((~both[0]).sum()), int((~both[1]).sum())
    said = f"Averages are of the {greys} greys and {colours} colours that both have"
    left_out = [f"{n} of the {name}" for n, name in zip(more, ("first", "second"), strict=True) if n]
    return f"{said}; {' and '.join(left_out)} are left out." if left_out else f"{said}."


def _of(
    name: str, places: int, a: Estimate | None, b: Estimate | None, shared: bool, less_is_better: bool | None
) -> Figure:
    values = (None if a is None else a.value), (None if b is None else b.value)
    if a is None or b is None:
        return Figure(name, places, *values, 0.0, None, less_is_better)
    return Figure(name, places, *values, difference_std(a, b, shared=shared), (a.truth, b.truth), less_is_better)


def _white(analysis: Analysis) -> list[tuple[float | None, float, float]]:
    """Return white's luminance, CCT and Duv, each with its deviation by noise and by the correction."""
    cct, duv, cct_std, duv_std = analysis.white_cct_and_duv
    _, _, cct_noise, duv_noise = analysis.white_by_noise
    y, y_all = float(analysis.white[1]), float(analysis.mean_covariance(1.0)[1, 1])
    y_noise = float(analysis.mean_noise(1.0)[1, 1])
    rows = ((y, y_noise**0.5, y_all**0.5), (cct, cct_noise, cct_std), (duv, duv_noise, duv_std))
    return [(_finite(v), _zero(noise), math.sqrt(max(_zero(all_) ** 2 - _zero(noise) ** 2, 0.0))) for v, noise, all_ in rows]


def _plain(first: Analysis, second: Analysis, shared: bool) -> list[Figure]:
    made = []
    names = (("white, cd/m²", 1), ("white, kelvin", 0), ("white, Duv", 4))
    for (name, places), a, b in zip(names, _white(first), _white(second), strict=True):
        std = math.hypot(a[1], b[1], *(() if shared else (a[2], b[2])))
        made.append(Figure(name, places, a[0], b[0], std))
    return [*made, _contrast(first, second)]


def _contrast(first: Analysis, second: Analysis) -> Figure:
    values, stds, bounds = [], [], []
    for one in (first, second):
        known = one.contrast
        values.append(None if known is None else known[0])
        bounds.append("> " if known is not None and known[1] else "")
        stds.append(_zero(one.contrast_std))
    return Figure("contrast", 0, values[0], values[1], math.hypot(*stds), bounds=(bounds[0], bounds[1]))


def _alone(first: Analysis | None, second: Analysis | None) -> list[Figure]:
    made = []
    for name, which, measure in AVERAGES:
        values = []
        for one in (first, second):
            chosen = np.zeros(0, dtype=bool) if one is None else getattr(one, which)
            values.append(None if one is None or not chosen.any() else float(getattr(one, measure).value[chosen].mean()))
        made.append(Figure(name, 2, values[0], values[1], 0.0))
    return made


def _finite(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def _zero(value: float) -> float:
    return float(value) if math.isfinite(value) else 0.0


def _patches(first: Analysis, second: Analysis, shared: bool, less_is_better: bool | None) -> list[Figure]:
    """Return the errors of the patches that both have.

    Two lengths near zero say little of each other, so they only count as different where the light itself does too.
    """
    at, made = by_patch(first), []
    for key, j in by_patch(second).items():
        i = at.get(key)
        if i is None:
            continue
        a, b = first.readings, second.readings
        scale = first.white[1] / second.white[1] if not first.target.is_hdr else 1.0
        noise = (a.noise[i], b.noise[j] * scale**2) if shared else (a.covariance[i], b.covariance[j] * scale**2)
        std = math.hypot(float(first.whole.std[i]), float(second.whole.std[j]))
        made.append(
            Figure(
                key.label, 2, float(first.whole.value[i]), float(second.whole.value[j]), std, None, less_is_better,
                may_differ=not same_light(a.xyz[i], b.xyz[j] * scale, noise[0] + noise[1]),
            )
        )  # fmt: skip
    return made
