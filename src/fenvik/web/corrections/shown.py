"""A correction as a table and a chart: what both meters read, before and after."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from django.utils.safestring import mark_safe

from fenvik.charts import correction as chart
from fenvik.core.measure.correction import residuals
from fenvik.core.signal.decoding import decode
from fenvik.web.corrections.sides import Sides
from fenvik.web.results.parts import own_colour


@dataclass(frozen=True)
class Beside:
    """One patch of a correction for its table: what each meter reads, and how far apart before and after."""

    label: str
    reference: tuple[float, float, float]  # Y, x, y
    meter: tuple[float, float, float]
    before: tuple[float, float, float]  # Δx, Δy, ΔY in percent
    after: tuple[float, float, float] | None
    crossed: tuple[float, float, float] | None  # by a fit to the other patches alone

    @property
    def crossed_size(self) -> float | None:
        """How far x and y are off by a fit to the other patches alone."""
        return None if self.crossed is None else float(np.hypot(self.crossed[0], self.crossed[1]))


def beside(sides: Sides, matrix: Any, crossed: dict[str, tuple[float, float, float]] | None = None) -> list[Beside]:
    """Return the patches with light, before and after a matrix (None: there is none yet)."""
    lit = [i for i in range(len(sides.labels)) if sides.reference[i, 1] > 0 and sides.meter[i, 1] > 0]
    lit = [i for i in lit if sides.labels[i] != "black"]
    reference, meter = sides.reference[lit], sides.meter[lit]
    was_xy, was_y = residuals(np.eye(3), meter, reference)
    now = None if matrix is None else residuals(np.asarray(matrix, dtype=np.float64), meter, reference)
    rows = []
    for k, i in enumerate(lit):
        after = None if now is None else (float(now[0][k, 0]), float(now[0][k, 1]), float(now[1][k]))
        rows.append(
            Beside(
                sides.labels[i],
                _yxy(reference[k]),
                _yxy(meter[k]),
                (float(was_xy[k, 0]), float(was_xy[k, 1]), float(was_y[k])),
                after,
                (crossed or {}).get(sides.labels[i]),
            )
        )
    return rows


def _yxy(xyz: Any) -> tuple[float, float, float]:
    total = float(xyz.sum())
    return float(xyz[1]), float(xyz[0]) / total, float(xyz[1]) / total


def picture(rows: list[Beside], sides: Sides, bits: int, range_: str) -> str:
    """Return the chart of a correction as safe SVG."""
    colours = {
        label: own_colour(decode(rgb, bits, "full" if range_ == "full" else "limited").tolist())
        for label, rgb in zip(sides.labels, sides.rgb, strict=True)
    }
    shown = [chart.Beside(row.label, colours[row.label], row.before, row.after) for row in rows]
    return mark_safe(chart.draw(shown, title="The field meter beside the reference, before and after"))


def sizes(rows: list[Beside]) -> dict[str, float]:
    """Return the largest distances in xy and Y, before and after."""
    if not rows:
        return {}
    told = {
        "xy_before": max(float(np.hypot(r.before[0], r.before[1])) for r in rows),
        "y_before": max(abs(r.before[2]) for r in rows),
    }
    after = [r.after for r in rows if r.after is not None]
    if after:
        told |= {"xy_after": max(float(np.hypot(a[0], a[1])) for a in after), "y_after": max(abs(a[2]) for a in after)}
    return told
