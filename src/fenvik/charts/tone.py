"""Tone: deviation of luminance from the target by level, inside the band that the eye can see; the curve as an inset."""

from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg

WIDTH, HEIGHT = 708.0, 560.0
LEFT, RIGHT, TOP, FOOT = 60.0, 692.0, 26.0, 500.0
SHADOWS = 9.0  # percent of signal
INSET = (500.0, 44.0, 180.0, 130.0)


@dataclass(frozen=True)
class Point:
    """One level: its deviation and std in percent, the visible band's half width, luminances for the inset."""

    percent: float
    deviation: float | None
    std: float
    visible: float
    found: float | None
    measured: float | None  # share of white
    wanted: float
    gamma: float | None = None


def draw(points: Sequence[Point], *, title: str) -> str:
    """Return the chart; points in order of level, without black."""
    # In the dark a few steps are a large share of next to nothing: they are held at the edge and do not flatten all the rest.
    apart = [p for p in points if p.percent > SHADOWS] or points
    reach = [abs(d) for p in apart for d in (p.deviation, p.found) if d is not None]
    top = max([6.0, *(r * 1.12 for r in reach)])
    span = next((s for s in (6, 8, 10, 15, 20, 30, 40, 60, 100, 200) if s >= top), 200)
    middle = 0.5 * (TOP + FOOT)

    def at(percent: float, deviation: float) -> tuple[float, float]:
        held = max(-span, min(span, deviation))
        return LEFT + (RIGHT - LEFT) * percent / 100.0, middle - held / span * (FOOT - TOP) / 2

    parts = []
    if points:
        upper = [at(p.percent, p.visible) for p in points]
        lower = [at(p.percent, -p.visible) for p in points]
        parts.append(svg.path([*upper, *reversed(lower)], "band", closed=True))
    for tick in svg.steps(-span, span, 6):
        y = at(0, tick)[1]
        parts.append(svg.line(LEFT, y, RIGHT, y, "plumb" if tick == 0 else "grid"))
        parts.append(svg.text(LEFT - 8, y + 4.5, svg.signed(tick, 0), "tick", "end"))
    for tick in range(0, 101, 10):
        parts.append(svg.text(at(tick, 0)[0], FOOT + 22, f"{tick}", "tick", "middle"))
    parts.append(svg.text(LEFT, TOP - 10, "too bright, percent of the target's luminance", "axis"))
    parts.append(svg.text(RIGHT, FOOT - 6, "too dark", "axis", "end"))
    parts.append(svg.text(RIGHT, FOOT + 42, "signal, %", "axis", "end"))
    found = [at(p.percent, p.found) for p in points if p.found is not None]
    if len(found) > 1:
        parts.append(svg.path(found, "thread found"))
    left = [at(p.percent, p.deviation) for p in points if p.deviation is not None]
    if len(left) > 1:
        parts.append(svg.path(left, "thread"))
    for p in points:
        parts.append(_marks(p, at))
    parts += _beyond(points, span, at)
    parts.append(_inset(points))
    return svg.picture(WIDTH, HEIGHT, title, *parts)


def _marks(point: Point, at) -> str:  # type: ignore[no-untyped-def]
    parts = ""
    if point.found is not None:
        x, y = at(point.percent, point.found)
        dot = f'<circle class="grey found" cx="{svg.n(x)}" cy="{svg.n(y)}" r="5"/>'
        parts += svg.mark(dot, f"{point.percent:g} % as found: {svg.signed(point.found)} %")
    if point.deviation is not None:
        x, y = at(point.percent, point.deviation)
        high, low = (
            at(point.percent, point.deviation + 1.96 * point.std)[1],
            at(point.percent, point.deviation - 1.96 * point.std)[1],
        )
        dot = (
            svg.line(x, high, x, low, "whisker")
            + f'<circle class="grey left" cx="{svg.n(x)}" cy="{svg.n(y)}" r="5.5"/>'
        )
        gamma = "" if point.gamma is None else f", gamma {point.gamma:.2f}"
        parts += svg.mark(dot, f"{point.percent:g} %: {svg.signed(point.deviation)} % ± {1.96 * point.std:.1f}{gamma}")
    return parts


def _beyond(points: Sequence[Point], span: float, at) -> list[str]:  # type: ignore[no-untyped-def]
    """Return arrows at the marks that the scale ends before, and how far the farthest lies."""
    parts = []
    shown = [(p.percent, p.found if p.deviation is None else p.deviation) for p in points]
    told = [(percent, d) for percent, d in shown if d is not None]
    for sign in (1, -1):
        out = [(percent, d) for percent, d in told if sign * d > span]
        for percent, d in out:
            x, y = at(percent, d)
            parts.append(svg.path([(x - 4, y + sign * 9), (x, y + sign * 3), (x + 4, y + sign * 9)], "beyond"))
        if out:
            percent, d = max(out, key=lambda pair: abs(pair[1]))
            x, y = at(max(p for p, _ in out), d)
            parts.append(svg.text(x + 12, y + sign * 8 + 4, f"to {svg.signed(d, 0)} % at {percent:g} %", "tick"))
    return parts


def _inset(points: Sequence[Point]) -> str:
    x0, y0, width, height = INSET

    def at(percent: float, share: float) -> tuple[float, float]:
        return x0 + 10 + (width - 20) * percent / 100, y0 + height - 10 - (height - 20) * min(share, 1.05)

    parts = [
        f'<rect class="inset" x="{svg.n(x0)}" y="{svg.n(y0)}" width="{svg.n(width)}" height="{svg.n(height)}" rx="4"/>'
    ]
    if points:
        parts.append(svg.path([at(0, 0), *(at(p.percent, p.wanted) for p in points)], "curve"))
    for p in points:
        if p.measured is not None:
            x, y = at(p.percent, p.measured)
            parts.append(f'<circle class="grey left" cx="{svg.n(x)}" cy="{svg.n(y)}" r="2.2"/>')
    parts.append(svg.text(x0 + 12, y0 + 20, "the curve itself", "axis"))
    return "".join(parts)
