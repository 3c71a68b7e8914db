"""Primaries, whites and the coordinates that light is told in."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.types import Floats

D65_XY = (0.3127, 0.3290)
XY = tuple[float, float]


@dataclass(frozen=True)
class Primaries:
    """The chromaticities (x, y) of a colour space's red, green and blue."""

    red: XY
    green: XY
    blue: XY


BT709 = Primaries((0.640, 0.330), (0.300, 0.600), (0.150, 0.060))  # BT.709-6, item 1.3
P3D65 = Primaries((0.680, 0.320), (0.265, 0.690), (0.150, 0.060))  # SMPTE RP 431-2 with the white of D65
BT2020 = Primaries((0.708, 0.292), (0.170, 0.797), (0.131, 0.046))  # BT.2020-2, table 3


def xy_to_xyz(xy: ArrayLike, luminance: ArrayLike = 1.0) -> Floats:
    """Return XYZ of chromaticities, shape (..., 2), at a luminance, shape (...); XYZ is in the luminance's unit."""
    xy = np.asarray(xy, dtype=np.float64)
    luminance = np.asarray(luminance, dtype=np.float64)
    x, y = xy[..., 0], xy[..., 1]
    return np.stack(np.broadcast_arrays(x / y * luminance, luminance, (1.0 - x - y) / y * luminance), axis=-1)


def xyz_to_xy(xyz: ArrayLike) -> Floats:
    """Return chromaticities (..., 2) of XYZ (..., 3); NaN where there is no light."""
    xyz = np.asarray(xyz, dtype=np.float64)
    total = xyz.sum(axis=-1, keepdims=True)
    return xyz[..., :2] / np.where(total > 0, total, np.nan)


def xy_to_uv(xy: ArrayLike) -> Floats:
    """Return CIE 1976 u′v′ (..., 2) of chromaticities (..., 2). Source: CIE 15, 8.1."""
    xy = np.asarray(xy, dtype=np.float64)
    below = -2.0 * xy[..., 0] + 12.0 * xy[..., 1] + 3.0
    return np.stack([4.0 * xy[..., 0] / below, 9.0 * xy[..., 1] / below], axis=-1)


def xyz_to_uv(xyz: ArrayLike) -> Floats:
    """Return CIE 1976 u′v′ (..., 2) of XYZ (..., 3); NaN where there is no light."""
    return xy_to_uv(xyz_to_xy(xyz))


def uv_to_xyz(uv: ArrayLike, luminance: ArrayLike = 1.0) -> Floats:
    """Return XYZ of CIE 1976 u′v′ (..., 2) at a luminance (...); XYZ is in the luminance's unit. Source: CIE 15, 8.1."""
    uv = np.asarray(uv, dtype=np.float64)
    luminance = np.asarray(luminance, dtype=np.float64)
    u, v = uv[..., 0], uv[..., 1]
    return np.stack(
        np.broadcast_arrays(2.25 * u / v * luminance, luminance, (3.0 - 0.75 * u - 5.0 * v) / v * luminance), axis=-1
    )


def rgb_to_xyz_matrix(primaries: Primaries, white_xy: XY) -> Floats:
    """Return the 3×3 matrix from linear RGB to XYZ with Y = 1 at RGB = 1, 1, 1. Source: SMPTE RP 177."""
    columns = xy_to_xyz(np.array([primaries.red, primaries.green, primaries.blue])).T
    scale = np.linalg.solve(columns, xy_to_xyz(np.array(white_xy)))
    matrix: Floats = columns * scale
    return matrix


def daylight_xy(kelvin: float) -> XY:
    """Return x, y of daylight of a colour temperature from 4000 to 25000 K. Source: CIE 15, 4.1.2."""
    t = 1000.0 / kelvin
    a, b, c, d = (-4.6070, 2.9678, 0.09911, 0.244063) if kelvin <= 7000.0 else (-2.0064, 1.9018, 0.24748, 0.237040)
    x = a * t**3 + b * t**2 + c * t + d
    return x, -3.0 * x**2 + 2.870 * x - 0.275
