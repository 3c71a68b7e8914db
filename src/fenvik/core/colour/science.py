"""The one module that imports colour-science: what a standard or a data table defines.

The library keeps process-wide state, so nothing else touches it. Its import takes over a second, half of what starting a command
takes: it is made when the library is asked for the first time, by whoever asks.
"""

import importlib
import threading
import warnings
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.errors import ShapeError
from fenvik.core.types import Floats

_one_at_a_time = threading.Lock()

DUV_LIMIT = 0.05  # CIE 15: farther from the locus a CCT has no meaning
CCT_RANGE_K = (1_000.0, 100_000.0)  # reach of the method's table
WAVELENGTHS_NM: Floats = np.arange(380.0, 781.0)
LUMINOUS_EFFICACY = 683.002  # lm/W at 555 nm, CIE 15


@cache
def _imported() -> Any:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # it warns that its plotting parts are not installed; they are not wanted
        made = importlib.import_module("colour")
    # A saturated colour lies beyond the method's table; it comes out as NaN below, so the library's warning says nothing new.
    made.utilities.filter_warnings(colour_runtime_warnings=True)
    return made


def library() -> Any:
    """Return colour-science, imported once. A server that asks when it has started has it when its first page wants a colour."""
    with _one_at_a_time:
        return _imported()


@cache
def observer_1931() -> Floats:
    """Return the CIE 1931 2° colour matching functions at WAVELENGTHS_NM, shape (401, 3). Source: CIE 15."""
    colour = library()
    table = colour.MSDS_CMFS["CIE 1931 2 Degree Standard Observer"].copy()
    table.align(colour.SpectralShape(380, 780, 1))
    values = np.asarray(table.values, dtype=np.float64)
    values.setflags(write=False)
    return values


OBSERVERS = {
    "CIE 1931 2°": "CIE 1931 2 Degree Standard Observer", "CIE 2015 2°": "CIE 2015 2 Degree Standard Observer",
    "CIE 2015 10°": "CIE 2015 10 Degree Standard Observer",
}  # fmt: skip


@cache
def observer(name: str) -> Floats:
    """Return an observer's colour matching functions at WAVELENGTHS_NM, shape (401, 3), zero where its table has none.

    ``name``: one of OBSERVERS. Source: CIE 15, CIE 170-2 (whose tables begin at 390 nm).
    """
    table = library().MSDS_CMFS[OBSERVERS[name]]
    at = table.wavelengths
    values = np.stack([np.interp(WAVELENGTHS_NM, at, column, left=0.0, right=0.0) for column in table.values.T], axis=1)
    values.setflags(write=False)
    return values


@cache
def daylight_65() -> Floats:
    """Return the relative spectrum of illuminant D65 at WAVELENGTHS_NM, shape (401,). Source: CIE 15."""
    colour = library()
    table = colour.SDS_ILLUMINANTS["D65"].copy()
    table.align(colour.SpectralShape(380, 780, 1))
    values = np.asarray(table.values, dtype=np.float64)
    values.setflags(write=False)
    return values


def spectrum_to_xyz(spectrum: ArrayLike) -> Floats:
    """Return absolute XYZ in cd/m² of radiance in W/(sr·m²·nm) at WAVELENGTHS_NM, shape (..., 401) to (..., 3)."""
    spectrum = np.asarray(spectrum, dtype=np.float64)
    if spectrum.shape[-1:] != (WAVELENGTHS_NM.size,):
        raise ShapeError(spectrum.shape, "(..., 401)")
    xyz: Floats = LUMINOUS_EFFICACY * (spectrum @ observer_1931())
    return xyz


def cct_and_duv(xyz: ArrayLike) -> tuple[Floats, Floats]:
    """Return the correlated colour temperature in kelvin, and the Duv, of readings.

    ``xyz``: absolute XYZ in cd/m², CIE 1931 2°, shape (..., 3); results: shape (...).
    Both are NaN for a black or missing reading; CCT also beyond DUV_LIMIT or CCT_RANGE_K.
    Raises ShapeError for any other shape. Source: Ohno (2014), LEUKOS 10(1), 47-55.
    """
    xyz = np.asarray(xyz, dtype=np.float64)
    if xyz.shape[-1:] != (3,):
        raise ShapeError(xyz.shape, "(..., 3)")
    cct = np.full(xyz.shape[:-1], np.nan)
    duv = cct.copy()
    lit = np.isfinite(xyz).all(axis=-1) & (xyz[..., 1] > 0)
    if lit.any():
        cct[lit], duv[lit] = library().temperature.XYZ_to_CCT_Ohno2013(xyz[lit]).T
    low, high = CCT_RANGE_K
    known = (np.abs(duv) <= DUV_LIMIT) & (cct >= low) & (cct <= high)
    return np.where(known, cct, np.nan), duv


def reference_delta_e_2000(lab_a: ArrayLike, lab_b: ArrayLike) -> Floats:
    """Return CIEDE2000 as colour-science computes it: what the tests and the benches hold ours against."""
    result: Floats = np.asarray(library().delta_E(lab_a, lab_b, method="CIE 2000"), dtype=np.float64)
    return result


def reference_pq(fraction: ArrayLike) -> Floats:
    """Return ST 2084's luminance in cd/m² as colour-science computes it: what the tests hold ours against."""
    result: Floats = np.asarray(library().models.eotf_ST2084(fraction), dtype=np.float64)
    return result
