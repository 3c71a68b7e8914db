"""The few parts that every chart is made of. Numbers are made into text here, so no locale writes a comma."""

import math
from collections.abc import Iterable
from html import escape

MINUS = "−"
TALL = 1.3  # times its width


def n(value: float) -> str:
    """Return a coordinate: two decimals at most, no trailing zeros."""
    text = f"{value:.2f}".rstrip("0").rstrip(".")
    return "0" if text in ("-0", "") else text


def attributes(values: dict[str, object]) -> str:
    """Return attributes; ``class_`` is written as class and underscores as dashes."""
    parts = []
    for name, value in values.items():
        if value is None:
            continue
        text = n(value) if isinstance(value, float) else escape(str(value))
        parts.append(f' {name.rstrip("_").replace("_", "-")}="{text}"')
    return "".join(parts)


def element(tag: str, inner: str = "", **values: object) -> str:
    """Return an element; ``inner`` is safe SVG."""
    return f"<{tag}{attributes(values)}>{inner}</{tag}>" if inner else f"<{tag}{attributes(values)}/>"


def line(x1: float, y1: float, x2: float, y2: float, class_: str) -> str:
    """Return a straight line."""
    return f'<path class="{class_}" d="M{n(x1)} {n(y1)}L{n(x2)} {n(y2)}"/>'


def path(points: Iterable[tuple[float, float]], class_: str, *, closed: bool = False, **values: object) -> str:
    """Return a polyline."""
    drawn = "L".join(f"{n(x)} {n(y)}" for x, y in points)
    return f'<path class="{class_}" d="M{drawn}{"Z" if closed else ""}"{attributes(values)}/>'


def text(x: float, y: float, words: str, class_: str = "", anchor: str = "start") -> str:
    """Return a text; ``anchor`` is start, middle or end."""
    return f'<text class="{class_}" x="{n(x)}" y="{n(y)}" text-anchor="{anchor}">{escape(words)}</text>'


def mark(inner: str, title: str) -> str:
    """Return a mark that can be focused and says what it is."""
    return f'<g class="mark" tabindex="0" role="img" aria-label="{escape(title)}"><title>{escape(title)}</title>{inner}</g>'


def shape(channel: int, x: float, y: float, size: float, class_: str) -> str:
    """Return a channel's sign: red a triangle, green a disc, blue a square."""
    named = f"{class_} {('red', 'green', 'blue')[channel]}"
    if channel == 0:
        points = [(x, y - size * 1.1), (x + size * 1.05, y + size * 0.8), (x - size * 1.05, y + size * 0.8)]
        return path(points, named, closed=True)
    if channel == 1:
        return f'<circle class="{named}" cx="{n(x)}" cy="{n(y)}" r="{n(size * 0.92)}"/>'
    half = size * 0.86
    return f'<rect class="{named}" x="{n(x - half)}" y="{n(y - half)}" width="{n(2 * half)}" height="{n(2 * half)}"/>'


def signed(value: float, places: int = 1) -> str:
    """Return a number with its sign and a true minus."""
    shown = f"{abs(value):.{places}f}"
    if float(shown) == 0:
        return shown
    return ("+" if value > 0 else MINUS) + shown


def steps(low: float, high: float, about: int) -> list[float]:
    """Return round numbers from low to high, about so many."""
    span = max(high - low, 1e-9)
    rough = span / max(about, 1)
    power = 10.0 ** math.floor(math.log10(rough))
    width = next(power * m for m in (1, 2, 2.5, 5, 10) if power * m >= rough * 0.999)
    first = math.ceil(low / width - 1e-9)
    last = math.floor(high / width + 1e-9)
    return [round(i * width, 10) for i in range(first, last + 1)]


def picture(width: float, height: float, title: str, *parts: str) -> str:
    """Return the whole picture; one that is much taller than wide is scrolled past and not made small."""
    class_ = "chart tall" if height > TALL * width else "chart"
    return (
        f'<svg class="{class_}" viewBox="0 0 {n(width)} {n(height)}" role="group" aria-label="{escape(title)}" '
        f'xmlns="http://www.w3.org/2000/svg">{"".join(parts)}</svg>'
    )
