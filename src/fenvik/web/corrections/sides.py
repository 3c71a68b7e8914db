"""The readings that a correction was made of, as the core takes them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.measure.correction import residuals
from fenvik.core.types import Floats


@dataclass(frozen=True)
class Sides:
    """The patches of a correction that both meters have read: labels, codes, XYZ (n, 3) of each meter."""

    labels: tuple[str, ...]
    rgb: tuple[tuple[int, int, int], ...]
    reference: Floats
    meter: Floats

    def rows(self) -> list[dict[str, Any]]:
        """Return them as they are stored."""
        return [
            {"label": label, "rgb": list(rgb), "reference": [float(v) for v in r], "meter": [float(v) for v in m]}
            for label, rgb, r, m in zip(self.labels, self.rgb, self.reference, self.meter, strict=True)
        ]


def sides_of(rows: Sequence[dict[str, Any]]) -> Sides:
    """Return the patches of a correction as they are stored."""
    return Sides(
        tuple(str(row["label"]) for row in rows),
        tuple((int(r), int(g), int(b)) for r, g, b in (row["rgb"] for row in rows)),
        np.array([row["reference"] for row in rows], dtype=np.float64).reshape(-1, 3),
        np.array([row["meter"] for row in rows], dtype=np.float64).reshape(-1, 3),
    )


def systematic_of(rows: Sequence[dict[str, Any]], matrix: Any, floor: float) -> tuple[float, float, float]:
    """Return how far off what a correction gives may be, one standard deviation: of Y relative, of x and of y.

    ``floor``: the repeatability that it was made with, relative. It is the root mean square of its residuals over every patch with
    light, those that it was not made of included; a matrix that was solved exactly has none on its own patches, so never less
    than the repeatability.
    """
    sides = sides_of(rows)
    lit = [
        i
        for i in range(len(sides.labels))
        if sides.reference[i, 1] > 0 and sides.meter[i, 1] > 0 and sides.labels[i] != "black"
    ]
    if not lit:
        return floor, floor / 3.0, floor / 3.0
    dxy, dy = residuals(np.asarray(matrix, dtype=np.float64), sides.meter[lit], sides.reference[lit])
    x, y = np.sqrt((dxy**2).mean(axis=0))
    return (
        max(float(np.sqrt((dy**2).mean())) / 100.0, floor),
        max(float(x), floor / 3.0),
        max(float(y), floor / 3.0),
    )
