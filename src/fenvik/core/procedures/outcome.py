"""What came of a move of the greys, beside what was expected of it: how far the next may go, and how much is worth reading yet."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from fenvik.core.procedures.greyview import GreyView
from fenvik.core.procedures.taken import Taken

MOST, LEAST = 0.12, 0.006  # of drive: how far one control may go in one move
WORSE, WORSE_BY = 1.1, 0.8  # times the error that was there, and more: what was made worse
PROMISED, FAR_OFF = 0.8, 2.0  # of error: what must have been promised, and be left, before little is too little
TOO_LITTLE = 0.25  # of what was promised of the squared error
AGAIN = 3.0  # times a step that did what it should: how far the next may go


def surprise(view: GreyView, taken: Sequence[Taken]) -> float:
    """Return by how much lit greys are off from what the model expected of them: the root of the mean square, as judged."""
    lit, levels, drives = view.lit(taken)
    if not lit:
        return 0.0
    return view.judged_size(drives - view.expected(levels, lit[-1].settings), levels)


@dataclass
class Stride:
    """How far one control may go in one move, as drive: as far as moves have done what they should."""

    most: float = MOST

    def is_to_be_taken_back(self, view: GreyView, taken: Sequence[Taken], before: dict[str, Any], after: dict[str, Any]) -> bool:
        """Learn from greys that were read after a move; return whether it made them worse.

        No model has every display: of one whose gains are relative to each other, one move after the other goes farther astray,
        each of them promising to put right what the one before it did.
        """
        lit, levels, drives = view.lit(taken)
        step = view.largest(before, after)
        if not lit or step <= 0.0:
            return False
        wanted = view.wanted(levels)
        was, said = (view.judged_size(view.expected(levels, each) - wanted, levels) for each in (before, after))
        came = view.judged_size(drives - wanted, levels)
        is_worse = came > WORSE * was + WORSE_BY
        is_little = was - said > PROMISED and came > FAR_OFF and was**2 - came**2 < TOO_LITTLE * (was**2 - said**2)
        if is_worse or is_little:
            self.most = min(self.most, max(0.5 * step, LEAST))
        else:
            self.most = min(max(self.most, AGAIN * step), MOST)
        return is_worse
