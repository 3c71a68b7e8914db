"""What ladders, boards and grids say of a display's light: loading, contrast within a picture, uniformity."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.errors import ShapeError
from fenvik.core.types import Floats

FALLEN = 0.05  # of luminance: from there on a window loads the display


@dataclass(frozen=True)
class Loading:
    """Luminance (k,) of white in cd/m² over the lit area (k,) in percent, rising; ``falls_at`` is where 5 % are lost."""

    area: Floats
    luminance: Floats
    std: Floats
    falls_at: float | None

    @property
    def lost(self) -> float:
        """What the largest area has lost of the most that any gives, as a share."""
        return float(1.0 - self.luminance[-1] / self.luminance.max())


def loading(area: ArrayLike, luminance: ArrayLike, std: ArrayLike | None = None) -> Loading:
    """Return the loading of windows: ``area`` in percent, ``luminance`` in cd/m² with its deviation, all (k,), in any order.

    Where the luminance rises with the area, as it does where the surround is dimmed with small windows, nothing is lost before
    its most. The area is interpolated on its logarithm.
    """
    a, y = np.asarray(area, dtype=np.float64), np.asarray(luminance, dtype=np.float64)
    if a.ndim != 1 or a.shape != y.shape or len(a) < 2:
        raise ShapeError(a.shape, "(k,), two or more, as the luminances")
    noise = np.zeros_like(y) if std is None else np.asarray(std, dtype=np.float64)
    order = np.argsort(a)
    a, y, noise = a[order], y[order], noise[order]
    top = int(np.argmax(y))
    level = (1.0 - FALLEN) * y[top]
    below = [i for i in range(top, len(y)) if y[i] < level and y[i] + 2.0 * noise[i] < y[top] - 2.0 * noise[top]]
    falls_at = None
    if below:
        i = below[0]
        share = (y[i - 1] - level) / max(y[i - 1] - y[i], 1e-12)
        falls_at = float(np.exp(np.log(a[i - 1]) + share * (np.log(a[i]) - np.log(a[i - 1]))))
    return Loading(a, y, noise, falls_at)


@dataclass(frozen=True)
class Uniformity:
    """Places (n, 2) in fractions of width and height; luminance (n,) as a share of the middle's; Δu′v′ (n,) from the middle."""

    places: Floats
    share: Floats
    duv: Floats

    @property
    def darkest(self) -> int:
        """The index of the place with the least light."""
        return int(np.argmin(self.share))

    @property
    def lightest(self) -> int:
        """The index of the place with the most light: in a dark field, where light leaks in."""
        return int(np.argmax(self.share))

    @property
    def most_tinted(self) -> int:
        """The index of the place whose colour is farthest from the middle's."""
        return int(np.argmax(self.duv))


def uniformity(places: ArrayLike, xyz: ArrayLike) -> Uniformity:
    """Return the uniformity of a field read at places (n, 2), as XYZ (n, 3) in cd/m²; the middle is the place nearest to it."""
    where, seen = np.asarray(places, dtype=np.float64), np.asarray(xyz, dtype=np.float64)
    if where.ndim != 2 or where.shape[1] != 2 or seen.shape != (len(where), 3) or len(where) < 2:
        raise ShapeError(where.shape, "(n, 2), two or more, one for each XYZ")
    middle = int(np.argmin(np.hypot(*(where - 0.5).T)))
    uv = xyz_to_uv(seen)
    return Uniformity(where, seen[:, 1] / seen[middle, 1], np.hypot(*(uv - uv[middle]).T))


def contrast_beside(white: float, black: float | None, floor: float) -> tuple[float, bool]:
    """Return white over black within one picture, in cd/m² each, and whether that is only a lower bound.

    It is one where black is None, which is too dark to read, or below the meter's floor.
    """
    if black is None or black < floor:
        return white / floor, True
    return white / black, False


def clipped_from(level: ArrayLike, xyz: ArrayLike, std: ArrayLike) -> float | None:
    """Return the level (fraction of signal) from which greys up to 100 % are no longer told apart; None where all are.

    ``level`` (n,), ``xyz`` (n, 3) and the deviation of Y (n,): greys in any order. Two steps count as one where they differ by
    less than two deviations and by less than a quarter of what a gamma of 2.2 would make them differ.
    """
    v, y, noise = (np.asarray(a, dtype=np.float64) for a in (level, np.asarray(xyz)[..., 1], std))
    order = np.argsort(v)
    v, y, noise = v[order], y[order], noise[order]
    keep = (v > 0.5) & (v <= 1.0 + 1e-9)
    v, y, noise = v[keep], y[keep], noise[keep]
    clipped = None
    for i in range(len(v) - 1, 0, -1):
        wanted = 2.2 * y[i] * (v[i] - v[i - 1]) / v[i]
        if y[i] - y[i - 1] < min(0.25 * wanted, 1e9) and wanted > 2.0 * np.hypot(noise[i], noise[i - 1]):
            clipped = float(v[i - 1])
        else:
            break
    return clipped
