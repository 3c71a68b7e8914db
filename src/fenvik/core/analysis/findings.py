"""What is wrong, as data: the interface makes the sentences."""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from fenvik.core.analysis.analysis import Analysis
from fenvik.core.measure.uncertainty import TWO_SIDED_95
from fenvik.core.types import Bools, Ints

TREND_PERCENT = 2.0  # a light that changes by less from dark to bright is the same at every level
SHADOWS = 9.0  # percent of signal: below it a step is a large share of next to nothing
Trend = Literal["rises", "falls", "from-dark", "to-bright", "level", "uneven"]


@dataclass(frozen=True)
class CastFinding:
    """The light that is farthest from balance."""

    channel: int
    deviation: float  # percent
    level: float  # percent of signal
    trend: Trend
    unresolved_below: float | None  # percent of signal: under it nothing can be told from the meter's noise


@dataclass(frozen=True)
class ToneFinding:
    """The level whose luminance is farthest from the target's, and the one below 10 % where that is farther still."""

    level: float
    deviation: float  # percent
    gamma: float
    target_gamma: float
    dark: tuple[float, float] | None = None  # level and deviation, in percent


@dataclass(frozen=True)
class ColourFinding:
    """The colour that is farthest off, and in what way most."""

    label: str
    error: float
    way: Literal["lightness", "chroma", "hue"]
    sign: int
    inside: int  # colours within tolerance
    count: int


def within_end(analysis: Analysis) -> Bools:
    """Return the lit greys (n,) up to where the display ends; all of them where none lies below."""
    within = analysis.lit_grey & ~analysis.beyond_end
    return within if within.any() else analysis.lit_grey


def cast(analysis: Analysis) -> CastFinding | None:
    """Return the worst imbalance of the greys, above the display's end only where there are no others; None without a lit grey."""
    lit = np.flatnonzero(within_end(analysis))
    if not lit.size:
        return None
    level = analysis.readings.fraction[lit, 0] * 100.0
    deviation = analysis.balance[lit] - 100.0
    std = analysis.balance_std[lit]
    # Dark levels are noisy and hardly seen as coloured: they speak last.
    weight = np.clip(level / 30.0, 0.2, 1.0)[:, None]
    row, channel = np.unravel_index(int(np.argmax(np.abs(deviation) * weight)), deviation.shape)
    order = np.argsort(level)
    course = deviation[order, channel]
    third = max(course.size // 3, 1)
    change = float(course[-third:].mean() - course[:third].mean())
    sign = float(np.sign(deviation[row, channel]))
    trend: Trend = "level" if abs(change) < TREND_PERCENT else "rises" if change * sign > 0 else "falls"
    place = int(np.flatnonzero(order == row)[0])
    # What is worst where it should be least by its trend, or changes sides, goes up and down and has none.
    if (trend == "falls" and place >= order.size - third) or (trend == "rises" and place < third):
        trend = "uneven"
    # What is worst in the middle has only one end with less of it.
    elif trend in ("rises", "falls") and third <= place < order.size - third:
        trend = "from-dark" if trend == "rises" else "to-bright"
    told: Bools = np.any(np.abs(deviation) > TWO_SIDED_95 * std, axis=1)
    unresolved = level[order][~told[order]]
    below: float | None = None
    for value in unresolved:
        if told[order][level[order] <= value].any():
            break
        below = float(value)
    return CastFinding(int(channel), float(deviation[row, channel]), float(level[row]), trend, below)


def tone(analysis: Analysis) -> ToneFinding | None:
    """Return the worst deviation of luminance of the greys, None without one: those from 10 % on come first, if there are any.

    In the dark a few steps are a large share of next to nothing: they are told apart, above 4 %.
    """
    lit = np.flatnonzero(within_end(analysis) & (analysis.readings.fraction[:, 0] > 0.04))
    known = lit[np.isfinite(analysis.luminance_error[lit])]
    if not known.size:
        return None
    level, off = analysis.readings.fraction[:, 0] * 100.0, analysis.luminance_error * 100.0

    def worst_of(rows: Ints) -> int:
        return int(rows[int(np.argmax(np.abs(off[rows])))])

    bright, dim = known[level[known] > SHADOWS], known[level[known] <= SHADOWS]
    worst = worst_of(bright if bright.size else known)
    deepest = worst_of(dim) if bright.size and dim.size else None
    dark = None if deepest is None or abs(off[deepest]) < 2.0 * abs(off[worst]) else (float(level[deepest]), float(off[deepest]))
    target_gamma = analysis.target_gamma[known]
    return ToneFinding(
        float(level[worst]),
        float(off[worst]),
        analysis.mean_gamma,
        float(np.nanmean(target_gamma)) if np.isfinite(target_gamma).any() else float("nan"),
        dark,
    )


def colour(analysis: Analysis) -> ColourFinding | None:
    """Return the worst colour; None without one."""
    there = np.flatnonzero(analysis.judged)
    if not there.size:
        return None
    value = analysis.whole.value[there]
    worst = there[int(np.argmax(value))]
    white = analysis.target.white * analysis.white[1]
    wanted, seen, metric = analysis.target_xyz[worst], analysis.readings.xyz[worst], analysis.target.metric
    # A colour that is only too dark is paler in the space too: chroma and hue are told at its own luminance.
    lightness, alone = metric.parts(wanted, seen, white).lightness, metric.colour_parts(wanted, seen, white)
    sizes = {"lightness": lightness, "chroma": alone.chroma, "hue": alone.hue}
    way = max(sizes, key=lambda name: abs(float(sizes[name])))
    return ColourFinding(
        analysis.readings.labels[worst],
        float(analysis.whole.value[worst]),
        way,  # type: ignore[arg-type]
        1 if float(sizes[way]) > 0 else -1,
        int((value <= analysis.target.tolerance).sum()),
        int(there.size),
    )
