"""Transfer curves: signal to light and back."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.types import Floats

BT1886_GAMMA = 2.4


def power(fraction: ArrayLike, gamma: float, white: ArrayLike) -> Floats:
    """Return luminance of signal fractions, any shape, in ``white``'s unit; nothing below a fraction of 0."""
    result: Floats = np.asarray(white) * np.maximum(np.asarray(fraction, dtype=np.float64), 0.0) ** gamma
    return result


def power_inverse(luminance: ArrayLike, gamma: float, white: ArrayLike) -> Floats:
    """Return the signal fraction that a power curve turns into a luminance; 0 for none or less."""
    result: Floats = (np.maximum(np.asarray(luminance, dtype=np.float64), 0.0) / np.asarray(white)) ** (1.0 / gamma)
    return result


def bt1886_terms(white: ArrayLike, black: ArrayLike) -> tuple[Floats, Floats]:
    """Return ``a`` and ``b`` of BT.1886 Annex 1 for a measured white and black in cd/m², any shape."""
    root_white = np.asarray(white, dtype=np.float64) ** (1.0 / BT1886_GAMMA)
    root_black = np.maximum(black, 0.0) ** (1.0 / BT1886_GAMMA)
    return (root_white - root_black) ** BT1886_GAMMA, root_black / (root_white - root_black)


def bt1886(fraction: ArrayLike, white: ArrayLike, black: ArrayLike) -> Floats:
    """Return luminance in cd/m² of signal fractions, any shape. Source: BT.1886 Annex 1."""
    a, b = bt1886_terms(white, black)
    result: Floats = a * np.maximum(np.asarray(fraction, dtype=np.float64) + b, 0.0) ** BT1886_GAMMA
    return result


def bt1886_inverse(luminance: ArrayLike, white: ArrayLike, black: ArrayLike) -> Floats:
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


class _RollOff(NamedTuple):
    """BT.2390's EETF from a mastering range to a display's: limits in PQ signal, as shares of the mastering range."""

    bottom: Floats  # of the mastering range, PQ signal
    span: Floats
    most: Floats  # the display's ends; ``most`` 1 and ``least`` 0 where it reaches as far as the mastering range
    least: Floats

    @property
    def knee(self) -> Floats:
        """Where the upper end begins to bend."""
        return 1.5 * self.most - 0.5


def _roll_off_of(peak: ArrayLike, black: ArrayLike, mastered: tuple[float, float]) -> _RollOff:
    top, bottom = pq_inverse(mastered[0]), pq_inverse(mastered[1])
    span = np.maximum(top - bottom, 1e-6)
    most = np.minimum((pq_inverse(peak) - bottom) / span, 1.0)
    least = np.maximum((pq_inverse(black) - bottom) / span, 0.0)
    return _RollOff(bottom, span, most, least)


def roll_off(fraction: ArrayLike, peak: ArrayLike, black: ArrayLike, mastered: tuple[float, float]) -> Floats:
    """Return PQ signal fractions, any shape, rolled off from the mastering range to a display's: BT.2390's EETF.

    ``peak``, ``black``: the display's, numbers or shapes that broadcast; ``mastered``: most and least of the mastering display, all
    in cd/m². An end at which the display reaches as far as the mastering range or farther is left as it is, beyond the range
    too. Source: BT.2390-10, 5.4.1.
    """
    return _rolled(fraction, _roll_off_of(peak, black, mastered))


def _rolled(fraction: ArrayLike, made: _RollOff) -> Floats:
    e1 = (np.asarray(fraction, dtype=np.float64) - made.bottom) / made.span
    e1 = np.where((made.least <= 0.0) & (e1 < 0.0), e1, np.maximum(e1, 0.0))
    e1 = np.where((made.most >= 1.0) & (e1 > 1.0), e1, np.minimum(e1, 1.0))
    knee, most = made.knee, made.most
    t = np.clip((e1 - knee) / np.maximum(1.0 - knee, 1e-9), 0.0, 1.0)
    spline = (2 * t**3 - 3 * t**2 + 1) * knee + (t**3 - 2 * t**2 + t) * (1.0 - knee) + (-2 * t**3 + 3 * t**2) * most
    e2 = np.where((e1 < knee) | (most >= 1.0), e1, spline)
    e3 = e2 + made.least * np.clip(1.0 - e2, 0.0, 1.0) ** 4
    result: Floats = e3 * made.span + made.bottom
    return result


def bent(fraction: ArrayLike, knees: Sequence[tuple[float, float]]) -> Floats:
    """Return PQ signal fractions, any shape, as they leave points (in, out) that rise in both numbers.

    What lies below the first point is left as it is, between two points it is on the line between them, above the last it is even.
    """
    v = np.asarray(fraction, dtype=np.float64)
    points = np.array(knees, dtype=np.float64)
    result: Floats = np.where(v <= points[0, 0], v, np.interp(v, points[:, 0], points[:, 1]))
    return result


def bent_inverse(fraction: ArrayLike, knees: Sequence[tuple[float, float]]) -> Floats:
    """Return the PQ signal fractions, any shape, that ``bent`` turns into these; the last point's beyond what it gives."""
    v = np.asarray(fraction, dtype=np.float64)
    points = np.array(knees, dtype=np.float64)
    result: Floats = np.where(v <= min(points[0]), v, np.interp(v, points[:, 1], points[:, 0]))
    return result


HALVINGS = 48  # of the range of signal: far below what a code of any depth tells apart


def roll_off_inverse(fraction: ArrayLike, peak: ArrayLike, black: ArrayLike, mastered: tuple[float, float]) -> Floats:
    """Return the PQ signal fractions, any shape, that ``roll_off`` turns into these; an end of the signal beyond what it gives."""
    made = _roll_off_of(peak, black, mastered)
    wanted = np.asarray(fraction, dtype=np.float64)
    wanted = np.broadcast_to(wanted, np.broadcast_shapes(wanted.shape, np.shape(made.most)))
    low, high = np.zeros(wanted.shape), np.ones(wanted.shape)
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        below = _rolled(middle, made) < wanted
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    result: Floats = 0.5 * (low + high)
    return result


def srgb(fraction: ArrayLike, white: ArrayLike) -> Floats:
    """Return luminance of sRGB signal fractions, any shape, in ``white``'s unit. Source: IEC 61966-2-1, 5.2."""
    v = np.maximum(np.asarray(fraction, dtype=np.float64), 0.0)
    result: Floats = np.asarray(white) * np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)
    return result


def srgb_inverse(luminance: ArrayLike, white: ArrayLike) -> Floats:
    """Return the sRGB signal fraction of a luminance. Source: IEC 61966-2-1, 5.2."""
    light = np.maximum(np.asarray(luminance, dtype=np.float64), 0.0) / white
    result: Floats = np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1.0 / 2.4) - 0.055)
    return result


HLG_A = 0.17883277
HLG_B, HLG_C = 1.0 - 4.0 * HLG_A, 0.5 - HLG_A * float(np.log(4.0 * HLG_A))


HLG_PLAIN_CD_M2 = (400.0, 2000.0)  # where BT.2100's own formula for the system gamma holds


def hlg_gamma(peak: ArrayLike) -> Floats:
    """Return the system gamma for a display's peak in cd/m², any shape.

    Source: BT.2100-2, table 5, note 5e; outside 400 to 2000 cd/m² the extended formula of BT.2390-10, 6.2.
    """
    top = np.asarray(peak, dtype=np.float64)
    plain = 1.2 + 0.42 * np.log10(top / 1000.0)
    low, high = HLG_PLAIN_CD_M2
    return np.where((top >= low) & (top <= high), plain, 1.2 * 1.111 ** np.log2(top / 1000.0))


def _hlg_lift(peak: ArrayLike, black: ArrayLike) -> Floats:
    result: Floats = np.sqrt(3.0 * (np.maximum(black, 0.0) / np.asarray(peak)) ** (1.0 / hlg_gamma(peak)))
    return result


def hlg_scene(fraction: ArrayLike, peak: ArrayLike, black: ArrayLike) -> Floats:
    """Return scene light, 0 to 1, of HLG signal fractions, any shape, with the black lift for a measured black.

    ``peak``, ``black`` in cd/m². Source: BT.2100-2, table 5.
    """
    lift = _hlg_lift(peak, black)
    v = np.maximum((1.0 - lift) * np.asarray(fraction, dtype=np.float64) + lift, 0.0)
    result: Floats = np.where(v <= 0.5, v**2 / 3.0, (np.exp((v - HLG_C) / HLG_A) + HLG_B) / 12.0)
    return result


def hlg_signal(scene: ArrayLike, peak: ArrayLike, black: ArrayLike) -> Floats:
    """Return the HLG signal fraction of scene light, any shape: the inverse of ``hlg_scene``. Source: BT.2100-2, table 5."""
    e = np.maximum(np.asarray(scene, dtype=np.float64), 0.0)
    v = np.where(e <= 1.0 / 12.0, np.sqrt(3.0 * e), HLG_A * np.log(np.maximum(12.0 * e - HLG_B, 1e-12)) + HLG_C)
    lift = _hlg_lift(peak, black)
    result: Floats = (v - lift) / (1.0 - lift)
    return result


def hlg(fraction: ArrayLike, peak: ArrayLike, black: ArrayLike) -> Floats:
    """Return luminance in cd/m² of HLG greys, any shape. Source: BT.2100-2, table 5."""
    result: Floats = np.asarray(peak) * hlg_scene(fraction, peak, black) ** hlg_gamma(peak)
    return result


def hlg_inverse(luminance: ArrayLike, peak: ArrayLike, black: ArrayLike) -> Floats:
    """Return the HLG signal fraction of greys of a luminance in cd/m². Source: BT.2100-2, table 5."""
    scene = (np.maximum(np.asarray(luminance, dtype=np.float64), 0.0) / np.asarray(peak)) ** (1.0 / hlg_gamma(peak))
    return hlg_signal(scene, peak, black)
