"""What other observers than that of 1931 make of a display's light: which white looks to them like the one that is wanted."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour.science import WAVELENGTHS_NM, daylight_65, observer, spectrum_to_xyz
from fenvik.core.colour.space import XY, xy_to_uv, xyz_to_uv, xyz_to_xy
from fenvik.core.errors import FenvikError, ShapeError
from fenvik.core.types import Floats

LEAST_SHARE = 1e-3  # of the strongest light: less of a spectrum is noise


class SpectrumError(FenvikError, ValueError):
    """A spectrum that is none, or lights that no white can be made of."""

    code = "spectrum"


@dataclass(frozen=True)
class Peak:
    """Where a light is strongest and how broad it is at half of that, both in nm."""

    at: float
    width: float


def on_grid(start_nm: float, step_nm: float, values: ArrayLike) -> Floats:
    """Return a spectrum at WAVELENGTHS_NM, shape (401,), zero where it was not read. Raises SpectrumError.

    ``values``: W/(sr·m²·nm) from ``start_nm`` on in steps of ``step_nm``.
    """
    told = np.asarray(values, dtype=np.float64)
    if told.ndim != 1 or told.size < 8 or not 0.0 < step_nm <= 20.0 or not np.isfinite(told).all() or not np.isfinite(start_nm):
        raise SpectrumError("That is no spectrum.")
    at = start_nm + step_nm * np.arange(told.size)
    if at[0] > 450.0 or at[-1] < 650.0:
        raise SpectrumError("The spectrum does not reach from blue to red.")
    return np.asarray(np.interp(WAVELENGTHS_NM, at, told, left=0.0, right=0.0))


def peak_of(spectrum: ArrayLike) -> Peak:
    """Return where a spectrum at WAVELENGTHS_NM is strongest, and its width at half of that about the peak."""
    values = np.asarray(spectrum, dtype=np.float64)
    top = int(values.argmax())
    half = values < 0.5 * values[top]
    left = np.flatnonzero(half[:top])
    right = np.flatnonzero(half[top:])
    low = left[-1] + 1 if left.size else 0
    high = top + right[0] - 1 if right.size else values.size - 1
    return Peak(float(WAVELENGTHS_NM[top]), float(WAVELENGTHS_NM[high] - WAVELENGTHS_NM[low] + 1.0))


def white_for(lights: ArrayLike, name: str) -> XY:
    """Return the x y of 1931 that a display must stand at, so that another observer sees the white of daylight at 6500 K.

    ``lights``: spectra of its red, green and blue, shape (3, 401). Raises SpectrumError where they make no white, ShapeError.
    """
    spectra = np.asarray(lights, dtype=np.float64)
    if spectra.shape != (3, WAVELENGTHS_NM.size):
        raise ShapeError(spectra.shape, "(3, 401)")
    seen = spectra @ observer(name)  # (3, 3): a row a light
    wanted = daylight_65() @ observer(name)
    share = _shares(seen, wanted)
    x, y = xyz_to_xy(spectrum_to_xyz(share @ spectra))
    return float(x), float(y)


def offset_for(lights: ArrayLike, name: str) -> tuple[float, float]:
    """Return that white as an offset in u′v′ from daylight; nothing for the observer of 1931. Raises as ``white_for``."""
    du, dv = xy_to_uv(np.array(white_for(lights, name))) - xyz_to_uv(spectrum_to_xyz(daylight_65()))
    return float(du), float(dv)


def match_for(reference: ArrayLike, white: XY, lights: ArrayLike, name: str) -> tuple[float, float]:
    """Return the offset in u′v′ of 1931 from a white, at which a display's white looks to an observer as the reference's does.

    ``reference``, ``lights``: spectra of red, green and blue of the reference, which stands at ``white``, and of the display,
    each (3, 401). Raises SpectrumError where they make no such white, ShapeError.
    """
    one, other = np.asarray(reference, dtype=np.float64), np.asarray(lights, dtype=np.float64)
    for told in (one, other):
        if told.shape != (3, WAVELENGTHS_NM.size):
            raise ShapeError(told.shape, "(3, 401)")
    wanted = np.array([white[0], white[1], 1.0 - white[0] - white[1]])
    standing = _shares(one @ observer("CIE 1931 2°"), wanted)
    share = _shares(other @ observer(name), (standing @ one) @ observer(name))
    du, dv = xyz_to_uv(spectrum_to_xyz(share @ other)) - xy_to_uv(white)
    return float(du), float(dv)


def _shares(seen: Floats, wanted: Floats) -> Floats:
    """Return how much of each light gives what is wanted. Raises SpectrumError."""
    if np.linalg.cond(seen) > 1e6:
        raise SpectrumError("These three lights do not differ enough to make a white of.")
    share: Floats = np.asarray(np.linalg.solve(seen.T, wanted), dtype=np.float64)
    if (share <= 0).any():
        raise SpectrumError("These three lights cannot make that white.")
    return share
