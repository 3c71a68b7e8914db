"""CIEDE2000 and its signed parts; whole and colour only."""

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.types import Floats

_EPSILON = (6.0 / 29.0) ** 3  # CIE 15, 8.2.1: exact constants
_SLOPE = (29.0 / 6.0) ** 2 / 3.0
_TWENTY_FIVE_7 = 25.0**7


class Parts(NamedTuple):
    """The signed, weighted parts of CIEDE2000, each of shape (...): E² = L² + C² + H² + rotation·C·H."""

    lightness: Floats
    chroma: Floats
    hue: Floats
    rotation: Floats

    @property
    def total(self) -> Floats:
        """CIEDE2000 itself."""
        square = self.lightness**2 + self.chroma**2 + self.hue**2 + self.rotation * self.chroma * self.hue
        root: Floats = np.sqrt(np.maximum(square, 0.0))
        return root


def xyz_to_lab(xyz: ArrayLike, white: ArrayLike) -> Floats:
    """Return L*a*b* (..., 3) of XYZ (..., 3) for a white XYZ (..., 3) in the same unit. Source: CIE 15, 8.2.1."""
    ratio = np.asarray(xyz, dtype=np.float64) / np.asarray(white, dtype=np.float64)
    f = np.where(ratio > _EPSILON, np.cbrt(np.maximum(ratio, _EPSILON)), _SLOPE * ratio + 4.0 / 29.0)
    x, y, z = f[..., 0], f[..., 1], f[..., 2]
    return np.stack([116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)], axis=-1)


def _seventh(values: Floats) -> Floats:
    """The seventh power by four products: several times quicker than the general power."""
    cube = values * values * values
    result: Floats = cube * cube * values
    return result


def de2000_parts(lab_target: ArrayLike, lab: ArrayLike) -> Parts:
    """Return the parts of CIEDE2000, kL = kC = kH = 1, from a target to a sample, shapes (..., 3).

    Positive parts: the sample is lighter, more colourful, farther round the hue circle than the target.
    Source: CIE 142; Sharma, Wu, Dalal (2005), Color Res. Appl. 30(1), 21-30.
    """
    first, second = np.asarray(lab_target, dtype=np.float64), np.asarray(lab, dtype=np.float64)
    l1, a1, b1 = first[..., 0], first[..., 1], first[..., 2]
    l2, a2, b2 = second[..., 0], second[..., 1], second[..., 2]
    mean_c = 0.5 * (np.hypot(a1, b1) + np.hypot(a2, b2))
    seventh = _seventh(mean_c)
    stretch = 1.5 - 0.5 * np.sqrt(seventh / (seventh + _TWENTY_FIVE_7))
    a1, a2 = a1 * stretch, a2 * stretch
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1, h2 = np.arctan2(b1, a1) % (2.0 * np.pi), np.arctan2(b2, a2) % (2.0 * np.pi)
    coloured = c1 * c2 > 0
    # The short way round; exactly opposite hues keep the sign of h2 - h1, as the published formula has it.
    turn = h2 - h1
    turn = np.where(turn > np.pi, turn - 2.0 * np.pi, np.where(turn < -np.pi, turn + 2.0 * np.pi, turn))
    turn = np.where(coloured, turn, 0.0)
    mean_h = np.where(coloured, h1 + 0.5 * turn, h1 + h2)
    mean_l, mean_c = 0.5 * (l1 + l2), 0.5 * (c1 + c2)
    t = (
        1.0
        - 0.17 * np.cos(mean_h - np.pi / 6.0)
        + 0.24 * np.cos(2.0 * mean_h)
        + 0.32 * np.cos(3.0 * mean_h + np.pi / 30.0)
        - 0.20 * np.cos(4.0 * mean_h - 63.0 * np.pi / 180.0)
    )
    level = (mean_l - 50.0) ** 2
    s_l = 1.0 + 0.015 * level / np.sqrt(20.0 + level)
    s_c = 1.0 + 0.045 * mean_c
    s_h = 1.0 + 0.015 * mean_c * t
    degrees = np.degrees(mean_h) % 360.0
    seventh = _seventh(mean_c)
    around = np.exp(-np.square((degrees - 275.0) / 25.0))
    rotation = -np.sin(np.pi / 3.0 * around) * 2.0 * np.sqrt(seventh / (seventh + _TWENTY_FIVE_7))
    hue = 2.0 * np.sqrt(c1 * c2) * np.sin(0.5 * turn)
    return Parts((l2 - l1) / s_l, (c2 - c1) / s_c, hue / s_h, rotation)


def whole(target_xyz: ArrayLike, xyz: ArrayLike, white: ArrayLike) -> Parts:
    """Return the difference with luminance: XYZ of target and reading (..., 3), white = target white at 100 %."""
    return de2000_parts(xyz_to_lab(target_xyz, white), xyz_to_lab(xyz, white))


def colour_only(target_xyz: ArrayLike, xyz: ArrayLike, white: ArrayLike) -> Parts:
    """Return the difference without luminance: the target is scaled to the measured Y.

    A target without light takes the white's chromaticity; a reading without light is compared with 0, 0, 0.
    """
    target_xyz, xyz = np.asarray(target_xyz, dtype=np.float64), np.asarray(xyz, dtype=np.float64)
    white = np.broadcast_to(np.asarray(white, dtype=np.float64), target_xyz.shape)
    dark = target_xyz[..., 1:2] <= 0
    base = np.where(dark, white, target_xyz)
    scaled = base / base[..., 1:2] * np.maximum(xyz[..., 1:2], 0.0)
    return de2000_parts(xyz_to_lab(scaled, white), xyz_to_lab(xyz, white))
