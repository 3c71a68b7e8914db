"""Aiming: luminance of the last readings as a share of the best so far; the meter is where it should be at the top."""

from collections.abc import Sequence

from fenvik.charts import svg

WIDTH, HEIGHT = 708.0, 300.0
LEFT, RIGHT, TOP, FOOT = 58.0, 692.0, 34.0, 258.0
SHOWN = 60
HIGH = 1.01  # of the best: single readings lie above their mean too


def draw(luminances: Sequence[float], *, best: float, close: float, title: str) -> str:
    """Return the chart of luminances in cd/m², oldest first, beside the ``best`` level reached.

    ``close`` is the share of it that counts as aimed.
    """
    last = list(luminances)[-SHOWN:]
    shares = [value / best if best > 0 else 0.0 for value in last]
    low = min([0.9, *(share - 0.02 for share in shares)])
    low = next(v for v in (0.9, 0.8, 0.6, 0.4, 0.2, 0.0, -1.0) if v <= low or v == -1.0)
    low = max(low, 0.0)

    def at(i: int, share: float) -> tuple[float, float]:
        return (
            LEFT + (RIGHT - LEFT) * (i + 0.5) / max(len(last), 12),
            FOOT - (FOOT - TOP) * (min(max(share, low), HIGH) - low) / (HIGH - low),
        )

    top, foot = at(0, 1.0)[1], at(0, close)[1]
    parts = [
        svg.path([(LEFT, TOP), (RIGHT, TOP), (RIGHT, foot), (LEFT, foot)], "band", closed=True),
        svg.line(LEFT, top, RIGHT, top, "plumb"),
        svg.text(RIGHT - 6, TOP - 8, f"the best so far, {best:.4g} cd/m²", "axis", "end"),
    ]
    for tick in svg.steps(low, 1.0, 5):
        y = at(0, tick)[1]
        parts.append(svg.line(LEFT, y, RIGHT, y, "grid"))
        parts.append(svg.text(LEFT - 8, y + 4.5, f"{100 * tick:.0f}", "tick", "end"))
    parts.append(svg.text(LEFT - 46, TOP - 18, "percent of the best", "axis"))
    parts.append(svg.text(RIGHT, FOOT + 30, "readings, the newest at the right", "axis", "end"))
    if len(last) > 1:
        parts.append(svg.path([at(i, share) for i, share in enumerate(shares)], "thread"))
    for i, (share, value) in enumerate(zip(shares, last, strict=True)):
        x, y = at(i, share)
        size = 6.0 if i == len(last) - 1 else 3.6
        dot = f'<circle class="grey left" cx="{svg.n(x)}" cy="{svg.n(y)}" r="{svg.n(size)}"/>'
        parts.append(svg.mark(dot, f"{value:.4g} cd/m², {100 * share:.1f} % of the best"))
    return svg.picture(WIDTH, HEIGHT, title, *parts)
