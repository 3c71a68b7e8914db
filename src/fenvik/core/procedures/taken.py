"""One reading, as procedures know it."""

from dataclasses import dataclass
from typing import Any

from fenvik.core.types import Floats


@dataclass(frozen=True)
class Taken:
    """One reading with the state of every control when it was taken."""

    fraction: Floats
    xyz: Floats
    settings: dict[str, Any]
