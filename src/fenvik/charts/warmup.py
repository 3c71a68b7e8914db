"""Warm-up: luminance of white over minutes, the curve fitted to it, and the band inside which it counts as settled."""

from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg

WIDTH, HEIGHT = 708.0, 470.0
LEFT, RIGHT, TOP, FOOT = 66.0, 692.0, 30.0, 410.0


@dataclass(frozen=True)
class Point:
    """One reading of white: minutes since the first, cd/m² with one deviation, and the fit there."""

    minutes: float
    luminance: float
    std: float
    fitted: float | None


def draw(points: Sequence[Point], *, final: float | None, share: float, title: str) -> str:
    """Return the chart; ``final`` is where the fit ends, ``share`` the part of it that counts as settled."""
    values = [v for p in points for v in (p.luminance - 2 * p.std, p.luminance + 2 * p.std)]
    if final is not None:
        values += [final * (1 - 2 * share), final * (1 + 2 * share)]
    low, high = (min(values), max(values)) if values else (0.0, 1.0)
    room = max(0.08 * (high - low), 1e-6)
    low, high = low - room, high + room
    longest = max([10.0, *(p.minutes for p in points)]) * 1.02

    def at(minutes: float, luminance: float) -> tuple[float, float]:
        return LEFT + (RIGHT - LEFT) * minutes / longest, FOOT - (FOOT - TOP) * (luminance - low) / (high - low)

    parts = []
    if final is not None:
        top, foot = at(0, final * (1 + share))[1], at(0, final * (1 - share))[1]
        corners = [(LEFT, top), (RIGHT, top), (RIGHT, foot), (LEFT, foot)]
        parts.append(svg.path(corners, "band", closed=True))
        parts.append(svg.text(RIGHT - 6, top - 6, f"settled: within {share * 100:g} % of {final:.1f}", "axis", "end"))
    for tick in svg.steps(low, high, 6):
        y = at(0, tick)[1]
        parts.append(svg.line(LEFT, y, RIGHT, y, "grid"))
        parts.append(svg.text(LEFT - 8, y + 4.5, f"{tick:g}", "tick", "end"))
    for tick in svg.steps(0, longest, 8):
        parts.append(svg.text(at(tick, low)[0], FOOT + 22, f"{tick:g}", "tick", "middle"))
    parts.append(svg.text(LEFT - 50, TOP - 12, "white, cd/m²", "axis"))
    parts.append(svg.text(RIGHT, FOOT + 44, "minutes since the first reading", "axis", "end"))
    fitted = [at(p.minutes, p.fitted) for p in points if p.fitted is not None]
    if len(fitted) > 1:
        parts.append(svg.path(fitted, "thread"))
    for p in points:
        x, y = at(p.minutes, p.luminance)
        whisker = svg.line(x, at(0, p.luminance - 1.96 * p.std)[1], x, at(0, p.luminance + 1.96 * p.std)[1], "whisker")
        dot = f'<circle class="grey left" cx="{svg.n(x)}" cy="{svg.n(y)}" r="4"/>'
        parts.append(
            svg.mark(whisker + dot, f"after {p.minutes:.1f} min: {p.luminance:.2f} cd/m² ± {1.96 * p.std:.2f}")
        )
    return svg.picture(WIDTH, HEIGHT, title, *parts)
