"""What a display can do in HDR: light by the lit area, and over the time for which it is held, in one picture."""

import math
from collections.abc import Sequence

from fenvik.charts import svg

WIDTH, HEIGHT = 708.0, 330.0
TOP, FOOT = 30.0, 270.0
LEFT, MIDDLE, RIGHT = 56.0, 430.0, 692.0
GAP, ROOM = 40.0, 26.0


def draw(peaks: Sequence[tuple[float, float]], held: Sequence[tuple[float, float]], window: float, *, title: str) -> str:
    """Return the chart: windows in percent of the area with cd/m², and seconds with cd/m²; ``window`` is what is proposed."""
    top = 1.08 * max(light for _, light in (*peaks, *held))

    def down(light: float) -> float:
        return FOOT - (FOOT - TOP) * light / top

    parts = []
    for tick in svg.steps(0.0, top, 5):
        y = down(tick)
        parts += [svg.line(LEFT, y, RIGHT, y, "grid"), svg.text(LEFT - 8, y + 4, f"{tick:.0f}", "tick", "end")]
    parts.append(svg.text(LEFT - 8, TOP - 12, "cd/m²", "axis", "end"))
    first, last = peaks[0][0], peaks[-1][0]

    def along(area: float) -> float:
        return LEFT + 14 + (MIDDLE - GAP - LEFT - 14) * math.log(area / first) / max(math.log(last / first), 1e-9)

    parts.append(svg.path([(along(a), down(light)) for a, light in peaks], "course"))
    labelled = 0.0
    for area, light in peaks:
        x = along(area)
        kind = "white wanted" if area == window else "white"
        dot = f'<circle class="{kind}" cx="{svg.n(x)}" cy="{svg.n(down(light))}" r="5"/>'
        parts.append(svg.mark(dot, f"{area:g} % of the area: {light:.0f} cd/m²"))
        if area in (first, last) or (x - labelled > ROOM and along(last) - x > ROOM):
            parts.append(svg.text(x, FOOT + 20, f"{area:g}", "tick", "middle"))
            labelled = x
    parts.append(svg.text(MIDDLE - GAP, FOOT + 42, "lit area, %", "axis", "end"))
    if len(held) > 1:
        end = held[-1][0] or 1.0

        def over(seconds: float) -> float:
            return MIDDLE + 10 + (RIGHT - MIDDLE - 20) * seconds / end

        parts.append(svg.path([(over(s), down(light)) for s, light in held], "course"))
        for seconds, light in held:
            x = over(seconds)
            dot = f'<circle class="white" cx="{svg.n(x)}" cy="{svg.n(down(light))}" r="4"/>'
            parts.append(svg.mark(dot, f"after {seconds:.0f} s: {light:.0f} cd/m²"))
        for seconds in (0.0, end):
            parts.append(svg.text(over(seconds), FOOT + 20, f"{seconds:.0f}", "tick", "middle"))
        parts.append(svg.text(RIGHT, FOOT + 42, "held, s", "axis", "end"))
    return svg.picture(WIDTH, HEIGHT, title, *parts)
