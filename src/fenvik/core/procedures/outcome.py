"""What came of a move of the greys, beside what was expected of it: how much is worth reading yet, and whether it stays."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from fenvik.core.procedures.greyview import GreyView
from fenvik.core.procedures.taken import Taken

DENIED, DENIED_BY = 1.1, 0.4  # times the error that was there, and more: what a last move has made worse


def denies(view: GreyView, proof: Sequence[Taken], before: dict[str, Any]) -> bool:
    """Return whether greys that were read after the last move are clearly worse than the model has them before it.

    ``before``: the settings then. No reading had checked that move; those of the proof do.
    """
    lit, levels, drives = view.lit(proof)
    wanted = view.wanted(levels)
    was = view.judged_size(view.expected(levels, before) - wanted, levels)
    return bool(lit) and view.judged_size(drives - wanted, levels) > DENIED * was + DENIED_BY


def surprise(view: GreyView, taken: Sequence[Taken]) -> float:
    """Return by how much lit greys are off from what the model expected of them: the root of the mean square, as judged."""
    lit, levels, drives = view.lit(taken)
    if not lit:
        return 0.0
    expected = np.array([view.expected(levels[[i]], t.settings)[0] for i, t in enumerate(lit)])
    return view.judged_size(drives - expected, levels)
