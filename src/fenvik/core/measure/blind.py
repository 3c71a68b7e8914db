"""A choice between whites that was made blind: how many rounds it takes until it is no chance, and when nobody could tell.

In a round each candidate is shown once, in an order drawn by lot, and one is chosen. Two equal whites would be chosen alike
twice in a row every second time; so a choice counts where chance alone would make it one time in twenty at most: the same one in
every round of a first run, or in all but one of a longer one.
"""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

BY_CHANCE = 0.05
LONGEST = 12


@dataclass(frozen=True)
class Verdict:
    """``over`` once no round is needed any more; ``chosen``: which one, None where they could not be told apart (or not yet)."""

    over: bool
    chosen: int | None
    left: int  # rounds at most


def runs(count: int) -> tuple[int, int]:
    """Return the rounds of ``count`` candidates in which all choices are the same, and of those in which all but one are.

    Both together happen by chance at most BY_CHANCE of the times. Raises ValueError below two.
    """
    if count < 2:
        raise ValueError("A choice is between two at least.")
    first = next(k for k in range(2, LONGEST) if count ** (1 - k) <= 0.8 * BY_CHANCE)

    def chance(longer: int) -> float:
        # One slip within the first run, or it would have ended there.
        return float(count ** (1 - first) + count * first * (count - 1) / count**longer)

    return first, next(k for k in range(first + 1, 3 * LONGEST) if chance(k) <= BY_CHANCE)


def verdict(picks: Sequence[int | None], count: int) -> Verdict:
    """Return what choices so far come to; ``None`` among them is "no difference". Raises ValueError below two candidates."""
    first, longer = runs(count)
    counted = Counter(pick for pick in picks if pick is not None)
    best, times = counted.most_common(1)[0] if counted else (None, 0)
    done = len(picks)
    if done == first and times == first:
        return Verdict(True, best, 0)
    if done >= longer:
        return Verdict(True, best if times >= longer - 1 else None, 0)
    slips = done - times
    if slips > 1 or (slips and done < 1):
        return Verdict(True, None, 0)
    return Verdict(False, None, (first if slips == 0 and done < first else longer) - done)
