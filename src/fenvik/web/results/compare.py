"""Two passes beside each other: figures that differ only where their intervals say so."""

import math
from dataclasses import dataclass

import numpy as np

from fenvik.core.analysis import Analysis
from fenvik.core.uncertainty import TWO_SIDED_95


@dataclass(frozen=True)
class Figure:
    """One figure of two passes: values, standard deviations, and whether they differ; None where it cannot be told."""

    name: str
    places: int
    first: float | None
    second: float | None
    first_std: float
    second_std: float
    less_is_better: bool | None = None  # None: neither

    @property
    def differs(self) -> bool | None:
        """Whether the 95 % interval of the difference leaves out zero; None without two values."""
        if self.first is None or self.second is None:
            return None
        std = math.hypot(self.first_std, self.second_std)
        return abs(self.second - self.first) > TWO_SIDED_95 * std if std > 0 else self.second != self.first

    @property
    def half_width(self) -> float:
        """Half the 95 % interval of the difference."""
        return TWO_SIDED_95 * math.hypot(self.first_std, self.second_std)

    @property
    def verdict(self) -> str:
        """What is to be said of it."""
        if self.differs is None:
            return "in one of them only"
        if not self.differs:
            return "cannot be told apart"
        assert self.first is not None
        assert self.second is not None
        lower = self.second < self.first
        if self.less_is_better is None:
            return "lower" if lower else "higher"
        return "better" if lower == self.less_is_better else "worse"


def _mean(analysis: Analysis | None, which: str, errors: str) -> tuple[float | None, float]:
    if analysis is None:
        return None, 0.0
    chosen = getattr(analysis, which)
    if not chosen.any():
        return None, 0.0
    told = getattr(analysis, errors)
    # A correction's part is the same for all of them, so the mean is no surer than its parts are together.
    noise = float(np.sqrt((told.std[chosen] ** 2).sum())) / int(chosen.sum())
    shared = 0.0 if analysis.readings.systematic is None else float(told.std[chosen].mean())
    return float(told.value[chosen].mean()), max(noise, shared)


def figures(first: Analysis | None, second: Analysis | None) -> list[Figure]:
    """Return the figures of two passes."""
    made = []
    for name, which, errors in (
        ("grey, average without luminance", "lit_grey", "colour_only"),
        ("grey, average", "grey", "whole"),
        ("colours, average", "coloured", "whole"),
    ):
        (a, a_std), (b, b_std) = _mean(first, which, errors), _mean(second, which, errors)
        made.append(Figure(name, 2, a, b, a_std, b_std, True))
    plain = []
    for analysis in (first, second):
        if analysis is None:
            plain.append([(None, 0.0)] * 5)
            continue
        y_std = float(analysis._mean_covariance(1.0)[1, 1] ** 0.5)
        cct, duv, cct_std, duv_std = analysis.white_cct_and_duv
        contrast = analysis.contrast
        known = contrast is not None and not contrast[1]
        plain.append(
            [
                (float(analysis.white[1]), y_std), (_finite(cct), cct_std), (_finite(duv), duv_std),
                (contrast[0] if known and contrast else None, _zero(analysis.contrast_std)),
                (_finite(analysis.mean_gamma), _gamma_std(analysis)),
            ]
        )  # fmt: skip
    names = (("white, cd/m²", 1), ("white, kelvin", 0), ("white, Duv", 4), ("contrast", 0), ("gamma, average", 2))
    for i, (name, places) in enumerate(names):
        (a, a_std), (b, b_std) = plain[0][i], plain[1][i]
        made.append(Figure(name, places, a, b, _zero(a_std), _zero(b_std)))
    return made


def _gamma_std(analysis: Analysis) -> float:
    known = analysis.gamma_std[analysis.grey & np.isfinite(analysis.gamma)]
    return float(np.sqrt((known**2).sum())) / known.size if known.size else 0.0


def _finite(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def _zero(value: float) -> float:
    return float(value) if math.isfinite(value) else 0.0


def patches(first: Analysis | None, second: Analysis | None) -> list[Figure]:
    """Return the errors of the patches that both have."""
    if first is None or second is None:
        return []
    at = {label: i for i, label in enumerate(first.readings.labels)}
    made = []
    for j, label in enumerate(second.readings.labels):
        if label in at:
            i = at[label]
            made.append(
                Figure(
                    label, 2, float(first.whole.value[i]), float(second.whole.value[j]), float(first.whole.std[i]),
                    float(second.whole.std[j]), True,
                )
            )  # fmt: skip
    return made
