"""Patches and the lists of them that a pass runs through."""

from dataclasses import asdict, dataclass

import numpy as np

from fenvik.core.signal.decoding import Range, decode, encode
from fenvik.core.types import Floats

COLOURS = {
    "red": (1, 0, 0),
    "green": (0, 1, 0),
    "blue": (0, 0, 1),
    "cyan": (0, 1, 1),
    "magenta": (1, 0, 1),
    "yellow": (1, 1, 0),
}
Percent = tuple[float, float, float]

# Colours of our own that people know without a measure, in percent of signal; none of them is a sample of anybody's chart.
KNOWN: dict[str, Percent] = {
    "pale skin": (88.0, 74.0, 66.0),
    "tanned skin": (72.0, 54.0, 44.0),
    "brown skin": (48.0, 33.0, 26.0),
    "dark skin": (30.0, 20.0, 17.0),
    "clear sky": (47.0, 63.0, 80.0),
    "evening sky": (76.0, 55.0, 52.0),
    "spring leaf": (50.0, 66.0, 28.0),
    "fir wood": (21.0, 33.0, 24.0),
    "lake water": (19.0, 38.0, 44.0),
    "ripe tomato": (76.0, 20.0, 16.0),
    "lemon peel": (90.0, 80.0, 22.0),
    "wet slate": (36.0, 39.0, 43.0),
}


@dataclass(frozen=True)
class Patch:
    """One colour to show: three code values, what it is called, and the percentages that were asked for."""

    label: str
    rgb: tuple[int, int, int]
    percent: tuple[float, float, float]

    @property
    def is_grey(self) -> bool:
        """Whether the three codes are equal."""
        return self.rgb[0] == self.rgb[1] == self.rgb[2]

    def fraction(self, bits: int, range_: Range) -> Floats:
        """Return what its codes decode to, shape (3,)."""
        return decode(self.rgb, bits, range_)

    def as_json(self) -> dict[str, object]:
        """Return what is stored of it."""
        return asdict(self)


def patch(label: str, percent: tuple[float, float, float], bits: int, range_: Range) -> Patch:
    """Make a patch of percentages of signal."""
    red, green, blue = (int(code) for code in encode(percent, bits, range_))
    return Patch(label, (red, green, blue), percent)


def grey(level: float, bits: int, range_: Range) -> Patch:
    """Make a grey of a percentage of signal, labelled by it."""
    return patch(f"{level:g} %", (level, level, level), bits, range_)


def greyscale(steps: int, bits: int, range_: Range) -> list[Patch]:
    """Return an evenly spaced greyscale, brightest first: dark patches come after the display has its heat."""
    return [grey(round(float(level), 3), bits, range_) for level in np.linspace(100.0, 0.0, steps)]


def full_colours(level: float, bits: int, range_: Range) -> list[Patch]:
    """Return red, green, blue, cyan, magenta and yellow at a percentage of signal."""
    named = []
    for name, (red, green, blue) in COLOURS.items():
        label = name if level == 100 else f"{name} {level:g} %"
        named.append(patch(label, (red * level, green * level, blue * level), bits, range_))
    return named


def first_list(bits: int, range_: Range) -> list[Patch]:
    """Return the list of a first look: eleven greys, then the six full colours."""
    return greyscale(11, bits, range_) + full_colours(100, bits, range_)
