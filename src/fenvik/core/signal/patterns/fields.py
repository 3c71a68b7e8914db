"""Whole fields, one free patch, and a bar that moves."""

import numpy as np

from fenvik.core.signal.patterns.board import Board, Signal
from fenvik.core.signal.patterns.options import LIGHT, MIX, Option
from fenvik.core.signal.patterns.pattern import Chosen, Moving, Pattern, Wrong

PERCENT = {"low": 0.0, "high": 109.0, "unit": " %"}
CADENCES = (("23.976", "23.976"), ("24", "24"), ("25", "25"), ("30", "30"), ("50", "50"), ("60", "60"))
BAR = 0.03
LINES = (8, 6, 5, 4, 3, 2, 1)  # pixels wide


def uniformity(board: Board, chosen: Chosen) -> None:
    """One even field."""
    board.fill_all(chosen["level"] * np.array(MIX[chosen["colour"]]))


def free_patch(board: Board, chosen: Chosen) -> None:
    """A window anywhere, of the screen's own shape, in any colour; moved in where it would run over the edge."""
    board.fill_all(chosen["surround"])
    side = np.sqrt(chosen["size"] / 100.0)
    x, y = (min(max(chosen[axis] / 100.0, side / 2), 1 - side / 2) for axis in ("x", "y"))
    box = (x - side / 2, y - side / 2, x + side / 2, y + side / 2)
    board.fill(box, (chosen["red"], chosen["green"], chosen["blue"]))


def cadence(board: Board, _: Chosen) -> None:
    """The track of a moving bar, with a mark at each sixteenth."""
    board.fill_all(12.0)
    board.fill((0.0, 0.3, 1.0, 0.7), 4.0)
    for i in range(17):
        left = min(i / 16, 1 - 2 / board.width)
        board.fill((left, 0.26, left + 2 / board.width, 0.29), 40.0)
        board.fill((left, 0.71, left + 2 / board.width, 0.74), 40.0)


def bleed(board: Board, chosen: Chosen) -> None:
    """One dark field."""
    board.fill_all(chosen["level"])


def sharp_motion(board: Board, chosen: Chosen) -> None:
    """The ground that rows of lines move over, with the width of each row's lines standing still at the left."""
    board.fill_all(chosen["ground"])
    for i, wide in enumerate(LINES):
        top, bottom = 0.1 + 0.8 * i / len(LINES), 0.1 + 0.8 * (i + 0.6) / len(LINES)
        upper, lower = board.pixels((0, top, 0, bottom))[1::2]
        for line in range(4):
            board.line("column", board.pixels((0.02, 0, 0, 0))[0] + 2 * wide * line, 80.0, thick=wide, start=upper, end=lower)


def moving_lines(signal: Signal, chosen: Chosen) -> Moving:
    """Return the rows of lines that cross the ground."""
    red, green, blue = (int(code) for code in signal.code((80.0, 80.0, 80.0)))
    return Moving(100.0 / chosen["speed"], float(chosen["rate"]), (0.0, 0.1, 0.12, 0.9), (red, green, blue), LINES)


def moving_bar(signal: Signal, chosen: Chosen) -> Moving:
    """Return the bar that crosses the track."""
    red, green, blue = (int(code) for code in signal.code((80.0, 80.0, 80.0)))
    return Moving(100.0 / chosen["speed"], float(chosen["rate"]), (0.0, 0.32, BAR, 0.68), (red, green, blue))


PATTERNS = (
    Pattern(
        "uniformity", "Uniformity fields", "light",
        "One even field, for dirt, bands, corners that darken and tints that differ from side to side.",
        "Look from the seats, moving the eyes over the field. 5 to 10 % shows bands and glow, 50 % tints, 100 % the fall of light into the corners.",
        "The eye does not see a fall of light of 20 % that is even. The uniformity pass of a meter does.",
        uniformity, Wrong("vignette", -35.0, "Corners are darker than the middle."), Wrong("glow", 35.0, "Corners are lighter than the middle."),
        "One even field.", ends=("corners dark", "corners light"), roles=("process.uniformity",),
        options=(Option("level", "Level", "50", **PERCENT), LIGHT),  # type: ignore[arg-type]
    ),
    Pattern(
        "cadence", "Motion cadence", "motion",
        "A bar that moves at the rate of film or of video: judder, smoothing and doubled edges show.",
        "With film’s rate the bar should go in even small jumps. Gliding without jumps means that the display makes up pictures in between; uneven jumps that its refresh does not fit the rate.",
        "A browser draws at the refresh of its own screen: where that is no multiple of the rate, uneven jumps are the driver’s.",
        cadence, Wrong("none", 0.0, "Uneven jumps: the refresh does not fit the rate."), Wrong("smear", 4.0, "The bar glides and drags a border behind it: motion smoothing."),
        "Even small jumps with clean edges.", roles=("process.motion",), moving=moving_bar, ends=("judder", "smoothed"),
        options=(
            Option("rate", "Pictures a second", "24", CADENCES),
            Option("speed", "Speed", "25", low=2, high=100, unit=" % of the width a second"),
        ),
    ),
    Pattern(
        "motion-lines", "Sharpness in motion", "motion",
        "Rows of lines that move, each row finer than the one above: how much a display smears what moves.",
        "Follow the lines with the eye and count the rows, from the top, whose lines stay apart. Seven is as sharp as standing still; the left edge shows the same lines at rest.",
        "It is drawn at the rate that is chosen: at 24 and 25 every display smears what the eye follows. Compare displays at one rate and speed.",
        sharp_motion, Wrong("smear", 6.0, "Only the uppermost rows stay apart."), Wrong("double", 1.6, "Lines are doubled: pictures are shown more than once."),
        "All rows stay apart.", roles=("process.motion",), moving=moving_lines, ends=("smeared", "doubled"),
        options=(
            Option("rate", "Pictures a second", "60", CADENCES), Option("speed", "Speed", "20", low=2, high=100, unit=" % of the width a second"),
            Option("ground", "Ground", "10", low=0, high=60, unit=" %"),
        ),
    ),
    Pattern(
        "bleed", "Dark field", "light",
        "One dark field in a dark room: light that leaks in at edges and corners, clouds, pixels that stay lit.",
        "Wait two minutes, look from the seats and then from aside, and note where it is lighter. A list of the meter, uniformity at this level, says by how much.",
        "What is seen from aside is the angle’s doing as well as the panel’s.",
        bleed, Wrong("vignette", -35.0, "–"), Wrong("glow", 60.0, "Corners and edges are lighter: light leaks in."),
        "One even dark field.", roles=("process.uniformity", "black-level"), ends=("corners dark", "light leaks in"), lift=0.4,
        options=(Option("level", "Level", "2", low=0, high=15, unit=" %"),),
    ),
    Pattern(
        "patch", "Free patch", "free",
        "One patch of any size, place, colour and surround, for looking or for a reading by hand.",
        "Whether light, colour and size are as they were asked for.",
        "Codes are rounded to those that the signal has: 8 bits know 220 greys in the limited range.",
        free_patch, Wrong("white", -30.0, "–"), Wrong("white", 15.0, "–"), "As asked for.", ends=("darker", "lighter"),
        roles=("light",),
        options=(
            Option("size", "Size", "10", low=0.1, high=100, unit=" % of the screen"),
            Option("x", "From the left", "50", low=0, high=100, unit=" %"), Option("y", "From the top", "50", low=0, high=100, unit=" %"),
            Option("red", "Red", "100", low=-7, high=109, unit=" %"), Option("green", "Green", "100", low=-7, high=109, unit=" %"),
            Option("blue", "Blue", "100", low=-7, high=109, unit=" %"), Option("surround", "Surround", "0", **PERCENT),  # type: ignore[arg-type]
        ),
    ),
)  # fmt: skip
