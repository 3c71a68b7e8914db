"""How a PQ target ends: what the film says and what is to be shown, in PQ signal, with the display as it was read beside it."""

from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg

SIDE, HEIGHT = 708.0, 430.0
LEFT, RIGHT, TOP, FOOT = 66.0, 690.0, 28.0, 372.0
Points = Sequence[tuple[float, float]]


@dataclass(frozen=True)
class Scale:
    """A luminance in cd/m² and its PQ signal, for the axes."""

    light: float
    signal: float


def draw(
    chosen: Points, others: Sequence[Points], read: Points, knees: Points, *, peak: Scale, span: tuple[float, float],
    scales: Sequence[Scale], title: str,
) -> str:  # fmt: skip
    """Return the chart. Everything is PQ signal in and out: the target's curve, other ways to end, greys as read, points to move.

    ``span`` is what is drawn of the signal; points to move carry their number, and a page's keys move them.
    """
    low, high = span

    def across(v: float) -> float:
        return LEFT + (RIGHT - LEFT) * (min(max(v, low), high) - low) / (high - low)

    def down(v: float) -> float:
        return FOOT - (FOOT - TOP) * (min(max(v, low), high) - low) / (high - low)

    parts = []
    for scale in scales:
        if low < scale.signal < high:
            x, y = across(scale.signal), down(scale.signal)
            parts += [svg.line(LEFT, y, RIGHT, y, "grid"), svg.line(x, TOP, x, FOOT, "grid")]
            parts.append(svg.text(LEFT - 8, y + 4.5, f"{scale.light:,.10g}", "tick", "end"))
            parts.append(svg.text(x, FOOT + 20, f"{scale.light:,.10g}", "tick", "middle"))
    parts.append(svg.line(LEFT, down(peak.signal), RIGHT, down(peak.signal), "plumb"))
    parts.append(svg.text(LEFT + 6, down(peak.signal) - 7, f"the display’s peak, {peak.light:,.0f} cd/m²", "axis"))
    parts += [svg.path([(across(x), down(y)) for x, y in line], "course") for line in others]
    parts.append(svg.path([(across(x), down(y)) for x, y in chosen], "wanted"))
    for x, y in read:
        if low <= x <= high:
            parts.append(f'<circle class="grey left" cx="{svg.n(across(x))}" cy="{svg.n(down(y))}" r="3.6"/>')
    for number, (x, y) in enumerate(knees):
        words = f"{x:.3f} in, {y:.3f} out: left and right move what goes in, up and down what comes out"
        dot = svg.element(
            "rect", x=across(x) - 6.0, y=down(y) - 6.0, width=12.0, height=12.0, class_="knee",
            transform=f"rotate(45 {svg.n(across(x))} {svg.n(down(y))})",
        )  # fmt: skip
        named = svg.attributes({
            "tabindex": 0, "role": "slider", "data_knee": number, "aria_label": f"point {number + 1}", "aria_valuenow": f"{y:g}",
            "aria_valuemin": 0, "aria_valuemax": 1, "aria_valuetext": words,
        })  # fmt: skip
        parts.append(f'<g class="mark"{named}><title>{words}</title>{dot}</g>')
        parts.append(svg.text(across(x) + 11, down(y) + 18, str(number + 1), "name"))
    parts.append(svg.text(LEFT - 50, TOP - 12, "shown, cd/m²", "axis"))
    parts.append(svg.text(RIGHT, FOOT + 42, "in the film, cd/m²", "axis", "end"))
    return svg.picture(SIDE, HEIGHT, title, *parts)
