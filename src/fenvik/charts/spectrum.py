"""Spectra: the light of white, red, green and blue by wavelength, with what the eye of 1931 takes of it behind them."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.charts import svg
from fenvik.core.types import Floats

WIDTH, HEIGHT = 708.0, 470.0
LEFT, RIGHT, TOP, FOOT = 24.0, 692.0, 40.0, 410.0
SHORT, LONG = 380.0, 780.0


@dataclass(frozen=True)
class Curve:
    """One light: its name, which is its class too, and its values at ``at`` nm; ``peak`` in nm is labelled."""

    name: str
    values: Floats
    peak: float | None = None


def draw(curves: Sequence[Curve], observer: Floats, at: Floats, *, title: str) -> str:
    """Return the chart. ``observer``: (n, 3) at the same wavelengths; curves are drawn as shares of the strongest of them."""
    top = max((float(c.values.max()) for c in curves), default=1.0) or 1.0
    eye = observer / max(float(observer.max()), 1e-9)

    def place(nm: float, share: float) -> tuple[float, float]:
        return LEFT + (RIGHT - LEFT) * (nm - SHORT) / (LONG - SHORT), FOOT - (FOOT - TOP) * max(share, 0.0)

    parts = []
    for tick in range(400, 781, 50):
        x = place(tick, 0)[0]
        parts.append(svg.line(x, TOP, x, FOOT, "grid"))
        parts.append(svg.text(x, FOOT + 20, f"{tick}", "tick", "middle"))
    parts.append(svg.line(LEFT, FOOT, RIGHT, FOOT, "plumb"))
    parts.append(svg.text(RIGHT, FOOT + 42, "wavelength, nm", "axis", "end"))
    parts.append(svg.text(LEFT, FOOT + 42, "dashed: the observer of 1931", "axis"))
    for column, name in enumerate(("x̄", "ȳ", "z̄")):
        line = [place(float(nm), float(v)) for nm, v in zip(at, eye[:, column], strict=True)]
        parts.append(svg.mark(svg.path(line[::2], "eye"), f"what the eye’s {name} takes"))
        peak = int(eye[:, column].argmax())
        parts.append(svg.text(line[peak][0], line[peak][1] - 6, name, "axis", "middle"))
    for curve in curves:
        line = [place(float(nm), float(v) / top) for nm, v in zip(at, curve.values, strict=True)]
        parts.append(svg.mark(svg.path(line, f"spectrum {curve.name}"), f"{curve.name}, by wavelength"))
    for curve in curves:
        if curve.peak is not None:
            share = float(np.interp(curve.peak, at, curve.values)) / top
            x, y = place(curve.peak, share)
            parts.append(svg.text(x + 12, y + 5, f"{curve.name} {curve.peak:.0f}", f"figure {curve.name}"))
    return svg.picture(WIDTH, HEIGHT, title, *parts)
