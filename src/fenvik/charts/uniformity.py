"""Uniformity: the screen drawn to scale, each place with its luminance as a share of the middle's, and lines of equal share."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from fenvik.charts import svg
from fenvik.core.types import Floats

WIDTH, TOP = 708.0, 18.0
SCREEN_W, SCREEN_H, SCREEN_X = 640.0, 360.0, 34.0
FINE = 12  # between two places, for the lines


@dataclass(frozen=True)
class Place:
    """Where in fractions of width and height, luminance as a share of the middle's, Δu′v′ from it."""

    x: float
    y: float
    share: float
    duv: float


def draw(places: Sequence[Place], *, title: str) -> str:
    """Return the picture."""
    parts = [f'<rect class="screen" x="{svg.n(SCREEN_X)}" y="{svg.n(TOP)}" width="{svg.n(SCREEN_W)}" height="{svg.n(SCREEN_H)}"/>']
    parts += _lines(places)
    for p in places:
        x, y = SCREEN_X + SCREEN_W * p.x, TOP + SCREEN_H * p.y
        words = f"{100 * p.share:.1f} % of the middle, Δu′v′ {p.duv:.4f}"
        figure = f'<text class="figure loud" x="{svg.n(x)}" y="{svg.n(y)}" text-anchor="middle">{100 * p.share:.1f}</text>'
        small = f'<text class="tick small" x="{svg.n(x)}" y="{svg.n(y + 17)}" text-anchor="middle">{p.duv:.4f}</text>'
        parts.append(svg.mark(figure + small, words))
    foot = TOP + SCREEN_H + 24
    parts.append(svg.text(SCREEN_X, foot, "percent of the middle's luminance; below it Δu′v′ from the middle", "axis"))
    return svg.picture(WIDTH, foot + 14, title, *parts)


def _lines(places: Sequence[Place]) -> list[str]:
    xs, ys = sorted({round(p.x, 6) for p in places}), sorted({round(p.y, 6) for p in places})
    if len(xs) * len(ys) != len(places) or len(xs) < 3 or len(ys) < 3:
        return []
    grid = np.empty((len(ys), len(xs)))
    for p in places:
        grid[ys.index(round(p.y, 6)), xs.index(round(p.x, 6))] = 100.0 * p.share
    more = ((len(ys) - 1) * FINE + 1, (len(xs) - 1) * FINE + 1) / np.array(grid.shape)
    fine = scipy.ndimage.zoom(grid, more, order=2, mode="nearest")
    made = []
    for level in svg.steps(float(fine.min()), float(fine.max()), 5):
        pieces = _segments(fine, level, (xs[0], xs[-1]), (ys[0], ys[-1]))
        d = "".join(f"M{svg.n(a[0])} {svg.n(a[1])}L{svg.n(b[0])} {svg.n(b[1])}" for a, b in pieces)
        if d:
            made.append(f'<path class="isoline" d="{d}"><title>{level:g} %</title></path>')
    return made


Point = tuple[float, float]


def _segments(values: Floats, level: float, x_span: Point, y_span: Point) -> list[tuple[Point, Point]]:
    """Return the pieces of a line of equal value, by marching squares over a grid (rows, columns)."""
    rows, columns = values.shape

    def at(row: float, column: float) -> Point:
        x = x_span[0] + (x_span[1] - x_span[0]) * column / (columns - 1)
        y = y_span[0] + (y_span[1] - y_span[0]) * row / (rows - 1)
        return SCREEN_X + SCREEN_W * x, TOP + SCREEN_H * y

    made = []
    for i in range(rows - 1):
        for j in range(columns - 1):
            corners = [(i, j), (i, j + 1), (i + 1, j + 1), (i + 1, j)]
            cut = []
            for (r1, c1), (r2, c2) in zip(corners, corners[1:] + corners[:1], strict=True):
                a, b = float(values[r1, c1]) - level, float(values[r2, c2]) - level
                if (a < 0) != (b < 0):
                    share = a / (a - b)
                    cut.append(at(r1 + share * (r2 - r1), c1 + share * (c2 - c1)))
            made += [(cut[k], cut[k + 1]) for k in range(0, len(cut) - 1, 2)]
    return made
