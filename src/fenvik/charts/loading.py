"""Loading: luminance of white against the lit area, both on logarithmic axes."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg

WIDTH, HEIGHT = 708.0, 400.0
LEFT, RIGHT, TOP, FOOT = 64.0, 690.0, 34.0, 346.0


@dataclass(frozen=True)
class Step:
    """One window: percent of the area, cd/m² with one deviation; ``found`` where the other pass has it."""

    area: float
    luminance: float | None
    std: float = 0.0
    found: float | None = None


def draw(steps: Sequence[Step], *, falls_at: float | None, window: float, title: str) -> str:
    """Return the chart; ``falls_at`` is the area at which 5 % are lost, ``window`` the one that passes use."""
    values = [v for s in steps for v in (s.luminance, s.found) if v is not None and v > 0]
    if not values:
        return svg.picture(WIDTH, HEIGHT, title)
    low, high = min(values) * 0.9, max(values) * 1.12

    def x_of(area: float) -> float:
        return LEFT + (RIGHT - LEFT) * math.log(max(area, 1.0)) / math.log(100.0)

    def y_of(luminance: float) -> float:
        return FOOT - (FOOT - TOP) * math.log(luminance / low) / math.log(high / low)

    parts = []
    if falls_at is not None:
        x = x_of(falls_at)
        parts.append(svg.path([(x, TOP), (RIGHT, TOP), (RIGHT, FOOT), (x, FOOT)], "band", closed=True))
        parts.append(svg.text(min(x + 6, RIGHT - 190), TOP + 16, f"5 % lost from {falls_at:.0f} % of the area", "axis"))
    for area in (1, 2, 5, 10, 20, 50, 100):
        parts.append(svg.line(x_of(area), FOOT, x_of(area), FOOT + 4, "tickmark"))
        parts.append(svg.text(x_of(area), FOOT + 21, f"{area}", "tick", "middle"))
    for tick in svg.steps(low, high, 6):
        if tick > 0:
            parts.append(svg.line(LEFT, y_of(tick), RIGHT, y_of(tick), "grid"))
            parts.append(svg.text(LEFT - 8, y_of(tick) + 4.5, f"{tick:g}", "tick", "end"))
    parts.append(svg.line(x_of(window), TOP, x_of(window), FOOT, "plumb"))
    parts.append(svg.text(x_of(window) + 5, FOOT - 8, "window of passes", "axis"))
    parts.append(svg.text(LEFT - 46, TOP - 14, "white, cd/m²", "axis"))
    parts.append(svg.text(RIGHT, FOOT + 42, "lit area, percent of the screen", "axis", "end"))
    for field, class_ in (("found", "found"), ("luminance", "left")):
        points = [(s, getattr(s, field)) for s in steps if getattr(s, field)]
        if len(points) > 1:
            parts.append(svg.path([(x_of(s.area), y_of(v)) for s, v in points], "thread"))
        for s, v in points:
            x, y = x_of(s.area), y_of(v)
            whisker = ""
            if class_ == "left" and s.std > 0:
                whisker = svg.line(x, y_of(max(v - 1.96 * s.std, low)), x, y_of(min(v + 1.96 * s.std, high)), "whisker")
            dot = f'<circle class="grey {class_}" cx="{svg.n(x)}" cy="{svg.n(y)}" r="4.6"/>'
            words = f"{s.area:g} % of the area{' as found' if class_ == 'found' else ''}: {v:.4g} cd/m²"
            parts.append(svg.mark(whisker + dot, words))
    return svg.picture(WIDTH, HEIGHT, title, *parts)
