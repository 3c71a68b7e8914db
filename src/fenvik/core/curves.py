"""Transfer curves: signal to light and back."""

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.types import Floats

BT1886_GAMMA = 2.4


def power(fraction: ArrayLike, gamma: float, white: float) -> Floats:
    """Return luminance of signal fractions, any shape, in ``white``'s unit; nothing below a fraction of 0."""
    result: Floats = white * np.maximum(np.asarray(fraction, dtype=np.float64), 0.0) ** gamma
    return result


def power_inverse(luminance: ArrayLike, gamma: float, white: float) -> Floats:
    """Return the signal fraction that a power curve turns into a luminance; 0 for none or less."""
    result: Floats = (np.maximum(np.asarray(luminance, dtype=np.float64), 0.0) / white) ** (1.0 / gamma)
    return result


def bt1886_terms(white: float, black: float) -> tuple[float, float]:
    """Return ``a`` and ``b`` of BT.1886 Annex 1 for a measured white and black in cd/m²."""
    root_white, root_black = white ** (1.0 / BT1886_GAMMA), max(black, 0.0) ** (1.0 / BT1886_GAMMA)
    return (root_white - root_black) ** BT1886_GAMMA, root_black / (root_white - root_black)


def bt1886(fraction: ArrayLike, white: float, black: float) -> Floats:
    """Return luminance in cd/m² of signal fractions, any shape. Source: BT.1886 Annex 1."""
    a, b = bt1886_terms(white, black)
    result: Floats = a * np.maximum(np.asarray(fraction, dtype=np.float64) + b, 0.0) ** BT1886_GAMMA
    return result


def bt1886_inverse(luminance: ArrayLike, white: float, black: float) -> Floats:
    """Return the signal fraction that BT.1886 turns into a luminance in cd/m²; −b for none or less."""
    a, b = bt1886_terms(white, black)
    result: Floats = (np.maximum(np.asarray(luminance, dtype=np.float64), 0.0) / a) ** (1.0 / BT1886_GAMMA) - b
    return result


PQ_M1, PQ_M2 = 2610.0 / 16384.0, 2523.0 / 4096.0 * 128.0
PQ_C1, PQ_C2, PQ_C3 = 3424.0 / 4096.0, 2413.0 / 4096.0 * 32.0, 2392.0 / 4096.0 * 32.0
PQ_PEAK_CD_M2 = 10_000.0


def pq(fraction: ArrayLike) -> Floats:
    """Return luminance in cd/m² of PQ signal fractions, any shape; 0 below 0. Source: ST 2084, 5.3."""
    root = np.clip(np.asarray(fraction, dtype=np.float64), 0.0, 1.0) ** (1.0 / PQ_M2)
    result: Floats = PQ_PEAK_CD_M2 * (np.maximum(root - PQ_C1, 0.0) / (PQ_C2 - PQ_C3 * root)) ** (1.0 / PQ_M1)
    return result


def pq_inverse(luminance: ArrayLike) -> Floats:
    """Return the PQ signal fraction of a luminance in cd/m², any shape. Source: ST 2084, 5.2."""
    power = (np.clip(np.asarray(luminance, dtype=np.float64), 0.0, None) / PQ_PEAK_CD_M2) ** PQ_M1
    result: Floats = ((PQ_C1 + PQ_C2 * power) / (1.0 + PQ_C3 * power)) ** PQ_M2
    return result


def roll_off(fraction: ArrayLike, peak: float, black: float, mastered: tuple[float, float]) -> Floats:
    """Return PQ signal fractions, any shape, rolled off from the mastering range to a display's: BT.2390's EETF.

    ``peak``, ``black``: the display's, ``mastered``: most and least of the mastering display, all in cd/m². A display that
    reaches beyond the mastering range leaves the signal as it is but for the black lift. Source: BT.2390-10, 5.4.1.
    """
    top, bottom = float(pq_inverse(mastered[0])), float(pq_inverse(mastered[1]))
    span = max(top - bottom, 1e-6)
    e1 = np.clip((np.asarray(fraction, dtype=np.float64) - bottom) / span, 0.0, 1.0)
    most = min((float(pq_inverse(peak)) - bottom) / span, 1.0)
    least = max((float(pq_inverse(black)) - bottom) / span, 0.0)
    knee = 1.5 * most - 0.5
    t = np.clip((e1 - knee) / max(1.0 - knee, 1e-9), 0.0, 1.0)
    spline = (
        (2 * t**3 - 3 * t**2 + 1) * knee + (t**3 - 2 * t**2 + t) * (1.0 - knee) + (-2 * t**3 + 3 * t**2) * most
    )
    e2 = np.where(e1 < knee, e1, spline)
    e3 = e2 + least * (1.0 - e2) ** 4
    result: Floats = e3 * span + bottom
    return result


def srgb(fraction: ArrayLike, white: float) -> Floats:
    """Return luminance of sRGB signal fractions, any shape, in ``white``'s unit. Source: IEC 61966-2-1, 5.2."""
    v = np.maximum(np.asarray(fraction, dtype=np.float64), 0.0)
    result: Floats = white * np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)
    return result


def srgb_inverse(luminance: ArrayLike, white: float) -> Floats:
    """Return the sRGB signal fraction of a luminance. Source: IEC 61966-2-1, 5.2."""
    light = np.maximum(np.asarray(luminance, dtype=np.float64), 0.0) / white
    result: Floats = np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1.0 / 2.4) - 0.055)
    return result


HLG_A = 0.17883277
HLG_B, HLG_C = 1.0 - 4.0 * HLG_A, 0.5 - HLG_A * float(np.log(4.0 * HLG_A))


def hlg_gamma(peak: float) -> float:
    """Return the system gamma for a display's peak in cd/m². Source: BT.2100-2, table 5, note 5e."""
    return 1.2 + 0.42 * float(np.log10(peak / 1000.0))


def hlg_scene(fraction: ArrayLike, peak: float, black: float) -> Floats:
    """Return scene light, 0 to 1, of HLG signal fractions, any shape, with the black lift for a measured black.

    ``peak``, ``black`` in cd/m². Source: BT.2100-2, table 5.
    """
    lift = float(np.sqrt(3.0 * (max(black, 0.0) / peak) ** (1.0 / hlg_gamma(peak))))
    v = np.maximum((1.0 - lift) * np.asarray(fraction, dtype=np.float64) + lift, 0.0)
    result: Floats = np.where(v <= 0.5, v**2 / 3.0, (np.exp((v - HLG_C) / HLG_A) + HLG_B) / 12.0)
    return result


def hlg(fraction: ArrayLike, peak: float, black: float) -> Floats:
    """Return luminance in cd/m² of HLG greys, any shape. Source: BT.2100-2, table 5."""
    result: Floats = peak * hlg_scene(fraction, peak, black) ** hlg_gamma(peak)
    return result


def hlg_inverse(luminance: ArrayLike, peak: float, black: float) -> Floats:
    """Return the HLG signal fraction of greys of a luminance in cd/m². Source: BT.2100-2, table 5."""
    scene = (np.maximum(np.asarray(luminance, dtype=np.float64), 0.0) / peak) ** (1.0 / hlg_gamma(peak))
    lift = float(np.sqrt(3.0 * (max(black, 0.0) / peak) ** (1.0 / hlg_gamma(peak))))
    v = np.where(
        scene <= 1.0 / 12.0, np.sqrt(3.0 * scene), HLG_A * np.log(np.maximum(12.0 * scene - HLG_B, 1e-12)) + HLG_C
    )
    result: Floats = (v - lift) / (1.0 - lift)
    return result
