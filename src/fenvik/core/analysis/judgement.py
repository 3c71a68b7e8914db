"""What is wrong with a display, in the order in which it hurts: as data, the words are the interface's."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from shapely import Point, Polygon
from shapely.ops import nearest_points

from fenvik.core.analysis import findings
from fenvik.core.analysis.analysis import Analysis
from fenvik.core.analysis.ladders import Loading, Uniformity, clipped_from
from fenvik.core.colour.space import uv_to_xyz, xyz_to_uv
from fenvik.core.types import Floats, Ints

CRUSHED = 0.4  # of the luminance that a shadow step should have
RAISED = 2.5
NEAR_BLACK = 0.06  # of signal
LOW_CONTRAST, LOW_COVERAGE = 800.0, 0.92
BEYOND = 0.5  # of a colour's error: where the panel's own corners leave more than that, no hue or tint is to blame
TINT, DARK_PLACE = 0.006, 0.75
DRIFT = 0.02


@dataclass(frozen=True)
class Fault:
    """``kind`` names the sentence; ``weight`` is how much it hurts, in the tuning's error units or what compares to them."""

    kind: str
    weight: float
    facts: dict[str, Any] = field(default_factory=dict)


def _with_the_usual_black(analysis: Analysis) -> tuple[Floats, float]:
    """Return XYZ (n, 3) that is wanted, and black, in cd/m²: with the usual one where it was too dark to read."""
    if not analysis.unread:
        return analysis.target_xyz, analysis.black_luminance
    return analysis.target.xyz(analysis.readings.fraction, float(analysis.white[1]), analysis.unread), analysis.unread


def _light_off(analysis: Analysis, rows: Ints) -> Floats:
    """Return by how much light alone is off (rows,), in the target's unit: the less, where black may be none or the usual one."""
    xyz, lab_white = analysis.readings.xyz[rows], analysis.target.white * float(analysis.white[1])
    made = []
    for wanted in (analysis.target_xyz[rows], _with_the_usual_black(analysis)[0][rows]):
        whole, colour = (how(wanted, xyz, lab_white) for how in (analysis.target.metric.whole, analysis.target.metric.colour_only))
        made.append(np.abs(whole**2 - colour**2) ** 0.5)
    return np.minimum(*made)


def _shadows(analysis: Analysis) -> list[Fault]:
    """Shadow steps that are crushed or raised, beyond what the meter's noise explains."""
    level = analysis.readings.fraction[:, 0]
    dark = analysis.grey & (level > 0.004) & (level <= NEAR_BLACK) & (analysis.target_xyz[:, 1] > 0)
    rows = np.flatnonzero(dark)
    if not rows.size:
        return []
    target_xyz, black = _with_the_usual_black(analysis)
    y, wanted = analysis.readings.xyz[rows, 1], target_xyz[rows, 1]
    std = np.sqrt(analysis.readings.covariance[rows, 1, 1])
    lift = wanted - black
    crushed = (y - black + 2 * std < CRUSHED * lift) & (lift > 2 * analysis.readings.floor)
    raised = (y - black - 2 * std > RAISED * lift) & (y > 2 * analysis.readings.floor)
    found = []
    if crushed.any():
        found.append(Fault("crushed", 4.0, {"level": 100.0 * float(level[rows][crushed].max()), "count": int(crushed.sum())}))
    if raised.any():
        found.append(Fault("raised", 2.5, {"level": 100.0 * float(level[rows][raised].max()), "count": int(raised.sum())}))
    return found


def _greys(analysis: Analysis) -> list[Fault]:
    found: list[Fault] = []
    tolerance = analysis.target.tolerance
    lit = findings.within_end(analysis)
    cast = findings.cast(analysis)
    if cast is not None and lit.any():
        worst, mean = float(analysis.colour_only.value[lit].max()), float(analysis.colour_only.value[lit].mean())
        if mean > tolerance:
            facts = {"channel": cast.channel, "deviation": cast.deviation, "level": cast.level, "trend": cast.trend}
            found.append(Fault("cast", 1.5 * mean, facts | {"mean": mean, "worst": worst}))
    tone = findings.tone(analysis)
    if tone is not None:
        known = np.flatnonzero(lit & (analysis.readings.fraction[:, 0] > 0.04) & np.isfinite(analysis.luminance_error))
        mean = float(_light_off(analysis, known).mean()) if known.size else 0.0
        if mean > tolerance:
            gamma = {"gamma": tone.gamma, "target_gamma": tone.target_gamma}
            found.append(Fault("tone", mean, {"level": tone.level, "deviation": tone.deviation, "mean": mean} | gamma))
    rows = np.flatnonzero(lit)
    if rows.size > 3:
        std = np.sqrt(analysis.readings.covariance[rows, 1, 1])
        clipped = clipped_from(analysis.readings.fraction[rows, 0], analysis.readings.xyz[rows], std)
        if clipped is not None and not analysis.target.is_hdr:
            found.append(Fault("clipped", 5.0, {"level": 100.0 * clipped}))
    return found


def least_error(analysis: Analysis, at: int) -> float:
    """Return the error of a patch at the nearest chromaticity that the panel's full colours span; 0 where they were not read."""
    wanted = analysis.target_xyz[at]
    if analysis.primaries is None or wanted[1] <= 0:
        return 0.0
    panel = Polygon(xyz_to_uv(analysis.primaries))
    if not panel.is_valid:
        return 0.0
    nearest, _ = nearest_points(panel, Point(xyz_to_uv(wanted)))
    white = analysis.target.white * analysis.white[1]
    return float(analysis.target.metric.whole(wanted, uv_to_xyz((nearest.x, nearest.y), wanted[1]), white))


def _colours(analysis: Analysis) -> list[Fault]:
    there = np.flatnonzero(analysis.judged)
    if not there.size:
        return []
    value = analysis.whole.value[there]
    mean, tolerance = float(value.mean()), analysis.target.tolerance
    if mean <= tolerance:
        return []
    colour = findings.colour(analysis)
    assert colour is not None
    metric, white = analysis.target.metric, analysis.target.white * analysis.white[1]
    wanted, seen = analysis.target_xyz[there], analysis.readings.xyz[there]
    facts: dict[str, Any] = {"mean": mean, "worst": colour.error, "label": colour.label, "way": colour.way, "sign": colour.sign}
    chroma = float(metric.colour_parts(wanted, seen, white).chroma.mean())
    alone = float(analysis.colour_only.value[there].mean())
    light = float(metric.parts(wanted, seen, white).lightness.mean())
    if abs(light) > max(0.6 * mean, abs(chroma)):
        return [Fault("colour-light", mean, facts | {"light": light})]
    worst = int(there[value.argmax()])
    facts |= {"beyond": least_error(analysis, worst) > BEYOND * float(analysis.whole.value[worst])}
    if abs(chroma) > 0.6 * alone and alone > 0.5 * mean:
        return [Fault("saturation", mean, facts | {"chroma": chroma})]
    return [Fault("colours", mean, facts)]


def judge(
    analysis: Analysis,
    *,
    wanted_luminance: float | None = None,
    coverage: float | None = None,
    loading: Loading | None = None,
    window: float = 10.0,
    uniformity: Uniformity | None = None,
    drift: float = 0.0,
    light_label: str = "",
) -> list[Fault]:
    """Return what is wrong, what hurts most first. An empty list: nothing that the readings can tell.

    ``coverage``: of the target's gamut, 0 to 1; ``window``: of the pass, in percent; ``drift``: relative, over the pass;
    ``light_label``: what the menu calls its light.
    """
    found = [*_greys(analysis), *_shadows(analysis), *_colours(analysis)]
    white = float(analysis.white[1])
    if wanted_luminance and not analysis.target.is_hdr:
        off = white / wanted_luminance - 1.0
        if abs(off) > 0.15:
            facts = {"white": white, "wanted": wanted_luminance, "off": 100.0 * off, "control": light_label}
            found.append(Fault("dim" if off < 0 else "bright", min(8.0 * abs(off), 6.0), facts))
    contrast = analysis.contrast
    if contrast is not None and not contrast[1] and contrast[0] < LOW_CONTRAST:
        found.append(Fault("contrast", 2.0, {"contrast": contrast[0]}))
    if coverage is not None and coverage < LOW_COVERAGE:
        found.append(Fault("reach", 12.0 * (1.0 - coverage), {"coverage": 100.0 * coverage}))
    if loading is not None and loading.falls_at is not None and loading.falls_at < window:
        found.append(Fault("loaded", 3.0, {"area": loading.falls_at, "window": window}))
    if uniformity is not None:
        dark, tint = uniformity.darkest, uniformity.most_tinted
        if uniformity.share[dark] < DARK_PLACE or uniformity.duv[tint] > TINT:
            facts = {"index": dark, "share": 100.0 * float(uniformity.share[dark]), "duv": float(uniformity.duv[tint])}
            found.append(Fault("uneven", 1.2, facts))
    if drift > DRIFT:
        found.append(Fault("drift", 20.0 * drift, {"drift": 100.0 * drift}))
    return sorted(found, key=lambda fault: -fault.weight)


def worst_first(faults: Sequence[Fault], most: int = 6) -> list[Fault]:
    """Return the faults that a person should hear of first."""
    return list(faults)[:most]
