"""The black of a display that a meter cannot read: what is usual for its technology, and less than the meter's floor.

BT.1886 and HLG hang on it. Counted as none, a display of usual contrast is wanted a third darker at 20 % than it should be.
"""

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.types import Floats

# Of white, by technology: one in 1500. Light that a panel makes itself has a black of none, and of others nothing is known.
USUAL = {"lcd": 1 / 1500, "projector": 1 / 1500}
OF_FLOOR = 0.7  # what lies below a meter's floor lies in the upper half of that more often than not


def unread(technology: str, floor: float) -> tuple[float, float]:
    """Return what a target takes as ``unread``. ``technology`` as the link tells it; ``floor``: of the meter, in cd/m²."""
    return (USUAL.get(technology, 0.0) if floor > 0.0 else 0.0), floor


def usual_black(white: ArrayLike, share: float, floor: float) -> Floats:
    """Return the black in cd/m² of displays of a white (any shape, cd/m²) that reads below a meter's floor.

    Where the usual one would have been read, this display has less than is usual: the surer, the more it would have been.
    """
    usual = share * np.asarray(white, dtype=np.float64)
    return np.minimum(usual, OF_FLOOR * floor * np.minimum(floor / np.maximum(usual, 1e-12), 1.0))
