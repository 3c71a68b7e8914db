"""Patterns of colour: bars, chroma positions and upsampling, conversion of colour spaces."""

from typing import Any

import numpy as np

from fenvik.core.colour.space import Primaries
from fenvik.core.signal.patterns.board import GAMMA, SPACES, Board, encoded
from fenvik.core.signal.patterns.options import MIX, Option, PatternError, three_primaries
from fenvik.core.signal.patterns.pattern import Chosen, Pattern, Wrong
from fenvik.core.types import Floats

SPACE_WORDS = (("bt709", "BT.709"), ("p3d65", "P3-D65"), ("bt2020", "BT.2020"))
ORDER = ("grey", "yellow", "cyan", "green", "magenta", "red", "blue")


def colour_bars(board: Board, chosen: Chosen) -> None:
    """Seven bars of one level; under each a field of the same blue, for setting colour and tint through blue alone."""
    level = float(chosen["level"])
    for i, name in enumerate(ORDER):
        mix = np.array(MIX[name])
        box = (i / 7, 0.0, (i + 1) / 7, 0.72)
        board.fill(box, level * mix)
        if mix[2]:  # seen in blue alone, a grey or blue field in a bar with blue vanishes
            partner = "blue" if name == "grey" else "grey"
            board.fill(((i + 0.3) / 7, 0.22, (i + 0.7) / 7, 0.46), level * np.array(MIX[partner]))
    for i in range(7):
        board.fill((i / 7, 0.76, (i + 1) / 7, 1.0), level * i / 6)


def chroma_positions(board: Board, _: Chosen) -> None:
    """Edges of colour beside edges of light, one pixel apart from field to field."""
    board.fill_all(30.0)
    pairs = (("red", "cyan"), ("blue", "yellow"), ("green", "magenta"))
    for row, (one, other) in enumerate(pairs):
        top = 0.06 + row * 0.31
        for i in range(8):
            box = (0.05 + i * 0.115, top, 0.05 + i * 0.115 + 0.1, top + 0.26)
            board.fill(box, 60.0 * np.array(MIX[other]))
            left, upper, right, lower = board.pixels(box)
            middle = (left + right) // 2
            start = middle - middle % 2 + i % 2  # even and odd places in turn: subsampled colour moves only in one
            board.codes[upper:lower, start : start + 2] = board.signal.code(60.0 * np.array(MIX[one]))
            board.line("column", start + 10, 0.0, start=upper, end=lower)
            board.line("column", start - 10, 0.0, start=upper, end=lower)


def chroma_upsampling(board: Board, chosen: Chosen) -> None:
    """Slanted edges of saturated colour: crude upsampling of colour makes stairs of them."""
    mix = np.array(MIX[chosen["colour"]])
    ground = np.array([18.0, 18.0, 18.0])

    def picture(x: Floats, y: Floats) -> Floats:
        slope = (x * 0.35 + y) % 48.0
        lines = (slope < 10) & (x < 0)
        fan = np.sin(np.arctan2(y, x - board.width * 0.05) * 40) > 0
        return np.where((lines | (fan & (x >= board.width * 0.05)))[..., None], 80.0 * mix, ground)

    board.shade(picture)


def inner_space(chosen: Chosen) -> Primaries:
    """Return the primaries that are asked for. Raises PatternError."""
    if chosen["inner"] == "custom":
        return three_primaries(chosen["primaries"])
    return SPACES[chosen["inner"]]


def colour_space(board: Board, chosen: Chosen) -> None:
    """Left of each pair the colour at the container's edge, right the same colour of a smaller space inside it."""
    inner, container = inner_space(chosen), SPACES[chosen["container"]]
    board.fill_all(20.0)
    level = float(chosen["level"]) / 100.0
    for i, name in enumerate(("red", "green", "blue", "cyan", "magenta", "yellow")):
        row, column = divmod(i, 3)
        left, top = 0.06 + column * 0.31, 0.08 + row * 0.45
        mix = np.array(MIX[name])
        board.fill((left, top, left + 0.13, top + 0.38), 100.0 * level * mix)
        board.fill((left + 0.13, top, left + 0.26, top + 0.38), encoded(inner, container, mix * level**GAMMA))


def _custom(id_: str, label: str, default: str) -> Option:
    return Option(id_, label, default, (*SPACE_WORDS, ("custom", "custom")))


def check_primaries(typed: Any) -> None:
    """Raise PatternError where custom primaries are none."""
    if typed.get("inner") == "custom":
        try:
            three_primaries(str(typed.get("primaries", "")))
        except PatternError as problem:
            raise PatternError(str(problem), "primaries") from None


PATTERNS = (
    Pattern(
        "colour-bars", "Colour bars", "colour",
        "Sets colour and tint together, through a blue filter or with red and green switched off in the display.",
        "With blue alone, the small fields should vanish in their bars: those in grey and blue by colour, those in cyan and magenta by tint.",
        "A blue filter does not fit the blue of every display: where the display can show blue alone, use that. Measure colour rather than trust it.",
        colour_bars, Wrong("saturation", -35.0, "Bars are pale: colour is too low."), Wrong("saturation", 45.0, "Bars glow and run over: colour is too high."),
        "Small fields vanish in blue alone.", roles=("saturation", "tint"),
        options=(Option("level", "Level", "75", (("75", "75 %"), ("100", "100 %"))),),
    ),
    Pattern(
        "chroma-positions", "Chroma positions", "colour",
        "Shows whether colour lies where its light lies, and how many pixels share one colour.",
        "The thin stripes should stand exactly midway between their two black lines, in every field alike.",
        "A browser’s picture has full colour at every pixel; what halves it is the driver, the link or the display, and this cannot tell which.",
        chroma_positions, Wrong("chroma-shift", -4.0, "Stripes lean to the left of their place."), Wrong("chroma-shift", 4.0, "Stripes lean to the right."),
        "Stripes stand midway.", lens=(0.05, 0.06, 0.27, 0.28), ends=("to the left", "to the right"),
    ),
    Pattern(
        "chroma-upsampling", "Chroma upsampling", "colour",
        "Slanted edges of saturated colour show how colour of half resolution is brought back to full.",
        "Edges should be slanted lines; stairs two pixels high mean that colour is only doubled, blur that it is smoothed.",
        "It cannot show 4:2:0 where the source sends every pixel its own colour and nothing on the way halves it.",
        chroma_upsampling, Wrong("chroma-blocks", 4.0, "Edges are stairs."), Wrong("chroma-soften", 3.0, "Edges bleed into their ground."),
        "Clean slanted edges.", lens=(0.1, 0.25, 0.4, 0.55), ends=("stairs", "bleeding"),
        options=(Option("colour", "Colour", "red", (("red", "red"), ("blue", "blue"), ("magenta", "magenta"))),),
    ),
    Pattern(
        "colour-space", "Colour-space conversion", "colour",
        "Shows whether the display tells a smaller colour space from the container that it comes in.",
        "Each pair should show two colours: left the container’s own, right the smaller space’s. Where both look the same, the display clips to the smaller one.",
        "It shows differences, not correctness: a pass with a meter does that. The container must be what the display is told: see the signal.",
        colour_space, Wrong("saturation", -40.0, "Both halves are pale: the display does not open its colours."),
        Wrong("saturation", 80.0, "Both halves are the same: the display clips, or stretches the smaller space."),
        "Two colours in every pair.", roles=("gamut",), ends=("not opened", "clipped"),
        own_colours=True, options=(
            _custom("inner", "Space inside", "bt709"), Option("container", "Container", "bt2020", SPACE_WORDS),
            Option("primaries", "Custom primaries, x y of red, green, blue", "0.680 0.320 0.265 0.690 0.150 0.060", text=True),
            Option("level", "Level", "75", low=20, high=100, unit=" %"),
        ),
    ),
)  # fmt: skip
