"""Error: a ladder, one rung a patch, a bead at its error in the patch's own colour."""

from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg

WIDTH = 708.0
TOP, RUNG, LOW_RUNG = 44.0, 30.0, 19.0
MANY = 18  # rungs that fit at their full height
LEFT, RIGHT = 104.0, 640.0
FIGURE_X = 704.0
BANDS = ((0.0, 1.0, "cannot be seen", "calm"), (1.0, 3.0, "trained eye", "dots"), (3.0, 1e9, "anyone", "lines"))


@dataclass(frozen=True)
class Rung:
    """One patch: its label, its own colour as #rrggbb, the error with its 95 % interval; found where known."""

    label: str
    colour: str
    error: float | None
    low: float = 0.0
    high: float = 0.0
    found: float | None = None
    apart: bool = False  # beyond what the display gives: held at the edge, so that it does not flatten all the rest


def draw(rungs: Sequence[Rung], *, title: str, unit: str = "CIEDE2000") -> str:
    """Return the ladder, in the order given; ``unit``: what the errors, with luminance, are called."""
    within = [rung for rung in rungs if not rung.apart] or rungs
    values = [v for rung in within for v in (rung.error, rung.found) if v is not None]
    top = max([3.6, *(v * 1.08 for v in values)])
    limit = next((s for s in (4, 5, 6, 8, 10, 12, 15, 20, 30, 40, 60, 100) if s >= top), 100)
    rung_height = RUNG if len(rungs) <= MANY else max(LOW_RUNG, RUNG * MANY / len(rungs))
    foot = TOP + rung_height * len(rungs) + 6
    height = foot + 44

    def x_of(value: float) -> float:
        return LEFT + (RIGHT - LEFT) * min(value, limit) / limit

    parts = [
        '<defs><pattern id="dots" width="9" height="9" patternUnits="userSpaceOnUse">'
        '<circle class="texture" cx="2" cy="2" r="0.8"/></pattern>'
        '<pattern id="lines" width="9" height="9" patternUnits="userSpaceOnUse">'
        '<path class="texture-line" d="M0 9L9 0"/></pattern></defs>'
    ]
    for low, high, words, texture in BANDS:
        if low >= limit:
            continue
        x1, x2 = x_of(low), x_of(min(high, limit))
        parts.append(
            f'<rect class="area {texture}" x="{svg.n(x1)}" y="{svg.n(TOP)}" width="{svg.n(x2 - x1)}" height="{svg.n(foot - TOP)}"/>'
        )
        fitting = next((w for w in (words, words.split()[0]) if x2 - x1 > 7.2 * len(w)), "")
        if fitting:
            parts.append(svg.text(x1 + 4, TOP - 10, fitting, "axis"))
    for tick in svg.steps(0, limit, 6):
        x = x_of(tick)
        parts.append(svg.line(x, foot, x, foot + 4, "tickmark"))
        parts.append(svg.text(x, foot + 20, f"{tick:g}", "tick", "middle"))
        if len(rungs) > MANY:  # what is scrolled past has its scale at both ends
            parts.append(svg.text(x, TOP + 2, f"{tick:g}", "tick", "middle"))
    parts.append(svg.text(RIGHT, foot + 40, f"{unit}, with luminance", "axis", "end"))
    if any(rung.apart for rung in rungs):
        parts.append(svg.text(LEFT, foot + 40, "at the edge: beyond what the display gives", "axis"))
    for index, rung in enumerate(rungs):
        parts.append(_rung(rung, TOP + rung_height * (index + 0.5) + 3, x_of, limit))
    return svg.picture(WIDTH, height, title, *parts)


def _rung(rung: Rung, y: float, x_of, limit: float) -> str:  # type: ignore[no-untyped-def]
    parts = [svg.line(LEFT, y, RIGHT, y, "rung"), svg.text(LEFT - 12, y + 4.5, rung.label, "level", "end")]
    if rung.apart and max(rung.error or 0.0, rung.found or 0.0) > limit:
        parts.append(svg.path([(RIGHT + 10, y - 4), (RIGHT + 14, y), (RIGHT + 10, y + 4)], "beyond"))
    if rung.found is not None and not (rung.apart and rung.error is not None and min(rung.found, rung.error) > limit):
        bead = f'<circle class="bead found" cx="{svg.n(x_of(rung.found))}" cy="{svg.n(y)}" r="5.5" stroke="{rung.colour}"/>'
        parts.append(svg.mark(bead, f"{rung.label} as found: {rung.found:.1f}"))
    if rung.error is not None:
        x = x_of(rung.error)
        if rung.found is not None:
            parts.append(svg.line(x, y, x_of(rung.found), y, "thread"))
        whisker = svg.line(x_of(rung.low), y, x_of(rung.high), y, "whisker")
        bead = f'<circle class="bead" cx="{svg.n(x)}" cy="{svg.n(y)}" r="6.5" fill="{rung.colour}"/>'
        parts.append(
            svg.mark(whisker + bead, f"{rung.label}: {rung.error:.1f}, between {rung.low:.1f} and {rung.high:.1f}")
        )
        loud = "figure loud" if rung.error > 1.0 and not rung.apart else "figure"
        parts.append(svg.text(FIGURE_X, y + 4.5, f"{rung.error:.1f}", loud, "end"))
    elif rung.found is not None:
        parts.append(svg.text(FIGURE_X, y + 4.5, f"{rung.found:.1f}", "figure", "end"))
    return "".join(parts)
