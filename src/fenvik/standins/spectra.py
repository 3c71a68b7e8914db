"""Light as spectra: sums of Gaussians, in W/(sr·m²·nm) at the core's wavelengths."""

import numpy as np

from fenvik.core.colour.science import WAVELENGTHS_NM, spectrum_to_xyz
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


def _filtered(*parts: Bump) -> Floats:
    return with_luminance(bumps(*parts), 1.0)


def wrgb_oled() -> Floats:
    """Return the three primaries of a panel with a white emitter behind filters, shape (3, 401), unit luminance each."""
    return np.array(
        [
            _filtered((626.0, 17.0, 1.0), (560.0, 14.0, 0.02)),
            _filtered((534.0, 20.0, 1.0), (462.0, 9.0, 0.02)),
            _filtered((457.0, 11.0, 1.0), (520.0, 12.0, 0.015)),
        ]
    )


def wrgb_white() -> Floats:
    """Return the white sub-pixel's spectrum at unit luminance: the emitter without a filter, a little blue."""
    return with_luminance(
        bumps((457.0, 11.0, 1.15), (534.0, 24.0, 0.62), (570.0, 30.0, 0.28), (622.0, 22.0, 0.66)), 1.0
    )


def laser_lines() -> Floats:
    """Return the primaries of a projector with three lasers, narrow lines widened against speckle, shape (3, 401)."""
    return np.array(
        [_filtered((639.0, 3.0, 1.0)), _filtered((529.0, 4.0, 1.0), (545.0, 6.0, 0.12)), _filtered((462.0, 3.0, 1.0))]
    )


def quantum_dots() -> Floats:
    """Return the primaries of an LCD with quantum dots: three narrow bands behind filters that leak a little, shape (3, 401)."""
    backlight = bumps((450.0, 9.0, 1.0), (531.0, 14.0, 0.55), (629.0, 13.0, 0.62))
    red = bumps((640.0, 26.0, 1.0)) + 0.005
    green = bumps((537.0, 30.0, 1.0)) + 0.012
    blue = bumps((455.0, 30.0, 1.0)) + 0.007
    return np.array([with_luminance(backlight * glass, 1.0) for glass in (red, green, blue)])


def xenon_lamp() -> Floats:
    """Return the primaries of a lamp behind dichroic filters: a broad light with lines in it, shape (3, 401)."""
    lamp = bumps(
        (470.0, 70.0, 0.8),
        (560.0, 90.0, 1.0),
        (640.0, 60.0, 0.7),
        (546.0, 2.5, 0.9),
        (578.0, 3.0, 0.8),
        (437.0, 2.5, 0.7),
    )
    red = 1.0 / (1.0 + np.exp(-(WAVELENGTHS_NM - 598.0) / 4.0)) + 0.003
    blue = 1.0 / (1.0 + np.exp((WAVELENGTHS_NM - 497.0) / 4.0)) + 0.003
    green = (
        np.clip(
            1.0 / (1.0 + np.exp(-(WAVELENGTHS_NM - 509.0) / 4.0))
            - 1.0 / (1.0 + np.exp(-(WAVELENGTHS_NM - 576.0) / 4.0)),
            0.0,
            None,
        )
        + 0.003
    )
    return np.array([with_luminance(lamp * glass, 1.0) for glass in (red, green, blue)])
