"""How a target ends, as it is typed: ``--roll-off`` and ``--mastered`` of several commands."""

import argparse
from dataclasses import replace
from itertools import pairwise

from fenvik.core.colour.target import TARGETS, Target

MOST_KNEES = 3
MOST_PEAK = 10_000.0


def peak(text: str) -> float:
    """Return the peak of a mastering display in cd/m²."""
    value = float(text)
    if not 1.0 <= value <= MOST_PEAK:
        raise argparse.ArgumentTypeError("is a luminance in cd/m² from 1 to 10000")
    return value


def roll_off(text: str) -> str | tuple[tuple[float, float], ...]:
    """Return "clip", "bt2390", or one to three points of PQ signal in and out, 0 to 1, that rise in both numbers."""
    if text in ("clip", "bt2390"):
        return text
    said = argparse.ArgumentTypeError(
        "is clip, bt2390, or X:Y with commas between: one to three points of PQ signal in and out, 0 to 1, both rising"
    )
    try:
        points = tuple((float(x), float(y)) for x, y in (part.split(":") for part in text.split(",")))
    except ValueError:
        raise said from None
    inside = all(0.0 <= value <= 1.0 for point in points for value in point)
    rising = all(a[0] < b[0] and a[1] < b[1] for a, b in pairwise(points))
    if not inside or not rising or len(points) > MOST_KNEES:
        raise said
    return points


def add_to(parser: argparse.ArgumentParser) -> None:
    """Add both options to a command."""
    parser.add_argument(
        "--roll-off", type=roll_off, default="clip", metavar="clip|bt2390|X:Y[,X:Y...]", help="how a PQ target ends at the peak"
    )
    parser.add_argument("--mastered", type=peak, default=None, metavar="CD_M2", help="peak of the mastering, 1000 unless said")


def target_of(name: str, given: argparse.Namespace) -> Target:
    """Return the target of a name with the end that was given. Raises ValueError, in words, where that target has none."""
    target = TARGETS[name]
    if target.curve != "pq":
        if given.roll_off != "clip" or given.mastered is not None:
            raise ValueError(f"--roll-off and --mastered are for PQ; {name} has none")
        return target
    knees = given.roll_off if isinstance(given.roll_off, tuple) else ()
    return replace(
        target, rolls_off=given.roll_off == "bt2390", knees=knees, mastered=(given.mastered or 1000.0, target.mastered[1])
    )
