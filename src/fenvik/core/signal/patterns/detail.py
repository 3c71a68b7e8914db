"""Patterns of detail and geometry: sharpness, overscan, single pixels, aim, convergence, focus, zone plate."""

import numpy as np

from fenvik.core.signal.patterns.board import Board
from fenvik.core.signal.patterns.options import MIX, Option
from fenvik.core.signal.patterns.pattern import Chosen, Pattern, Wrong
from fenvik.core.types import Floats


def sharpness(board: Board, chosen: Chosen) -> None:
    """Thin dark lines, blocks and rings on a middle grey: added edges show as pale borders."""
    board.fill_all(chosen["ground"])
    dark = 8.0
    for i, thick in enumerate((1, 2, 4, 8)):
        at = int(board.width * (0.10 + 0.08 * i))
        board.line("column", at, dark, thick=thick, start=int(board.height * 0.1), end=int(board.height * 0.9))
        at = int(board.height * (0.16 + 0.12 * i))
        board.line("row", at, dark, thick=thick, start=int(board.width * 0.45), end=int(board.width * 0.66))
    board.fill((0.45, 0.62, 0.54, 0.86), dark)
    board.fill((0.57, 0.62, 0.66, 0.86), 95.0)
    for radius in (0.08, 0.14, 0.20, 0.26):
        board.disc((0.84, 0.5), radius, dark, ring=2 / board.height)
    board.disc((0.84, 0.5), 0.03, 95.0)


def overscan(board: Board, _chosen: Chosen) -> None:
    """Frames at the very edge and 1, 2, 3 and 5 % inside it, and a circle that should be round."""
    board.fill_all(10.0)
    for inset, percent in ((0.05, (30, 30, 30)), (0.03, (25, 45, 60)), (0.02, (30, 50, 25)), (0.01, (60, 45, 20))):
        board.frame(inset, percent, thick=2)
    board.frame(0.0, 75.0, thick=1)
    board.disc((0.5, 0.5), 0.42, 35.0, ring=2 / board.height)
    for i, mark in enumerate((0.01, 0.02, 0.03, 0.05)):
        # As many ticks as the frame's number, so that the frames can be told apart without colour.
        for tick in range(i + 1):
            left, top, _, _ = board.pixels((mark, 0.4, 1, 1))
            board.codes[top + tick * 8 : top + tick * 8 + 4, left : left + 10] = board.signal.code(60.0)


def one_to_one(board: Board, _: Chosen) -> None:
    """Columns, rows and a checkerboard of single pixels beside the grey that they should look like from afar."""
    board.fill_all(20.0)
    low, high = board.signal.code(0.0), board.signal.code(100.0)
    rows, columns = np.indices((board.height, board.width))
    for i, mask in enumerate((columns % 2, rows % 2, (rows + columns) % 2)):
        left, top, right, bottom = board.pixels((0.06 + i * 0.31, 0.15, 0.06 + i * 0.31 + 0.26, 0.85))
        part = mask[top:bottom, left:right, None].astype(bool)
        board.codes[top:bottom, left:right] = np.where(part, high, low)
    board.frame(0.0, 100.0, thick=1)


def alignment(board: Board, chosen: Chosen) -> None:
    """Where the meter looks: a lit disc with cross hairs and rings."""
    at = (chosen["x"] / 100.0, chosen["y"] / 100.0)
    for radius in (0.42, 0.30, 0.18):
        board.disc(at, radius, 14.0, ring=2 / board.height)
    column, row = int(at[0] * (board.width - 1)), int(at[1] * (board.height - 1))
    board.line("column", column, 14.0, thick=2)
    board.line("row", row, 14.0, thick=2)
    board.disc(at, chosen["size"] / 200.0, chosen["level"])
    board.disc(at, 0.012, 0.0)


def convergence(board: Board, chosen: Chosen) -> None:
    """A grid of single-pixel lines in the colours that are to be compared."""
    across = int(chosen["across"])
    down = max(round(across * 9 / 16), 2)
    pairs = {
        "all": ("grey",),
        "red-green": ("red", "green"),
        "blue-green": ("blue", "green"),
        "red-blue": ("red", "blue"),
    }
    colours = pairs[chosen["lights"]]
    for i in range(across + 1):
        at = min(round(i * (board.width - 1) / across), board.width - 1)
        board.line("column", at, 100.0 * np.array(MIX[colours[i % len(colours)]]))
    for i in range(down + 1):
        at = min(round(i * (board.height - 1) / down), board.height - 1)
        board.line("row", at, 100.0 * np.array(MIX[colours[i % len(colours)]]))
    if len(colours) > 1:  # both lights on the same pixels: what is not white or mixed is out of place
        mix = np.clip(np.array(MIX[colours[0]]) + np.array(MIX[colours[1]]), 0, 1)
        board.line("row", board.height // 2, 100.0 * mix)
        board.line("column", board.width // 2, 100.0 * mix)


def focus(board: Board, _: Chosen) -> None:
    """Stars of fine spokes and groups of single-pixel lines in the middle and in the corners."""
    low, high = board.signal.code(0.0), board.signal.code(90.0)
    for x, y in ((0.5, 0.5), (0.12, 0.18), (0.88, 0.18), (0.12, 0.82), (0.88, 0.82)):
        radius = board.height * (0.16 if (x, y) == (0.5, 0.5) else 0.13)
        columns = np.arange(board.width)[None, :] - x * (board.width - 1)
        rows = np.arange(board.height)[:, None] - y * (board.height - 1)
        inside = np.hypot(columns, rows) <= radius
        spokes = np.sin(np.arctan2(rows, columns) * 36) > 0
        board.codes[inside & spokes] = high
        left, top = int(x * board.width - radius), int(y * board.height + radius + 4)
        for i in range(12):
            thick = 1 + i // 6
            start = left + i * 4
            board.codes[top : top + 12, max(start, 0) : max(start + thick, 0)] = high
    board.codes[board.height // 2 - 2 : board.height // 2 + 2, board.width // 2 - 2 : board.width // 2 + 2] = low


def zone_plate(board: Board, chosen: Chosen) -> None:
    """A wave that grows finer away from the middle, up to single pixels at the edges."""
    longest = (board.width if chosen["direction"] != "down" else board.height) / 2

    def picture(x: Floats, y: Floats) -> Floats:
        reach = {"both": x**2 + y**2, "across": x**2 + 0 * y, "down": y**2 + 0 * x}[chosen["direction"]]
        wave = np.cos(np.pi * chosen["finest"] / 100.0 * reach / (2 * longest))
        return np.asarray(50.0 + 45.0 * wave)

    board.shade(picture)


PATTERNS = (
    Pattern(
        "sharpness", "Sharpness", "detail",
        "Finds the setting at which the display neither adds edges nor smooths them away.",
        "Turn it up until pale borders stand beside the dark lines, then down until they are just gone. Lines of one pixel should keep their full darkness.",
        "It does not show smoothing that works only on moving pictures or only on noise.",
        sharpness, Wrong("sharpen", -1.0, "Fine lines turn grey and soft."),
        Wrong("sharpen", 1.6, "Pale borders stand along every line: they are not in the picture."),
        "Lines are dark and thin, the ground beside them is plain.",
        roles=("process.sharpness",), lens=(0.08, 0.1, 0.36, 0.38),
        options=(Option("ground", "Ground", "50", low=10, high=90, unit=" %"),),
    ),
    Pattern(
        "overscan", "Edges and size", "geometry",
        "Shows whether the whole picture is on the screen, and whether circles are round.",
        "The outermost frame, one pixel wide, should be seen on all four sides, and the ring should be round.",
        "A projector’s picture may run onto the frame of the screen on purpose: then the first frame is hidden and the second is seen.",
        overscan, Wrong("none", 0.0, "The whole picture is there."),
        Wrong("crop", 3.0, "The outer frames are cut off: the picture was enlarged and every pixel was smeared."),
        "All frames are seen, the ring is round.", roles=("process.overscan",), ends=("nothing cut", "cut off"),
    ),
    Pattern(
        "one-to-one", "Single pixels", "detail",
        "Shows whether each pixel of the signal lands on one pixel of the display.",
        "The three fields should look like one even grey from afar and show single lines or dots from near, without bands or waves.",
        "A browser or a driver that scales the picture spoils it too: the pattern screen says when it is not sent pixel by pixel.",
        one_to_one, Wrong("soften", 0.6, "The fields have lost their contrast: pixels are smeared."),
        Wrong("crop", 2.0, "Waves run through the fields: the picture is being scaled."),
        "Single lines and dots, no waves.", roles=("process.overscan", "process.sharpness"),
        lens=(0.06, 0.15, 0.12, 0.21), ends=("smeared", "scaled"),
    ),
    Pattern(
        "alignment", "Meter alignment", "geometry",
        "Shows where the meter should look.",
        "Turn and tilt the meter until its own light or its shadow lies on the middle of the disc, square to the screen.",
        "It cannot show whether the meter is focused or how wide it sees; read once here and once with the window twice as large, the readings should agree.",
        alignment, Wrong("shift", -14.0, "The meter looks beside the disc: it reads too little."),
        Wrong("none", 0.0, "–"), "The meter’s spot lies inside the disc.", ends=("aimed badly", "aimed well"),
        options=(
            Option("x", "From the left", "50", low=0, high=100, unit=" %"), Option("y", "From the top", "50", low=0, high=100, unit=" %"),
            Option("size", "Diameter", "20", low=2, high=80, unit=" % of the height"), Option("level", "Level", "80", low=5, high=100, unit=" %"),
        ),
    ),
    Pattern(
        "convergence", "Convergence", "geometry",
        "Shows whether red, green and blue of a projector land on the same place.",
        "Where lines cross they should be white without coloured borders, in the middle and in every corner. Shift red and blue onto green.",
        "It shows nothing on a panel whose sub-pixels are fixed. A shift by less than half a pixel is blurred, not moved.",
        convergence, Wrong("shift-red", -1.6, "Red lies to the left of green and blue."),
        Wrong("shift-red", 1.6, "Red lies to the right of green and blue."), "Lines are white.",
        roles=("convergence.red", "convergence.blue"), lens=(0.4, 0.4, 0.52, 0.52),
        options=(
            Option("across", "Fields across", "16", (("8", "8"), ("16", "16"), ("32", "32"))),
            Option("lights", "Lights", "all", (("all", "all three"), ("red-green", "red and green"), ("blue-green", "blue and green"), ("red-blue", "red and blue"))),
        ), ends=("to the left", "to the right"),
    ),
    Pattern(
        "focus", "Focus", "geometry",
        "For the lens of a projector: the finest spokes show where it is sharp.",
        "Focus in the middle, then look into the corners; take the setting at which all five are equally good, when the lens is warm.",
        "Spokes that end before the middle are the limit of the pixels, not of the lens.",
        focus, Wrong("soften", 1.6, "Spokes run together far from the middle of the star."),
        Wrong("soften", 0.8, "Still soft, on the other side."), "Spokes can be followed nearly to the middle.",
        roles=("lens.focus",), lens=(0.34, 0.34, 0.66, 0.66), ends=("too near", "too far"),
    ),
    Pattern(
        "zone-plate", "Zone plate", "detail",
        "Every fineness in every direction: scaling, smoothing and added edges show as rings that are not in the signal.",
        "There should be one set of rings, round the middle, fading evenly. Other centres are false.",
        "A page that scales the picture makes false rings itself; at 100 % only neighbouring pixels differ, which few displays resolve in colour.",
        zone_plate, Wrong("soften", 1.0, "The outer rings are gone."),
        Wrong("crop", 3.0, "False rings stand at the sides."), "One set of rings.",
        roles=("process.sharpness", "process.overscan"), ends=("smoothed", "scaled"),
        options=(
            Option("finest", "Finest", "80", low=10, high=100, unit=" % of single pixels"),
            Option("direction", "Direction", "both", (("both", "both"), ("across", "across"), ("down", "down"))),
        ),
    ),
)  # fmt: skip
