"""Light as spectra: sums of Gaussians, in W/(sr·m²·nm) at the core's wavelengths."""

import numpy as np

from fenvik.core.science import WAVELENGTHS_NM, spectrum_to_xyz
from fenvik.core.types import Floats

Bump = tuple[float, float, float]  # centre nm, sigma nm, height


def bumps(*parts: Bump) -> Floats:
    """Return the sum of Gaussians."""
    total = np.zeros_like(WAVELENGTHS_NM)
    for centre, sigma, height in parts:
        total += height * np.exp(-0.5 * ((WAVELENGTHS_NM - centre) / sigma) ** 2)
    return total


def with_luminance(spectrum: Floats, luminance: float) -> Floats:
    """Return the spectrum scaled to a luminance in cd/m²."""
    result: Floats = spectrum * (luminance / float(spectrum_to_xyz(spectrum)[1]))
    return result


def phosphor_lcd() -> Floats:
    """Return the three primaries of a panel with a phosphor backlight, shape (3, 401), unit luminance each.

    A narrow blue diode and a broad yellow phosphor behind three filters, each of which leaks a little of its neighbours.
    """
    backlight = bumps((449.0, 9.5, 1.0), (533.0, 27.0, 0.42), (566.0, 36.0, 0.36), (618.0, 30.0, 0.40))
    red = bumps((642.0, 26.0, 1.0)) + 0.0075
    green = bumps((539.0, 30.0, 1.0)) + 0.016
    blue = bumps((455.0, 30.0, 1.0)) + 0.0085
    return np.array([with_luminance(backlight * glass, 1.0) for glass in (red, green, blue)])
