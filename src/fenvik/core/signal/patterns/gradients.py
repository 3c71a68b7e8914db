"""Ramps and gradients: banding, crushed shades and tints that come and go with the level."""

from dataclasses import replace

import numpy as np

from fenvik.core.signal.patterns.board import Board
from fenvik.core.signal.patterns.options import LIGHT, MIX, Option, colour_of
from fenvik.core.signal.patterns.pattern import Chosen, Pattern, Wrong
from fenvik.core.types import Floats

EXTENT = Option(
    "extent", "Extent", "full",
    (("full", "full, 0 to 100 %"), ("dark", "dark, 0 to 15 %"), ("middle", "shallow, 40 to 50 %"), ("light", "light, 85 to 100 %")),
)  # fmt: skip
ENDS = {"full": (0.0, 100.0), "dark": (0.0, 15.0), "middle": (40.0, 50.0), "light": (85.0, 100.0)}


def _between(part: Floats, extent: str) -> Floats:
    low, high = ENDS[extent]
    return np.asarray(low + (high - low) * part)


def ramp_grey(board: Board, chosen: Chosen) -> None:
    """A ramp across, and the same one the other way round below it."""
    for box, turned in (((0, 0, 1, 0.5), False), ((0, 0.5, 1, 1), True)):
        part = board.across((box[0], box[1], box[2], box[3]))
        board.paint((box[0], box[1], box[2], box[3]), _between(1 - part if turned else part, chosen["extent"]))


def ramp_colour(board: Board, chosen: Chosen) -> None:
    """One ramp for each of the six colours."""
    names = ("red", "yellow", "green", "cyan", "blue", "magenta")
    for i, name in enumerate(names):
        box = (0.0, i / 6, 1.0, (i + 1) / 6)
        board.paint(box, _between(board.across(box), chosen["extent"])[..., None] * np.array(MIX[name]))


def gradient_2d(board: Board, chosen: Chosen) -> None:
    """Level across and saturation down, in one colour."""
    box = (0.0, 0.0, 1.0, 1.0)
    level, down = _between(board.across(box), chosen["extent"]), board.down(box)[:, 0]
    mix = np.array(MIX[chosen["colour"]])

    def picture(_: Floats, y: Floats) -> Floats:
        top = round(float(y[0, 0]) + (board.height - 1) / 2)
        saturation = down[top : top + y.size, None]
        if chosen["colour"] == "grey":  # level both ways: the finest shades that there are, along the diagonals
            return np.asarray(0.5 * level + 0.5 * _between(saturation, chosen["extent"]))
        return np.asarray(level[..., None] * (1 - saturation[..., None] * (1 - mix)))

    board.shade(picture)


def gradient_any(board: Board, chosen: Chosen) -> None:
    """From one colour to another, across, down, or to the opposite corner."""
    one, other = np.array(colour_of(chosen["from"], "from")), np.array(colour_of(chosen["to"], "to"))
    width, height = max(board.width - 1, 1), max(board.height - 1, 1)

    def picture(x: Floats, y: Floats) -> Floats:
        across, down = x / width + 0.5, y / height + 0.5
        along = {"across": across + 0 * down, "down": down + 0 * across}.get(chosen["along"], (across + down) / 2)
        return np.asarray(one + (other - one) * along[..., None])

    board.shade(picture)


def circles(board: Board, chosen: Chosen) -> None:
    """Gradients on circles and ellipses: steps of quantisation show as rings with hard borders."""
    low, high = 4.0, chosen["level"]
    mix = np.array(MIX[chosen["colour"]])
    unit = min(board.height, board.width * 9 / 16)  # whole on any screen: an edge that cuts a ring looks like a step

    def picture(x: Floats, y: Floats) -> Floats:
        level = np.full((y.size, x.size), low)
        for place, wide in ((-0.54, 1.0), (0.0, 0.55), (0.54, 1.0)):
            far = np.hypot((x - place * unit) / (unit * 0.31 * wide), y / (unit * 0.42))
            level = np.where(far < 1, high - (high - low) * far, level)
        return np.asarray(level[..., None] * mix)

    board.shade(picture)


PATTERNS = (
    Pattern(
        "ramp-grey", "Grey ramps", "gradients",
        "Shows banding, crushed shades, and tints that come and go with the level.",
        "Each ramp should run without steps that are wider than the others and without tints. A shallow ramp makes each code wide enough to be seen.",
        "With 8 bits a shallow ramp shows the codes themselves as even steps: only uneven ones are the display’s.",
        ramp_grey, Wrong("bits", 4.2, "Broad bands: shades are missing."),
        Wrong("tint-wave", 3.0, "Bands of pink and green: the channels’ curves do not agree."), "An even run of grey.",
        options=(EXTENT,), ends=("banded", "tinted"),
    ),
    Pattern(
        "ramp-colour", "Colour ramps", "gradients",
        "Shows where a colour clips, turns its hue or steps on its way from black to full.",
        "Each row should run evenly to its end and keep its hue.",
        "A hue that turns by less than a few degrees is not seen here; a pass over luminances shows it.",
        ramp_colour, Wrong("bits", 4.5, "Rows are banded."), Wrong("white", 12.0, "Rows stop short of their end: the colours clip."),
        "Every row runs to its end.", options=(EXTENT,), roles=("saturation", "gamut"), ends=("banded", "clipped"),
    ),
    Pattern(
        "gradient-2d", "Gradient of two directions", "gradients",
        "Level across and saturation down: processing that works on one of them shows as a border in the middle of nothing.",
        "There should be no line, no patch and no band anywhere.",
        "Codes of 8 bits make a fine pattern of steps of their own.",
        gradient_2d, Wrong("bits", 4.0, "Patches with hard borders."), Wrong("saturation", 60.0, "The lower half is one flat colour: saturation clips."),
        "Smooth both ways.", options=(replace(LIGHT, default="red"), EXTENT), roles=("saturation",), ends=("banded", "clipped"),
    ),
    Pattern(
        "gradient-any", "Gradient of your own", "gradients",
        "From any colour to any other, as short or as long as is wanted: where a fault was seen in a picture, it is looked for here.",
        "It should run evenly. A short range across the whole screen makes each code wide enough to be seen by itself.",
        "Steps that are even are the signal’s own codes.",
        gradient_any, Wrong("bits", 4.2, "Broad bands: shades are missing."),
        Wrong("tint-wave", 3.0, "Bands of pink and green: the channels’ curves do not agree."), "An even run.", ends=("banded", "tinted"),
        options=(
            Option("from", "From, in % or % of red, green, blue", "10", text=True), Option("to", "to", "40", text=True),
            Option("along", "Runs", "across", (("across", "across"), ("down", "down"), ("corner", "to the opposite corner"))),
        ),
    ),
    Pattern(
        "circles", "Gradients on circles", "gradients",
        "Gradients on circles and ellipses: the eye finds steps of quantisation along a curve sooner than along a line.",
        "Circles should fade without rings. Rings that are evenly spaced are the 8 bits of the signal; uneven or coloured ones are the display’s.",
        "It cannot show more than 8 bits where the source sends 8.",
        circles, Wrong("bits", 4.5, "Rings with hard borders."), Wrong("tint-wave", 4.0, "Coloured rings."),
        "An even fade.", options=(LIGHT, Option("level", "Brightest", "60", low=10, high=100, unit=" %")),
        ends=("banded", "tinted"),
    ),
)  # fmt: skip
