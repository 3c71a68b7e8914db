"""Roll-off: what a PQ signal asks for and what the display gives, in absolute luminance on logarithmic axes, its peak a ceiling."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg

SIDE, HEIGHT = 708.0, 470.0
LEFT, RIGHT, TOP, FOOT = 70.0, 690.0, 30.0, 412.0
LOW, HIGH = 0.01, 10_000.0


@dataclass(frozen=True)
class Grey:
    """One grey: its level in percent of signal, cd/m² that the signal asks for, that the target has, that were measured."""

    percent: float
    asked: float
    wanted: float
    measured: float | None
    found: float | None = None


def draw(greys: Sequence[Grey], *, peak: float | None, title: str) -> str:
    """Return the chart; ``peak`` in cd/m² is the display's, None while it is not known."""

    def x_of(v: float) -> float:
        return LEFT + (RIGHT - LEFT) * math.log(min(max(v, LOW), HIGH) / LOW) / math.log(HIGH / LOW)

    def y_of(v: float) -> float:
        return FOOT - (FOOT - TOP) * math.log(min(max(v, LOW), HIGH) / LOW) / math.log(HIGH / LOW)

    parts = []
    for decade in (0.01, 0.1, 1.0, 10.0, 100.0, 1000.0, 10_000.0):
        parts.append(svg.line(LEFT, y_of(decade), RIGHT, y_of(decade), "grid"))
        parts.append(svg.text(LEFT - 8, y_of(decade) + 4.5, f"{decade:,.10g}", "tick", "end"))
        parts.append(svg.text(x_of(decade), FOOT + 21, f"{decade:,.10g}", "tick", "middle"))
    if peak is not None:
        parts.append(svg.line(LEFT, y_of(peak), RIGHT, y_of(peak), "plumb"))
        parts.append(svg.text(LEFT + 6, y_of(peak) - 7, f"the display's peak, {peak:.0f} cd/m²", "axis"))
    lit = sorted((g for g in greys if g.asked > 0), key=lambda g: g.asked)
    if len(lit) > 1:
        parts.append(svg.path([(x_of(g.asked), y_of(g.wanted)) for g in lit], "target-line"))
    for field, class_ in (("found", "found"), ("measured", "left")):
        for g in lit:
            v = getattr(g, field)
            if v is None or v <= 0:
                continue
            dot = f'<circle class="grey {class_}" cx="{svg.n(x_of(g.asked))}" cy="{svg.n(y_of(v))}" r="4.4"/>'
            words = f"{g.percent:g} %{' as found' if class_ == 'found' else ''}: {v:.4g} cd/m² where {g.wanted:.4g} are wanted"
            parts.append(svg.mark(dot, words))
    parts.append(svg.text(LEFT - 52, TOP - 12, "given, cd/m²", "axis"))
    line = "; the line is the target" if len(lit) > 1 else ""
    parts.append(svg.text(RIGHT, FOOT + 44, f"asked for by the signal, cd/m²{line}", "axis", "end"))
    return svg.picture(SIDE, HEIGHT, title, *parts)
