"""Whether the light of one patch changed between two readings by more than noise: something was turned."""

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.types import Floats

DEVIATIONS = 5.0
LEAST = 0.006  # of a light: displays wander by as much by themselves
AS_PROPOSED = 0.4  # of a move: how far what was seen may be from what a nudge would do


def turned(
    before: Floats, now: Floats, target: Target, meter: Repeatability, averages: tuple[int, int] = (1, 1)
) -> Floats | None:
    """Return the change of each light (3,) as a share, or None where noise or wandering explains it.

    ``before``, ``now``: XYZ (3,) in cd/m² of the same patch.
    """
    rgb = np.stack([before, now]) @ target.inverse_matrix.T
    if (rgb <= 0).any():
        return None
    change = rgb[1] / rgb[0] - 1.0
    both = meter.covariance(before, np.asarray(float(averages[0]))) + meter.covariance(now, np.asarray(float(averages[1])))
    spread = target.inverse_matrix @ both @ target.inverse_matrix.T
    std = np.sqrt(np.maximum(np.diag(spread), 0.0)) / rgb[0]
    return change if bool((np.abs(change) > np.maximum(DEVIATIONS * std, LEAST)).any()) else None


def is_as_proposed(change: Floats, proposed: Floats) -> bool:
    """Return whether a change of drives (3,) is what a nudge would have done, within what is known of its controls."""
    size = float(np.sqrt((proposed**2).sum()))
    return size > 0 and float(np.sqrt(((change - proposed) ** 2).sum())) <= AS_PROPOSED * size
