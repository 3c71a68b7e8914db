"""How long a display takes to follow a change of the picture, told from readings one after another."""

from collections.abc import Sequence

AGREE = 0.015  # share of the light: two readings that differ by less say the same
LEAST_S, MARGIN = 0.1, 1.25
DARK = 0.5  # share of the light in the end: a first reading with less was begun before the picture had come
NEXT_S, LATER = 0.1, 0.3  # between the beginnings of two tries, and how much more the later they are
TAILS = 4.0  # time constants until a hundredth or two is left


def next_start(start_s: float) -> float:
    """Return when to begin the next try: ever farther apart, so that a slow tail shows between two of them."""
    return start_s + NEXT_S + LATER * start_s


def has_settled(luminances: Sequence[float]) -> bool:
    """Return whether the last two readings in cd/m² say the same."""
    if len(luminances) < 2:
        return False
    last, before = luminances[-1], luminances[-2]
    return last > 0 and abs(before / last - 1.0) <= AGREE


def settling_s(starts: Sequence[float], luminances: Sequence[float]) -> float:
    """Return the seconds to wait before a reading, from readings that went on until the light stood.

    ``starts``: seconds from the change of the picture to the beginning of each reading; ``luminances`` in cd/m², of a light that
    rises or falls to what the last one is.
    """
    final = luminances[-1]
    first = next(i for i, y in enumerate(luminances) if all(abs(v / final - 1.0) <= AGREE for v in luminances[i:]))
    waited = starts[first]
    if first == 1 and DARK < luminances[0] / final < 1.0 + DARK:
        # One long reading that lacks a little: what it lacks is how long the light was on its way.
        took = starts[1] - starts[0]
        waited = min(waited, starts[0] + TAILS * abs(luminances[0] / final - 1.0) * took)
    return max(MARGIN * waited, LEAST_S)
