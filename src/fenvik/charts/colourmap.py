"""Colour map: u′v′, or x y, on empty ground; target a small ring, measured the head of a comet; white has a lens of its own."""

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache

from fenvik.charts import svg
from fenvik.charts.labels import Box, place
from fenvik.core.colour.science import WAVELENGTHS_NM, observer_1931
from fenvik.core.colour.space import xyz_to_uv, xyz_to_xy
from fenvik.core.types import Floats

WIDTH, HEIGHT = 708.0, 596.0
LENS_X, LENS_R = 592.0, 112.0
LOCUS_STEP_NM = 5


@dataclass(frozen=True)
class Plane:
    """What the map is drawn in: its axes, what stands at the foot, units for 1, and how XYZ are placed in it."""

    across: str
    up: str
    foot: float
    scale: float
    ticks: tuple[float, ...]
    of_xyz: Callable[[Floats], Floats]
    left: float = 6.0  # where 0 stands
    lens_y: float = 430.0  # where nothing else is

    def at(self, a: float, b: float) -> tuple[float, float]:
        """Return where a place is drawn."""
        return self.left + a * self.scale, HEIGHT - 24 - (b - self.foot) * self.scale


UV = Plane("u′", "v′", 0.03, 985.0, (0.1, 0.2, 0.3, 0.4, 0.5), xyz_to_uv)
XY = Plane("x", "y", 0.0, 665.0, (0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8), xyz_to_xy, 34.0, 130.0)


@dataclass(frozen=True)
class Comet:
    """One colour: target, measured and found in the plane of the map, its own colour as #rrggbb, its error."""

    label: str
    colour: str
    target: tuple[float, float]
    measured: tuple[float, float] | None
    found: tuple[float, float] | None
    error: float | None
    named: bool = True


@dataclass(frozen=True)
class WhitePoint:
    """One grey in the lens: its signed chromatic error, in CIEDE2000, across (green to red) and down (blue to yellow)."""

    label: str
    across: float
    up: float
    error: float
    found: bool


@cache
def _locus(plane: Plane) -> str:
    uv = plane.of_xyz(observer_1931())
    wanted = [i for i, nm in enumerate(WAVELENGTHS_NM) if 420 <= nm <= 680 and nm % LOCUS_STEP_NM == 0]
    parts = []
    for a, b in itertools.pairwise(wanted):
        (x1, y1), (x2, y2) = plane.at(*uv[a]), plane.at(*uv[b])
        if x1 < -60 or y1 < -60:
            continue
        hue = f"hsl({_hue(float(WAVELENGTHS_NM[a])):.0f} 62% 42%)"
        parts.append(f'<path class="locus" d="M{svg.n(x1)} {svg.n(y1)}L{svg.n(x2)} {svg.n(y2)}" stroke="{hue}"/>')
    purple = svg.line(*plane.at(*uv[wanted[0]]), *plane.at(*uv[wanted[-1]]), "purple")
    return "".join(parts) + purple


def _hue(nm: float) -> float:
    """Return a hue in degrees that stands for a wavelength: a tint for the line, not a colour of light."""
    stops = (
        (420, 262.0),
        (460, 238.0),
        (490, 190.0),
        (520, 140.0),
        (560, 90.0),
        (580, 52.0),
        (600, 28.0),
        (640, 2.0),
        (680, 0.0),
    )
    for (a, ha), (b, hb) in itertools.pairwise(stops):
        if nm <= b:
            return ha + (hb - ha) * (max(nm, a) - a) / (b - a)
    return 0.0


def draw(
    comets: Sequence[Comet],
    whites: Sequence[WhitePoint],
    corners: Sequence[tuple[float, float]],
    white: tuple[float, float],
    *,
    title: str,
    plane: Plane = UV,
) -> str:
    """Return the map; ``corners`` are the target's primaries, ``white`` its white, in the plane of the map."""
    parts = [_locus(plane)]
    for tick in plane.ticks:
        parts.append(svg.text(plane.at(tick, 0)[0], HEIGHT - 4, f"{tick:.1f}", "tick", "middle"))
    parts.append(svg.text(WIDTH - 2, HEIGHT - 4, plane.across, "axis", "end"))
    for tick in plane.ticks:
        parts.append(svg.text(0, plane.at(0, tick)[1] + 4, f"{tick:.1f}", "tick"))
    parts.append(svg.path([plane.at(*corner) for corner in corners], "gamut", closed=True))
    x, y = plane.at(*white)
    parts.append(f'<circle class="ring" cx="{svg.n(x)}" cy="{svg.n(y)}" r="6.5"/>')
    boxes = [Box(x - 8, y - 8, 16, 16)]
    for comet in comets:
        drawn, box = _comet(comet, plane)
        parts.append(drawn)
        boxes.append(box)
    named = [c for c in comets if c.named]
    words = [c.label + ("" if c.error is None else f" {c.error:.1f}") for c in named]
    anchors = [(*plane.at(*(c.measured or c.found or c.target)), w) for c, w in zip(named, words, strict=True)]
    lens_box = Box(LENS_X - LENS_R - 4, plane.lens_y - LENS_R - 4, 2 * LENS_R + 8, 2 * LENS_R + 34)
    field = Box(0, 0, WIDTH, HEIGHT - 18)
    for comet, spot in zip(named, place(anchors, [*boxes, lens_box], field), strict=True):
        figure = "" if comet.error is None else f'<tspan class="loud" dx="4">{comet.error:.1f}</tspan>'
        parts.append(
            f'<text class="name" x="{svg.n(spot.x)}" y="{svg.n(spot.y)}" text-anchor="{spot.anchor}">{comet.label}{figure}</text>'
        )
    parts.append(_lens(whites, x, y, plane.lens_y))
    return svg.picture(WIDTH, HEIGHT, title, *parts)


def _comet(comet: Comet, plane: Plane) -> tuple[str, Box]:
    tx, ty = plane.at(*comet.target)
    parts = f'<circle class="ring" cx="{svg.n(tx)}" cy="{svg.n(ty)}" r="6.5"/>'
    low_x, high_x, low_y, high_y = tx - 8, tx + 8, ty - 8, ty + 8
    for place_uv, class_ in ((comet.found, "found"), (comet.measured, "left")):
        if place_uv is None:
            continue
        x, y = plane.at(*place_uv)
        low_x, high_x, low_y, high_y = min(low_x, x - 6), max(high_x, x + 6), min(low_y, y - 6), max(high_y, y + 6)
        length = math.hypot(x - tx, y - ty)
        tail = ""
        if length > 3:
            # The tail widens from a point at the ring to the head, so that its direction is seen even when it is short.
            wide = 3.4 if class_ == "left" else 1.6
            nx, ny = -(y - ty) / length * wide, (x - tx) / length * wide
            tail = svg.path(
                [(tx, ty), (x + nx, y + ny), (x - nx, y - ny)], f"tail {class_}", closed=True, fill=comet.colour
            )
        radius = 4.6 if class_ == "left" else 4.2
        fill = comet.colour if class_ == "left" else "none"
        head = f'<circle class="head {class_}" cx="{svg.n(x)}" cy="{svg.n(y)}" r="{radius}" fill="{fill}" stroke="{comet.colour}"/>'
        named = f"{comet.label}{' as found' if class_ == 'found' else ''}"
        words = f"{named}: {plane.across} {place_uv[0]:.4f}, {plane.up} {place_uv[1]:.4f}"
        parts += svg.mark(tail + head, words)
    return parts, Box(low_x, low_y, high_x - low_x, high_y - low_y)


def _lens(whites: Sequence[WhitePoint], x: float, y: float, lens_y: float) -> str:
    reach = max([2.2, *(math.hypot(w.across, w.up) * 1.12 for w in whites)])
    rings = 4
    each = next((s for s in (1, 2, 3, 4, 5, 10, 20) if s * rings >= reach), 20)
    unit = LENS_R / (each * rings + 0.15 * each)
    angle = math.atan2(lens_y - y, LENS_X - x)
    parts = [
        svg.line(
            x + 8 * math.cos(angle),
            y + 8 * math.sin(angle),
            LENS_X - LENS_R * math.cos(angle),
            lens_y - LENS_R * math.sin(angle),
            "leader",
        ),
        f'<circle class="lens" cx="{svg.n(LENS_X)}" cy="{svg.n(lens_y)}" r="{svg.n(LENS_R)}"/>',
        f'<circle class="band" cx="{svg.n(LENS_X)}" cy="{svg.n(lens_y)}" r="{svg.n(min(unit, LENS_R))}"/>',
    ]
    for ring in range(1, rings + 1):
        radius = unit * each * ring
        parts.append(f'<circle class="ring-line" cx="{svg.n(LENS_X)}" cy="{svg.n(lens_y)}" r="{svg.n(radius)}"/>')
        parts.append(
            svg.text(LENS_X + radius * 0.94, lens_y + radius * 0.34 + 4, f"{each * ring}", "tick small", "middle")
        )
    for w in sorted(whites, key=lambda w: not w.found):
        wx, wy = LENS_X + w.across * unit, lens_y - w.up * unit
        class_ = "grey found" if w.found else "grey left"
        dot = f'<circle class="{class_}" cx="{svg.n(wx)}" cy="{svg.n(wy)}" r="4"/>'
        parts.append(svg.mark(dot, f"{w.label}{' as found' if w.found else ''}: error {w.error:.1f}"))
    parts.append(svg.text(LENS_X, lens_y + LENS_R + 20, "greys, rings of equal error", "axis", "middle"))
    return "".join(parts)
