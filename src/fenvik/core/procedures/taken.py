"""One reading, as procedures know it."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.types import Floats


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

