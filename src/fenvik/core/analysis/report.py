"""The report on a set of readings: every figure of ``analyse``, as docs/analysis.md states it."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from shapely.geometry import Polygon

from fenvik.core.colour import difference
from fenvik.core.colour.itp import delta_itp
from fenvik.core.colour.science import cct_and_duv
from fenvik.core.colour.space import (
    BT709,
    BT2020,
    P3D65,
    Primaries,
    xy_to_uv,
    xyz_to_uv,
    xyz_to_xy,
)
from fenvik.core.colour.target import Target
from fenvik.core.errors import FenvikError
from fenvik.core.signal.shown import OF_PICTURE
from fenvik.core.types import Bools, Floats, Ints

WHITES_APART = 0.05  # of luminance: more, and nothing says which of them is 100 %
SDR: tuple[str, ...] = ("bt709-bt1886", "bt709-2.2", "bt709-2.4", "p3d65-2.6")
STANDARDS = {"bt709": BT709, "p3d65": P3D65, "bt2020": BT2020}
Standard = Literal["bt709", "p3d65", "bt2020"]


class ReportError(FenvikError, ValueError):
    """Readings of which no report can be made; ``index`` is the reading that is wrong, if one is."""

    code = "report"

    def __init__(self, message: str, index: int | None = None) -> None:
        super().__init__(message)
        self.index = index


@dataclass(frozen=True)
class Sheet:
    """Readings in their order: labels, codes (n, 3), signal fractions (n, 3), XYZ (n, 3) in cd/m², window in percent or NaN."""

    labels: Sequence[str | None]
    codes: Floats | Ints
    signal: Floats
    xyz: Floats
    window: Floats
    parts: Sequence[str] | None = None  # of core.lists.Part, where the file says; None for a picture alone


def _main_window(window: Floats) -> Bools:
    """Return which readings are of the window that most are of, the first to appear among equals."""
    if np.isnan(window).all():
        return np.ones(window.shape, dtype=bool)
    values = np.where(np.isnan(window), -1.0, window)
    found, first, count = np.unique(values, return_index=True, return_counts=True)
    best = min(range(found.size), key=lambda i: (-count[i], first[i]))
    return np.asarray(values == found[best])


def _mean_at(sheet: Sheet, which: Bools, at: tuple[float, float, float]) -> Floats | None:
    chosen = which & (sheet.signal == np.array(at)).all(axis=1)
    return sheet.xyz[chosen].mean(axis=0) if chosen.any() else None


def _white(sheet: Sheet, main: Bools) -> Floats:
    whites = main & (sheet.signal == 1.0).all(axis=1)
    if not whites.any():
        raise ReportError("there is no 100 % white")
    y = sheet.xyz[whites, 1]
    if y.max() > y.min() * (1.0 + WHITES_APART):
        raise ReportError("its 100 % whites are more than 5 % apart", int(np.flatnonzero(whites)[int(np.argmax(y))]))
    white: Floats = sheet.xyz[whites].mean(axis=0)
    if white[1] <= 0:
        raise ReportError("its 100 % white has no light", int(np.flatnonzero(whites)[0]))
    return white


def coverage(corners: Floats, standard: Primaries) -> float:
    """Return the share of a standard's triangle in u′v′ that measured corners (3, 2) in u′v′ cover."""
    wanted = Polygon(xy_to_uv(np.array([standard.red, standard.green, standard.blue])))
    measured = Polygon(corners)
    return float(wanted.intersection(measured).area / wanted.area) if measured.is_valid else 0.0


def _gamut(sheet: Sheet, main: Bools) -> dict[str, float | None]:
    means = [_mean_at(sheet, main, at) for at in ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))]
    if any(m is None or m.sum() <= 0 for m in means):
        return dict.fromkeys(STANDARDS)
    corners = xyz_to_uv(np.array(means))
    return {name: coverage(corners, standard) for name, standard in STANDARDS.items()}


def _nothing_where(values: Floats, known: Bools) -> Floats:
    return np.where(known, values, np.nan)


def _listed(values: Floats) -> list[Any]:
    """Return an array as lists of plain numbers, None where there is no value."""
    finite = np.isfinite(values)
    if finite.all():
        return list(values.tolist())
    plain = values.astype(object)
    plain[~finite] = None
    return list(plain.tolist())


def report(sheet: Sheet, target: Target) -> dict[str, Any]:
    """Return the report on readings against a target, None where there is no value. Raises ReportError."""
    name = target.name
    parts = np.array(["main"] * len(sheet.codes) if sheet.parts is None else list(sheet.parts))
    picture = np.isin(parts, OF_PICTURE)
    # Ladders, boards and grids are no picture, whichever window most of them share.
    main = picture & _main_window(np.where(picture, sheet.window, np.nan) if picture.any() else sheet.window)
    counted = parts == "main"
    white = _white(sheet, main)
    black = _mean_at(sheet, main, (0.0, 0.0, 0.0))
    peak, floor = float(white[1]), 0.0 if black is None else float(black[1])
    wanted = target.xyz(sheet.signal, peak, floor)
    lab_white = target.white * peak
    y, level = sheet.xyz[:, 1], sheet.signal[:, 0]
    neutral = (sheet.codes == sheet.codes[:, :1]).all(axis=1)
    with np.errstate(all="ignore"):
        whole = difference.whole(wanted, sheet.xyz, lab_white).total
        chroma = difference.colour_only(wanted, sheet.xyz, lab_white).total
        itp = delta_itp(wanted, sheet.xyz)
        balance = 100.0 * (sheet.xyz / y[:, None]) @ target.inverse_matrix.T
        graded = neutral & (level > 0) & (level < 1) & (y > 0) & (name in SDR)
        gamma = _nothing_where(np.log(y / peak) / np.log(level), graded)
        luminance_error = _nothing_where(y / wanted[:, 1] - 1.0, wanted[:, 1] != 0)
    grey = main & counted & neutral & (level >= 0) & (level <= 1)
    coloured = main & ~neutral
    columns = {
        "rgb": sheet.codes.tolist(), "signal": sheet.signal.tolist(), "xyz": sheet.xyz.tolist(), "target_xyz": _listed(wanted),
        "de2000": _listed(whole), "de2000_chroma": _listed(chroma), "de_itp": _listed(itp),
        "balance": [row if lit else None for row, lit in zip(_listed(balance), (y > 0).tolist(), strict=True)],
        "gamma": _listed(gamma), "luminance_error": _listed(luminance_error),
    }  # fmt: skip
    names = ("label", *columns)
    rows = zip(sheet.labels, *columns.values(), strict=True)
    readings = [dict(zip(names, row, strict=True)) for row in rows]
    return {
        "target": {
            "name": name,
            "white_xy": list(target.white_xy),
            "peak": peak,
            "black": floor if target.curve in ("bt1886", "hlg") else 0.0,
        },
        "white": _told_white(white),
        "black": None if black is None else {"xyz": black, "xy": _told_xy(black)},
        "contrast": peak / floor if floor > 0 else None,
        "readings": readings,
        "greyscale": _averages(whole, grey) | _averages(itp, grey & (level > 0), "de_itp") | {"mean_gamma": _mean(gamma[grey])},
        "colours": _averages(whole, coloured) | _averages(itp, coloured, "de_itp"),
        "gamut": _gamut(sheet, main),
    }


def _told_xy(xyz: Floats) -> list[float] | None:
    xy = xyz_to_xy(xyz)
    return list(xy.tolist()) if np.isfinite(xy).all() else None


def _told_white(white: Floats) -> dict[str, Any]:
    kelvin, duv = cct_and_duv(white)
    known = bool(np.isfinite(kelvin))
    return {
        "xyz": white,
        "xy": _told_xy(white),
        "cct": float(kelvin) if known else None,
        "duv": float(duv) if known else None,
    }


def _mean(values: Floats) -> float | None:
    known = values[np.isfinite(values)]
    return float(known.mean()) if known.size else None


def _averages(whole: Floats, which: Bools, name: str = "de2000") -> dict[str, float | None]:
    if not which.any():
        return {f"mean_{name}": None, f"max_{name}": None}
    return {f"mean_{name}": float(whole[which].mean()), f"max_{name}": float(whole[which].max())}
