"""Patterns of level: black, white, clipping of each channel, steps, checkerboards, corner windows, which range."""

import numpy as np

from fenvik.core.signal.patterns.board import Board
from fenvik.core.signal.patterns.options import LIGHT, MIX, Option
from fenvik.core.signal.patterns.pattern import Chosen, Pattern, Wrong

BELOW, ABOVE = (-6.0, -4.0, -3.0, -2.0, -1.0), (1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0)
NEAR_WHITE = (90.0, 92.0, 94.0, 96.0, 97.0, 98.0, 99.0)
OVER_WHITE = (101.0, 102.0, 104.0, 106.0, 108.0)


def black_level(board: Board, chosen: Chosen) -> None:
    """Bars from below video black to 8 % on video black, a foot of grey under the place of black itself."""
    shades = (*(BELOW if board.signal.has_foot else ()), *ABOVE)
    width = 0.8 / len(shades)
    for i, shade in enumerate(shades):
        left = 0.1 + i * width
        board.fill((left + 0.15 * width, 0.25, left + 0.85 * width, 0.75), shade)
    split = 0.1 + (len(BELOW) if board.signal.has_foot else 0) * width
    board.fill((split - 0.002, 0.78, split + 0.002, 0.82), 15.0)
    if chosen["surround"]:
        for box in ((0, 0, 1, 0.12), (0, 0.88, 1, 1)):
            board.fill(box, chosen["surround"])


def white_level(board: Board, chosen: Chosen) -> None:
    """Bars from 90 % to the top of the signal on video white, with a foot under the place of white itself."""
    board.fill_all(100.0)
    shades = (*NEAR_WHITE, *(OVER_WHITE if board.signal.has_foot else ()))
    width = 0.8 / len(shades)
    for i, shade in enumerate(shades):
        left = 0.1 + i * width
        board.fill((left + 0.15 * width, 0.25, left + 0.85 * width, 0.75), shade)
    split = 0.1 + len(NEAR_WHITE) * width
    board.fill((split - 0.002, 0.78, split + 0.002, 0.82), 60.0)


def clipping(board: Board, _: Chosen) -> None:
    """Four rows of bars from 80 % upwards: grey, red, green and blue, so that the first channel to clip shows."""
    shades = (
        80.0,
        84.0,
        88.0,
        91.0,
        94.0,
        96.0,
        98.0,
        100.0,
        *((102.0, 104.0, 107.0) if board.signal.has_foot else ()),
    )
    for row, name in enumerate(("grey", "red", "green", "blue")):
        mix = np.array(MIX[name])
        top = 0.08 + row * 0.22
        board.fill((0.06, top, 0.94, top + 0.18), 90.0 * mix)
        width = 0.88 / len(shades)
        for i, shade in enumerate(shades):
            left = 0.06 + i * width
            board.fill((left + 0.2 * width, top + 0.03, left + 0.8 * width, top + 0.15), shade * mix)


def steps(board: Board, chosen: Chosen) -> None:
    """Equal steps of signal from black to white, rising above and falling below."""
    count = int(chosen["count"])
    mix = np.array(MIX[chosen["colour"]])
    for i in range(count):
        level = 100.0 * i / (count - 1)
        board.fill((i / count, 0, (i + 1) / count, 0.5), level * mix)
        board.fill((1 - (i + 1) / count, 0.5, 1 - i / count, 1), level * mix)


def checkerboard(board: Board, chosen: Chosen) -> None:
    """Black and white fields in turn; the other way round where it is asked for."""
    across = int(chosen["across"])
    fitting = max(round(across * 9 / 16), 2) if across > 4 else across
    down = int(chosen["down"]) or fitting
    board.fill_all(chosen["dark"])
    first = chosen["start"] == "white"
    for row in range(down):
        for column in range(across):
            if ((row + column) % 2 == 0) == first:
                board.fill((column / across, row / down, (column + 1) / across, (row + 1) / down), chosen["level"])


def corner_windows(board: Board, chosen: Chosen) -> None:
    """White windows in the four corners and one in the middle, black between them."""
    size = np.sqrt(chosen["size"] / 100.0)
    inset = 0.06
    half = size / 2
    for x in (inset + half, 1 - inset - half):
        for y in (inset + half, 1 - inset - half):
            board.fill((x - half, y - half, x + half, y + half), chosen["level"])
    if chosen["middle"] == "with":
        board.fill((0.5 - half, 0.5 - half, 0.5 + half, 0.5 + half), chosen["level"])
    # Fine stars of near black between the windows: a display that dims its zones swallows them.
    for x in np.linspace(0.1, 0.9, 17):
        left, top, _, _ = board.pixels((float(x), 0.3, 1, 1))
        board.codes[top : top + 3, left : left + 3] = board.signal.code(12.0)
        left, top, _, _ = board.pixels((float(x), 0.7, 1, 1))
        board.codes[top : top + 3, left : left + 3] = board.signal.code(12.0)


def which_range(board: Board, _: Chosen) -> None:
    """Raw codes of eight bits in pairs: which pairs can be told apart says what the driver does to them."""
    scale = 2 ** (board.signal.bits - 8)
    dark, light = ((0, 8), (8, 16), (16, 24)), ((235, 230), (245, 235), (255, 245))
    board.codes[:] = 16 * scale
    board.codes[board.height // 2 :] = 235 * scale
    for row, pairs in ((0.12, dark), (0.62, light)):
        for i, (ground, mark) in enumerate(pairs):
            left = 0.08 + i * 0.3
            board.view((left, row, left + 0.24, row + 0.26))[:] = ground * scale
            board.view((left + 0.06, row + 0.07, left + 0.18, row + 0.19))[:] = mark * scale


PATTERNS = (
    Pattern(
        "black-level", "Black level", "levels",
        "Sets where black begins: the control is often called Brightness.",
        "Turn it up until every bar right of the foot shows, then down until the bars left of it are gone and the first one right of it can only just be seen.",
        "In full range there are no codes below black, so only the bars above it are there. The eye must be used to the dark for five minutes.",
        black_level, Wrong("black", -3.5, "The first bars right of the foot are swallowed: shadows are lost."),
        Wrong("black", 3.5, "Bars left of the foot show and black is grey: blacker than black is let through."),
        "Left of the foot nothing shows; right of it every bar does, the first one barely.",
        roles=("black-level",), lift=0.28,
        options=(Option("surround", "Strips above and below", "0", low=0, high=100, unit=" %"),),
    ),
    Pattern(
        "white-level", "White level", "levels",
        "Sets where white ends: the control is often called Contrast, which on some displays is the light instead.",
        "Turn it down until the bars left of the foot can be told from their ground. Bars right of it are above white: nice to see, not needed.",
        "It shows only whether levels can be told apart, not whether they have a tint; the pattern for clipping of each channel shows that.",
        white_level, Wrong("white", -14.0, "Everything shows, but white is dimmer than it could be."),
        Wrong("white", 9.0, "The bars left of the foot run together: clouds and snow lose their drawing."),
        "Every bar left of the foot can be told from white.",
        roles=("white-level",), lens=(0.06, 0.2, 0.94, 0.85), lift=3.2,
    ),
    Pattern(
        "clipping", "Clipping of each channel", "levels",
        "Shows which of red, green and blue runs into its end first when white level, light or a gain is too high.",
        "In each row every bar up to the last but those above white should be told from the next. The row in which they first run together is the channel to bring down.",
        "With 8 bits neighbouring bars are two to five codes apart; finer clipping needs a meter.",
        clipping, Wrong("white", -10.0, "All rows are whole but dim."),
        Wrong("clip-red", 12.0, "The last bars of red run together before those of the others: bright skin turns yellow."),
        "All four rows can be told apart up to white.",
        roles=("white-level", "white.gain.red", "white.gain.green", "white.gain.blue"), lift=1.4,
    ),
    Pattern(
        "steps", "Steps", "levels",
        "Equal steps of signal, for a first look at the curve and at the tint of grey.",
        "Each step should be told from its neighbours and all should have the same tint of grey.",
        "Steps of 8 bits are even only to half a code; a curve that is 5 % off looks right here.",
        steps, Wrong("gamma", 0.75, "Dark steps are lifted: the picture is pale."),
        Wrong("gamma", 1.35, "Dark steps run together: the picture is heavy."),
        "Even steps of one tint.", roles=("gamma",),
        options=(Option("count", "Steps", "11", (("6", "6"), ("11", "11"), ("21", "21"), ("33", "33"))), LIGHT),
    ),
    Pattern(
        "checkerboard", "Checkerboard", "light",
        "Contrast inside one picture: how much light strays from bright fields into dark ones, in the display and in the room.",
        "Black fields should stay black beside white ones. Measure a black field with the meter shielded from the white ones.",
        "A meter that sees a white field from aside reads the stray light of its own lens as well.",
        checkerboard, Wrong("veil", 0.0, "–"), Wrong("veil", 6.0, "Black fields are grey: light strays."),
        "Black fields stay black.", ends=("no light strays", "much light strays"), roles=("process.dimming",),
        options=(
            Option("across", "Fields across", "4", low=1, high=64), Option("down", "Fields down, 0 as fits", "0", low=0, high=64),
            Option("start", "First field", "white", (("white", "white"), ("black", "black"))),
            Option("level", "Level", "100", low=1, high=109, unit=" %"),
            Option("dark", "Level of the dark fields", "0", low=0, high=50, unit=" %"),
        ),
    ),
    Pattern(
        "corner-windows", "Corner windows", "light",
        "Shows the halos of local dimming, and fine stars that it swallows.",
        "Around each window the black should stay black, and the two rows of faint stars should be seen from end to end.",
        "How visible a halo is depends on the angle: look from the seats, not from beside the screen.",
        corner_windows, Wrong("stars", 1.0, "Stars are swallowed: dark zones are switched off too far."),
        Wrong("halo", 12.0, "Halos stand around the windows."),
        "Black between the windows, all stars seen.", roles=("process.dimming",), lift=0.5, lens=(0.03, 0.04, 0.47, 0.48),
        ends=("dims too far", "dims too little"),
        options=(
            Option("size", "Size of a window", "2", low=0.1, high=15, unit=" % of the screen"),
            Option("level", "Level", "100", low=1, high=109, unit=" %"),
            Option("middle", "Window in the middle", "without", (("without", "without"), ("with", "with"))),
        ),
    ),
    Pattern(
        "range", "Which range", "levels",
        "Finds out what the driver of the display does to a computer’s codes: keeps them as they are, or squeezes 0 to 255 into 16 to 235.",
        "Look at the upper row of pairs. All three marks seen: the driver squeezes, so say full. Only the last one seen: codes arrive as they are and the display expects limited, so say limited.",
        "It cannot tell a driver that clips from a display that does; change the display’s own setting of the range to find out.",
        which_range, Wrong("black", -6.4, "Only the right pair of the upper row shows: codes arrive as they are."),
        Wrong("none", 0.0, "All pairs show: the driver squeezes, or the display takes full range."),
        "Either answer is right, as long as Fenvik knows it.", lift=0.42, ends=("limited", "full"),
    ),
)  # fmt: skip
