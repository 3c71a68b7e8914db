"""Whites about the one that is wanted, in u′v′: where they lie, from where to where, and how far one is just noticed."""

from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg
from fenvik.core.colour.space import daylight_xy, xy_to_uv
from fenvik.core.types import Floats

WIDTH, HEIGHT = 708.0, 400.0
LEFT, RIGHT, TOP, FOOT = 58.0, 692.0, 24.0, 352.0
LEAST = 0.009  # of u′v′ to each side
KELVIN = tuple(range(5000, 10001, 500))
RINGS = (0.001, 0.005, 0.01)


@dataclass(frozen=True)
class White:
    """One white and its u′v′; ``kind`` is its class: now, wanted, candidate, mode, try; ``spread`` one deviation, or none."""

    name: str
    uv: tuple[float, float]
    kind: str
    spread: float = 0.0
    came_from: tuple[float, float] | None = None


def draw(whites: Sequence[White], middle: tuple[float, float], *, title: str) -> str:
    """Return the chart about ``middle``, the white that is wanted, wide enough for all of them."""
    far = [max(abs(w.uv[0] - middle[0]) / 1.9, abs(w.uv[1] - middle[1])) for w in whites]
    half = 1.18 * max([LEAST, *far])
    scale = (FOOT - TOP) / (2 * half)

    def place(uv: Sequence[float] | Floats) -> tuple[float, float]:
        u, v = float(uv[0]) - middle[0], float(uv[1]) - middle[1]
        return (LEFT + RIGHT) / 2 + u * scale, (TOP + FOOT) / 2 - v * scale

    wide = (RIGHT - LEFT) / 2 / scale
    parts = []
    for tick in svg.steps(middle[0] - wide, middle[0] + wide, 8):
        x = place((tick, middle[1]))[0]
        if LEFT <= x <= RIGHT:
            parts += [svg.line(x, TOP, x, FOOT, "grid"), svg.text(x, FOOT + 18, f"{tick:.3f}", "tick", "middle")]
    for tick in svg.steps(middle[1] - half, middle[1] + half, 5):
        y = place((middle[0], tick))[1]
        if TOP <= y <= FOOT:
            parts += [svg.line(LEFT, y, RIGHT, y, "grid"), svg.text(LEFT - 6, y + 4, f"{tick:.3f}", "tick", "end")]
    parts += [svg.text(RIGHT, FOOT + 40, "u′", "axis", "end"), svg.text(LEFT - 6, TOP - 8, "v′", "axis", "end")]
    line = [place(xy_to_uv(daylight_xy(float(kelvin)))) for kelvin in KELVIN]
    inside = [at for at in line if LEFT <= at[0] <= RIGHT and TOP <= at[1] <= FOOT]
    if len(inside) > 1:
        parts.append(svg.mark(svg.path(inside, "daylight"), "daylight from 5000 to 10000 kelvin"))
    for ring in RINGS:
        x, y = place(middle)
        if ring * scale < (FOOT - TOP) / 2:
            parts.append(f'<circle class="ring-line" cx="{svg.n(x)}" cy="{svg.n(y)}" r="{svg.n(ring * scale)}"/>')
            parts.append(svg.text(x - ring * scale - 4, y - 4, f"{ring:g}", "tick", "end"))
    x, y = place(middle)
    cross = svg.line(x - 6, y, x + 6, y, "wanted") + svg.line(x, y - 6, x, y + 6, "wanted")
    parts.append(svg.mark(cross, "the white that is wanted"))
    taken: list[tuple[float, float]] = []
    for white in whites:
        x, y = place(white.uv)
        if white.came_from is not None:
            parts.append(svg.line(*place(white.came_from), x, y, f"moved {white.kind}"))
        inner = f'<circle class="white {white.kind}" cx="{svg.n(x)}" cy="{svg.n(y)}" r="6"/>'
        if white.spread > 0:
            inner += f'<circle class="spread" cx="{svg.n(x)}" cy="{svg.n(y)}" r="{svg.n(max(2 * white.spread * scale, 1.0))}"/>'
        du, dv = (svg.signed(a - b, 4) for a, b in zip(white.uv, middle, strict=True))
        parts.append(svg.mark(inner, f"{white.name}: {du}, {dv} from the wanted"))
        if white.kind == "try":  # told by where it lies, and by its name for whoever hears the page
            continue
        side = 1 if x < (LEFT + RIGHT) / 2 + 150 else -1
        while any(abs(y + 4 - b) < 15 and abs(x - a) < 170 for a, b in taken):
            y += 15
        taken.append((x, y + 4))
        parts.append(svg.text(x + 12 * side, y + 4, white.name, f"figure {white.kind}", "start" if side > 0 else "end"))
    return svg.picture(WIDTH, HEIGHT, title, *parts)
