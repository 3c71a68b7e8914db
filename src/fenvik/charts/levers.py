"""Live: three levers hinged at the middle, tilting with each light's deviation; nothing else moves."""

from fenvik.charts import svg

WIDTH, ROW = 280.0, 44.0
LEFT, RIGHT, FIGURE = 6.0, 206.0, 280.0
FULL_TILT_PERCENT = 12.0
CHANNELS = ("red", "green", "blue")


def draw(deviation: tuple[float, float, float], std: tuple[float, float, float], *, title: str) -> str:
    """Return the levers for deviations from 100 % of each light, in percent."""
    parts = []
    middle = 0.5 * (LEFT + RIGHT)
    for c, name in enumerate(CHANNELS):
        y = 26 + ROW * c
        share = max(-1.0, min(1.0, deviation[c] / FULL_TILT_PERCENT))
        rise = 17.0 * (abs(share) ** 0.6) * (1 if share > 0 else -1)
        parts.append(svg.line(LEFT, y, RIGHT, y, "rung"))
        parts.append(svg.path([(middle - 6, y + 10), (middle + 6, y + 10), (middle, y)], "hinge", closed=True))
        arm = svg.line(LEFT, y + rise, RIGHT, y - rise, f"arm {name}") + svg.shape(c, RIGHT, y - rise, 6.0, "left")
        words = f"{name} {svg.signed(deviation[c])} % ± {1.96 * std[c]:.1f}"
        parts.append(svg.mark(arm, words))
        # In a column of its own: at any tilt it stands beside its lever, and never under another one's arm.
        parts.append(svg.text(FIGURE, y + 5, svg.signed(deviation[c]) + " %", "lever-figure", anchor="end"))
    return svg.picture(WIDTH, 26 + ROW * 2 + 24, title, *parts)
