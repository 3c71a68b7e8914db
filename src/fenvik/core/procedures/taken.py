"""One reading, as procedures know it."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.procedures.steps import Fraction
from fenvik.core.types import Floats

SAME_CODE = 0.003  # fraction of signal: a code is rounded by less


@dataclass(frozen=True)
class Taken:
    """One reading with the state of every control when it was taken."""

    fraction: Floats
    xyz: Floats
    settings: dict[str, Any]

    @property
    def is_grey(self) -> bool:
        """Whether all three signals are the same."""
        return bool(np.ptp(self.fraction) == 0)

    def shows(self, percent: Fraction) -> bool:
        """Whether it is of a patch of percentages of signal."""
        return bool(np.abs(self.fraction - np.array(percent) / 100.0).max() < SAME_CODE)

