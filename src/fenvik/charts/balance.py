"""Balance: levels from dark at the foot to bright at the top, each light left or right of a plumb line."""

from collections.abc import Sequence
from dataclasses import dataclass

from fenvik.charts import svg

WIDTH, HEIGHT = 708.0, 596.0
TOP, FOOT = 46.0, 556.0
LEFT, RIGHT = 60.0, 612.0  # room for a mark beside the levels that says: beyond the scale
ERROR_X = 704.0
CHANNELS = ("red", "green", "blue")
LEAST_SPAN, MOST_SPAN = 3.0, 40.0
SHADOWS = 9.0  # percent of signal


@dataclass(frozen=True)
class Level:
    """One row: deviations from 100 % for the three lights, their std, the error; found where known."""

    percent: float
    deviation: tuple[float, float, float] | None
    std: tuple[float, float, float] | None
    error: float | None
    found: tuple[float, float, float] | None
    tolerance: float  # half the width of the band, in percent
    found_std: tuple[float, float, float] | None = None
    counts: bool = True  # no where an HDR display ends already, or its own black shows: what is off there is not to be had


@dataclass(frozen=True)
class StepScale:
    """A second scale at the top: what one step of a control does, in percent of light at the brightest level."""

    label: str
    channel: int
    percent_per_step: float


def _span(levels: Sequence[Level]) -> float:
    # In the dark a meter's noise is a large share of next to nothing: those rows are held at the edge.
    apart = [level for level in levels if level.percent > SHADOWS] or levels
    reach = [abs(d) for level in apart for d in (*(level.deviation or ()), *(level.found or ()))]
    needed = max([*reach, *(1.2 * level.tolerance for level in levels if level.percent >= 20)], default=LEAST_SPAN)
    needed = min(max(needed * 1.08, LEAST_SPAN), MOST_SPAN)
    return float(next(s for s in (3, 4, 6, 8, 10, 12, 16, 20, 25, 30, 40, 50) if s >= needed))


def _row_y(index: int, count: int) -> float:
    return TOP + 24 + (FOOT - TOP - 40) * (index / max(count - 1, 1))


def _scale(span: float, x_of: float) -> list[str]:
    middle = 0.5 * (LEFT + RIGHT)
    parts = []
    for tick in svg.steps(-span, span, 6):
        x = middle + tick * x_of
        parts.append(svg.line(x, TOP + 6, x, FOOT, "grid"))
        parts.append(svg.text(x, FOOT + 18, svg.signed(tick, 0 if span >= 5 else 1), "tick", "middle"))
    parts.append(svg.text(LEFT, FOOT + 36, "too little, percent of that light", "axis"))
    parts.append(svg.text(RIGHT, FOOT + 36, "too much", "axis", "end"))
    return parts


def _step_scale(scale: StepScale, span: float, x_of: float) -> list[str]:
    middle = 0.5 * (LEFT + RIGHT)
    per_step = abs(scale.percent_per_step)
    named = f"tick {CHANNELS[scale.channel]}"
    parts = [svg.text(middle, TOP - 18, f"{scale.label}, steps", f"axis {CHANNELS[scale.channel]}", "middle")]
    ticks = [t for t in svg.steps(-span / per_step, span / per_step, 6) if t == round(t) and t != 0]
    for tick in ticks:
        x = middle + tick * per_step * x_of
        parts.append(svg.text(x, TOP, svg.signed(tick, 0), named, "middle"))
    return parts


def draw(
    levels: Sequence[Level], *, title: str, current: float | None = None, steps: StepScale | None = None, whole: bool = False
) -> str:
    """Return the chart; levels in any order, ``current`` the level that is worked on, in percent.

    ``whole``: the levels' errors have luminance in them.
    """
    ordered = sorted(levels, key=lambda level: -level.percent)
    span = _span(ordered)
    middle, x_of = 0.5 * (LEFT + RIGHT), 0.5 * (RIGHT - LEFT) / span
    parts: list[str] = []
    band = [(middle - min(lv.tolerance, span) * x_of, _row_y(i, len(ordered))) for i, lv in enumerate(ordered)]
    other = [(middle + min(lv.tolerance, span) * x_of, _row_y(i, len(ordered))) for i, lv in enumerate(ordered)]
    if band:
        band = [(band[0][0], TOP + 6), *band, (band[-1][0], FOOT)]
        other = [(other[0][0], TOP + 6), *other, (other[-1][0], FOOT)]
        parts.append(svg.path([*band, *reversed(other)], "band", closed=True))
    parts += _scale(span, x_of)
    head = TOP
    if steps is not None and abs(steps.percent_per_step) > 1e-6:
        parts += _step_scale(steps, span, x_of)
        head = TOP - 18  # beside the scale's name: its steps may reach as far as the columns do
    parts.append(svg.text(42, head, "signal, %", "axis", "end"))
    parts.append(svg.text(ERROR_X, head, "error, with luminance" if whole else "error, colour alone", "axis", "end"))
    parts.append(svg.line(middle, TOP + 6, middle, FOOT, "plumb"))
    parts.append(svg.path([(middle - 5, FOOT), (middle + 5, FOOT), (middle, FOOT + 7)], "bob", closed=True))
    for index, level in enumerate(ordered):
        parts.append(_row(level, _row_y(index, len(ordered)), middle, x_of, span, current))
    return svg.picture(WIDTH, HEIGHT, title, *parts)


def _row(level: Level, y: float, middle: float, x_of: float, span: float, current: float | None) -> str:
    here = current is not None and abs(level.percent - current) < 0.25
    parts = []
    if here:
        parts.append(f'<rect class="here" x="0" y="{svg.n(y - 18)}" width="{svg.n(WIDTH)}" height="36"/>')
        parts.append(svg.path([(2, y - 6), (9, y), (2, y + 6)], "pointer", closed=True))
    parts.append(svg.text(42, y + 4.5, f"{level.percent:g}", "level here-text" if here else "level", "end"))

    def place(deviation: float) -> float:
        return middle + max(-span, min(span, deviation)) * x_of

    if level.found is not None:
        xs = [place(d) for d in level.found]
        parts.append(svg.line(min(xs), y, max(xs), y, "thread found"))
        parts += [
            svg.mark(
                svg.shape(c, xs[c], y, 5.0, "found"),
                f"{level.percent:g} %, {name} as found: {svg.signed(level.found[c])} %",
            )
            for c, name in enumerate(CHANNELS)
        ]
    if level.deviation is not None:
        xs = [place(d) for d in level.deviation]
        parts.append(svg.line(min(*xs, middle), y, max(*xs, middle), y, "thread"))
        for c, name in enumerate(CHANNELS):
            whisker = ""
            if level.std is not None and 1.96 * level.std[c] * x_of > 5.5:
                reach = 1.96 * level.std[c]
                dy = (-3.0, 0.0, 3.0)[c]
                whisker = svg.line(
                    place(level.deviation[c] - reach),
                    y + dy,
                    place(level.deviation[c] + reach),
                    y + dy,
                    f"whisker {name}",
                )
            title = f"{level.percent:g} %, {name}: {svg.signed(level.deviation[c])} %"
            if level.std is not None:
                title += f" ± {1.96 * level.std[c]:.1f}"
            parts.append(svg.mark(whisker + svg.shape(c, xs[c], y, 5.6, "left"), title))
    shown = level.deviation or level.found or ()
    for side in {1 if d > 0 else -1 for d in shown if abs(d) > span}:
        x = place(side * span)
        parts.append(svg.path([(x + side * 7, y - 4), (x + side * 10, y), (x + side * 7, y + 4)], "beyond"))
    if level.error is not None:
        width = min(level.error, 8.0) * 7.0
        if level.counts:
            parts.append(svg.line(ERROR_X - 40 - width, y, ERROR_X - 40, y, "tally"))
        loud = "figure loud" if level.error > 1.0 and level.counts else "figure"
        parts.append(svg.text(ERROR_X, y + 4.5, f"{level.error:.1f}", loud, "end"))
    return "".join(parts)
