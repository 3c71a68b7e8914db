"""Drift during a pass: what the whites in between say, taken out of every reading."""

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.errors import ShapeError
from fenvik.core.types import Floats


def factors(seconds: ArrayLike, white_seconds: ArrayLike, white_xyz: ArrayLike) -> Floats:
    """Return what readings taken at ``seconds`` (n,) are to be multiplied with, (n, 3), so that white stays as it was first.

    ``white_xyz`` (k, 3) are the whites read at ``white_seconds`` (k,), which rise. X, Y and Z go straight from one white to
    the next; before the first and after the last they stay. Fewer than two whites say nothing.
    """
    at, xyz = np.asarray(white_seconds, dtype=np.float64), np.asarray(white_xyz, dtype=np.float64)
    when = np.asarray(seconds, dtype=np.float64)
    if xyz.ndim != 2 or xyz.shape[1:] != (3,) or len(at) != len(xyz):
        raise ShapeError(xyz.shape, "(k, 3), one for each moment")
    if len(at) < 2 or (xyz <= 0).any():
        return np.ones((*when.shape, 3))
    relative = xyz / xyz[0]
    result: Floats = 1.0 / np.stack([np.interp(when, at, relative[:, i]) for i in range(3)], axis=-1)
    return result


def shared_noise(
    seconds: ArrayLike, white_seconds: ArrayLike, white_xyz: ArrayLike, covariance: ArrayLike
) -> Floats:
    """Return what the noise of the whites adds to readings that drift was taken out of: relative X, Y, Z, shape (n, 3, 3k).

    ``covariance`` (k, 3, 3) of the whites (k, 3). Each column is one source that all readings share, scaled to one deviation.
    """
    at, xyz = np.asarray(white_seconds, dtype=np.float64), np.asarray(white_xyz, dtype=np.float64)
    when, known = np.asarray(seconds, dtype=np.float64), np.asarray(covariance, dtype=np.float64)
    relative = known / (xyz[:, :, None] * xyz[:, None, :])
    size_of, axes = np.linalg.eigh(relative)
    roots = axes * np.sqrt(np.maximum(size_of, 0.0))[:, None, :]  # (k, 3, 3)
    share = -np.stack([np.interp(when, at, row) for row in np.eye(len(at))], axis=-1)  # (n, k)
    share[:, 0] += 1.0  # everything is brought to how white was first
    result: Floats = np.einsum("nk,kij->nikj", share, roots).reshape(len(when), 3, -1)
    return result


def size(white_xyz: ArrayLike) -> float:
    """Return how far luminance drifted over a pass, relative, from its lowest white to its highest."""
    y = np.asarray(white_xyz, dtype=np.float64)[:, 1]
    return float(y.max() / y.min() - 1.0) if len(y) > 1 and y.min() > 0 else 0.0
