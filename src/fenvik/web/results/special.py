"""What a pass says beside its picture: window ladder, checkerboard, uniformity, drift, gamut, additivity."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.analysis import ladders
from fenvik.core.analysis.analysis import Analysis
from fenvik.core.analysis.judgement import Fault, judge
from fenvik.core.analysis.report import coverage
from fenvik.core.analysis.volume import share as volume_share
from fenvik.core.colour.space import BT709, BT2020, P3D65, xyz_to_uv
from fenvik.core.measure import drift
from fenvik.core.measure.correction import additivity
from fenvik.web.kit.keeping import Kept
from fenvik.web.passes.models import Pass
from fenvik.web.results.assemble import core_readings, drift_of, newest_of_each

STANDARDS = (("BT.709", BT709), ("P3-D65", P3D65), ("BT.2020", BT2020))
MOST_KEPT = 64


@dataclass(frozen=True)
class Special:
    """None where the pass has not read it."""

    loading: ladders.Loading | None = None
    board: tuple[float, float | None, float, bool] | None = None  # white, black, contrast, whether only a lower bound
    uniformity: ladders.Uniformity | None = None
    places: tuple[str, ...] = ()
    drift: float | None = None
    gamut: tuple[tuple[str, float], ...] = ()
    additivity: float | None = None
    wander: tuple[float, float, float] | None = None  # of white left alone: minutes, percent of luminance, Δu′v′
    volume: float | None = None  # of an HDR target's, 0 to 1
    faults: list[Fault] = field(default_factory=list)


def special_of(
    pass_: Pass | None, analysis: Analysis | None, *, luminance: float | None, light_label: str = ""
) -> Special | None:
    """Return what a pass says beside its picture; None without a pass."""
    if pass_ is None:
        return None
    rows = newest_of_each(pass_.readings.order_by("id"))
    by: dict[str, list[Any]] = {}
    for row in rows:
        by.setdefault(row.part, []).append(row)
    loading = _loading(pass_, by.get("window", []))
    uniformity, places = _uniformity(pass_, by.get("uniformity", []))
    _, whites = drift_of(pass_)
    drifted = drift.size(whites.xyz) if whites is not None and len(whites.xyz) > 1 else None
    gamut, apart, volume = _gamut(analysis)
    faults: list[Fault] = []
    if analysis is not None:
        own = {BT709: "BT.709", P3D65: "P3-D65", BT2020: "BT.2020"}.get(analysis.target.primaries, "")
        faults = judge(
            analysis, wanted_luminance=luminance, coverage=dict(gamut).get(own), loading=loading, window=pass_.window,
            uniformity=uniformity, drift=drifted or 0.0, light_label=light_label,
        )  # fmt: skip
    wander = _wander(pass_, by.get("stability", []))
    board = _board(pass_, by.get("checkerboard", []))
    return Special(loading, board, uniformity, places, drifted, gamut, apart, wander, volume, faults)


def _loading(pass_: Pass, rows: list[Any]) -> ladders.Loading | None:
    rows = [row for row in rows if not row.too_dark]
    if len(rows) < 2:
        return None
    taken = core_readings(pass_, rows)
    area = [float(pass_.patches[row.index]["window"]) for row in rows]
    return ladders.loading(area, taken.xyz[:, 1], np.sqrt(taken.covariance[:, 1, 1]))


def _board(pass_: Pass, rows: list[Any]) -> tuple[float, float | None, float, bool] | None:
    # The mean of the white fields over the mean of the black ones, by what was shown: a file may name them otherwise.
    light = [row for row in rows if max(row.r, row.g, row.b) > 2 ** (pass_.bits - 1)]
    dark = [row for row in rows if row not in light]
    if not light or not dark or any(row.too_dark for row in light):
        return None
    white = float(core_readings(pass_, light).xyz[:, 1].mean())
    taken = core_readings(pass_, dark)
    black = None if any(row.too_dark for row in dark) else float(taken.xyz[:, 1].mean())
    contrast, bound = ladders.contrast_beside(white, black, max(taken.floor, 1e-6))
    return white, black, contrast, bound


def _wander(pass_: Pass, rows: list[Any]) -> tuple[float, float, float] | None:
    rows = [row for row in rows if not row.too_dark]
    if len(rows) < 2:
        return None
    xyz = core_readings(pass_, rows).xyz
    uv = xyz_to_uv(xyz)
    apart = float(np.hypot(*(uv - uv.mean(axis=0)).T).max())
    minutes = (rows[-1].at - rows[0].at).total_seconds() / 60.0
    return minutes, 100.0 * float(np.ptp(xyz[:, 1]) / xyz[:, 1].mean()), apart


def _uniformity(pass_: Pass, rows: list[Any]) -> tuple[ladders.Uniformity | None, tuple[str, ...]]:
    rows = [row for row in rows if not row.too_dark]
    if len(rows) < 2:
        return None, ()
    places = [pass_.patches[row.index]["place"] for row in rows]
    return ladders.uniformity(places, core_readings(pass_, rows).xyz), tuple(row.label for row in rows)


_volumes: Kept[float] = Kept(MOST_KEPT)


def _volume(analysis: Analysis, three: np.ndarray) -> float:
    """Return the share of the target's colours within reach; kept, for a grid of thousands of colours is looked through."""
    dark = np.zeros(3) if analysis.black is None else analysis.black
    key = (three.tobytes(), analysis.white.tobytes(), dark.tobytes(), analysis.target)
    return _volumes.get(key, lambda: volume_share(three, analysis.white, dark, analysis.target, float(analysis.white[1])))


def _gamut(analysis: Analysis | None) -> tuple[tuple[tuple[str, float], ...], float | None, float | None]:
    if analysis is None:
        return (), None, None
    three = analysis.primaries
    if three is None:
        return (), None, None
    corners = xyz_to_uv(three)
    black = None if analysis.black is None else [float(v) for v in analysis.black]
    off, _ = additivity(np.vstack([three, analysis.white]), black)
    reached = None
    if analysis.target.is_hdr:
        reached = _volume(analysis, three)
    return tuple((name, coverage(corners, standard)) for name, standard in STANDARDS), off, reached
