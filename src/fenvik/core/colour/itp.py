"""ICtCp and ΔE ITP: differences of absolute light, for HDR."""

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour import curves
from fenvik.core.colour.difference import Parts
from fenvik.core.colour.space import BT2020, D65_XY, rgb_to_xyz_matrix
from fenvik.core.types import Floats

# BT.2100-2, table 7: linear BT.2020 to LMS, and PQ-coded LMS to ICtCp.
LMS = np.array([[1688.0, 2146.0, 262.0], [683.0, 2951.0, 462.0], [99.0, 309.0, 3688.0]]) / 4096.0
ICTCP = np.array([[2048.0, 2048.0, 0.0], [6610.0, -13613.0, 7003.0], [17933.0, -17390.0, -543.0]]) / 4096.0
ITP = 720.0 * np.array([1.0, 0.5, 1.0])
_TO_LMS = LMS @ np.linalg.inv(rgb_to_xyz_matrix(BT2020, D65_XY))


def ictcp(xyz: ArrayLike) -> Floats:
    """Return PQ-form ICtCp (..., 3) of absolute XYZ (..., 3) in cd/m²; negative LMS count as 0. Source: BT.2100-2, table 7."""
    lms = np.asarray(xyz, dtype=np.float64) @ _TO_LMS.T
    result: Floats = curves.pq_inverse(np.maximum(lms, 0.0)) @ ICTCP.T
    return result


def xyz_of(coordinates: ArrayLike) -> Floats:
    """Return absolute XYZ (..., 3) in cd/m² of PQ-form ICtCp (..., 3): the inverse of ``ictcp``. Source: BT.2100-2, table 7."""
    coded = np.asarray(coordinates, dtype=np.float64) @ np.linalg.inv(ICTCP).T
    result: Floats = curves.pq(np.clip(coded, 0.0, 1.0)) @ np.linalg.inv(_TO_LMS).T
    return result


def delta_itp(target: ArrayLike, xyz: ArrayLike) -> Floats:
    """Return ΔE ITP (...,) of absolute XYZ (..., 3) in cd/m². Source: BT.2124."""
    apart = ictcp(xyz) - ictcp(target)
    result: Floats = 720.0 * np.sqrt(apart[..., 0] ** 2 + (0.5 * apart[..., 1]) ** 2 + apart[..., 2] ** 2)
    return result


def delta_itp_colour_only(target: ArrayLike, xyz: ArrayLike) -> Floats:
    """Return ΔE ITP (...,) with the target's luminance replaced by the measured one; 0 where the target has no light."""
    return delta_itp(at_luminance(target, xyz), xyz)


def at_luminance(target: ArrayLike, xyz: ArrayLike) -> Floats:
    """Return targets (..., 3) brought to the luminance of readings (..., 3); the reading itself where a target has no light."""
    wanted, seen = np.asarray(target, dtype=np.float64), np.asarray(xyz, dtype=np.float64)
    y = np.broadcast_to(wanted[..., 1:2], (*seen.shape[:-1], 1))
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(y > 0, wanted * seen[..., 1:2] / y, seen)


def parts(target: ArrayLike, xyz: ArrayLike) -> Parts:
    """Return ΔE ITP's signed parts, each (...): intensity, chroma and hue in the plane of T and P. Source: BT.2124.

    Positive: the reading is brighter, more colourful, farther round from T to P than the target.
    """
    wanted, seen = ictcp(target) * ITP, ictcp(xyz) * ITP
    turn = wanted[..., 1] * seen[..., 2] - wanted[..., 2] * seen[..., 1]
    c1, c2 = np.hypot(wanted[..., 1], wanted[..., 2]), np.hypot(seen[..., 1], seen[..., 2])
    chroma = c2 - c1
    off = ((seen - wanted)[..., 1:] ** 2).sum(axis=-1)
    hue = np.sqrt(np.maximum(off - chroma**2, 0.0)) * np.where(turn < 0, -1.0, 1.0)
    return Parts(seen[..., 0] - wanted[..., 0], chroma, hue, np.zeros_like(chroma))
