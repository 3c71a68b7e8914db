"""A correction: what the field meter said before and says after, beside the reference, patch by patch.

Left the chromaticity, Δx to the right and Δy up, as seen through a lens whose middle is the reference; right the luminance.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg

WIDTH, TOP = 708.0, 30.0
LENS_X, LENS_Y, LENS_R = 178.0, 214.0, 160.0
NAME_X, PLUMB_X, REACH, FIGURE_X = 452.0, 556.0, 92.0, 704.0
RUNG = 22.0
ROUND = (0.0005, 0.001, 0.002, 0.004, 0.005, 0.01, 0.02, 0.05, 0.1)


@dataclass(frozen=True)
class Beside:
    """One patch: label, own colour as #rrggbb, and Δx, Δy, ΔY in percent before and after; after is None before it is made."""

    label: str
    colour: str
    before: tuple[float, float, float]
    after: tuple[float, float, float] | None


def draw(patches: Sequence[Beside], *, title: str) -> str:
    """Return the chart."""
    height = max(LENS_Y + LENS_R + 46.0, TOP + 34 + RUNG * len(patches) + 30)
    if not patches:
        return svg.picture(WIDTH, height, title)
    return svg.picture(WIDTH, height, title, _lens(patches), _luminance(patches))


def _reach(values: Sequence[float], choices: Sequence[float]) -> float:
    top = max(values, default=0.0)
    return next((v for v in choices if v >= top), choices[-1])


def _lens(patches: Sequence[Beside]) -> str:
    shown = [each for p in patches for each in (p.before, p.after) if each is not None]
    each = _reach([math.hypot(dx, dy) * 1.08 / 4 for dx, dy, _ in shown], ROUND)
    unit = LENS_R / (4 * each)
    parts = [f'<circle class="lens" cx="{svg.n(LENS_X)}" cy="{svg.n(LENS_Y)}" r="{svg.n(LENS_R)}"/>']
    for ring in range(1, 5):
        radius = LENS_R * ring / 4
        parts.append(f'<circle class="ring-line" cx="{svg.n(LENS_X)}" cy="{svg.n(LENS_Y)}" r="{svg.n(radius)}"/>')
        parts.append(svg.text(LENS_X + radius * 0.72, LENS_Y + radius * 0.72 + 4, f"{each * ring:g}", "tick small", "middle"))
    parts.append(svg.line(LENS_X - LENS_R, LENS_Y, LENS_X + LENS_R, LENS_Y, "grid"))
    parts.append(svg.line(LENS_X, LENS_Y - LENS_R, LENS_X, LENS_Y + LENS_R, "grid"))
    parts.append(svg.text(LENS_X + LENS_R + 4, LENS_Y - 6, "Δx", "axis"))
    parts.append(svg.text(LENS_X + 6, LENS_Y - LENS_R - 6, "Δy", "axis"))
    for p in patches:
        bx, by = _within(p.before, unit)
        dot = f'<circle class="head found" cx="{svg.n(bx)}" cy="{svg.n(by)}" r="4.6" fill="none" stroke="{p.colour}"/>'
        words = f"{p.label} before: Δx {svg.signed(p.before[0], 4)}, Δy {svg.signed(p.before[1], 4)}"
        if p.after is not None:
            ax, ay = _within(p.after, unit)
            parts.append(svg.line(bx, by, ax, ay, "thread"))
            parts.append(svg.mark(dot, words))
            dot = f'<circle class="head left" cx="{svg.n(ax)}" cy="{svg.n(ay)}" r="4.4" fill="{p.colour}" stroke="{p.colour}"/>'
            words = f"{p.label} after: Δx {svg.signed(p.after[0], 4)}, Δy {svg.signed(p.after[1], 4)}"
        parts.append(svg.mark(dot, words))
    parts.append(svg.text(LENS_X, LENS_Y + LENS_R + 24, "beside the reference: hollow before, solid after", "axis", "middle"))
    return "".join(parts)


def _within(place: tuple[float, float, float], unit: float) -> tuple[float, float]:
    dx, dy = place[0] * unit, -place[1] * unit
    size = math.hypot(dx, dy)
    if size > LENS_R:
        dx, dy = dx * LENS_R / size, dy * LENS_R / size
    return LENS_X + dx, LENS_Y + dy


def _luminance(patches: Sequence[Beside]) -> str:
    values = [abs(each[2]) for p in patches for each in (p.before, p.after) if each is not None]
    limit = _reach([v * 1.05 for v in values if math.isfinite(v)], (0.5, 1, 2, 5, 10, 20, 50, 100))
    foot = TOP + 34 + RUNG * len(patches)
    parts = [
        svg.text(PLUMB_X, TOP + 2, "ΔY, percent", "axis", "middle"),
        svg.line(PLUMB_X, TOP + 14, PLUMB_X, foot, "plumb"),
        svg.text(PLUMB_X - REACH, foot + 18, f"{svg.MINUS}{limit:g}", "tick", "middle"),
        svg.text(PLUMB_X, foot + 18, "0", "tick", "middle"),
        svg.text(PLUMB_X + REACH, foot + 18, f"+{limit:g}", "tick", "middle"),
    ]
    for i, p in enumerate(patches):
        y = TOP + 34 + RUNG * i
        parts.append(svg.line(PLUMB_X - REACH, y, PLUMB_X + REACH, y, "rung"))
        parts.append(svg.text(NAME_X, y + 4.5, p.label, "level", "end"))
        was = PLUMB_X + REACH * _held(p.before[2] / limit)
        bead = f'<circle class="bead found" cx="{svg.n(was)}" cy="{svg.n(y)}" r="4.6" stroke="{p.colour}"/>'
        marks = svg.mark(bead, f"{p.label} before: {svg.signed(p.before[2], 2)} %")
        figure = p.before[2]
        if p.after is not None:
            now = PLUMB_X + REACH * _held(p.after[2] / limit)
            parts.append(svg.line(was, y, now, y, "thread"))
            bead = f'<circle class="bead" cx="{svg.n(now)}" cy="{svg.n(y)}" r="4.8" fill="{p.colour}"/>'
            marks += svg.mark(bead, f"{p.label} after: {svg.signed(p.after[2], 2)} %")
            figure = p.after[2]
        parts.append(marks)
        parts.append(svg.text(FIGURE_X, y + 4.5, svg.signed(figure, 2), "figure", "end"))
    return "".join(parts)


def _held(share: float) -> float:
    return min(max(share, -1.0), 1.0) if math.isfinite(share) else 0.0
