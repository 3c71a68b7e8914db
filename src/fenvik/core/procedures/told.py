"""Readings of a batch and before it, with what is asked of each of them again and again while they are held against each other."""

from collections.abc import Iterable
from functools import cached_property
from typing import Any

import numpy as np

from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.types import Floats


class Told:
    """A reading and what it tells. ``settings`` are the very ones of every other of the same state, so that ``is`` tells."""

    def __init__(self, taken: Any, settings: dict[str, Any]) -> None:
        self.fraction, self.xyz, self.settings = taken.fraction, taken.xyz, settings
        red, green, blue = self.patch = tuple(float(v) for v in taken.fraction)
        self.least, self.most = min(self.patch), max(self.patch)
        self.is_grey = red == green == blue
        self.light = float(taken.xyz[1])
        self.ln = ln(self.light)

    @cached_property
    def uv(self) -> Floats:
        """Its u′v′ (2,)."""
        return xyz_to_uv(self.xyz)

    def apart(self, other: "Told") -> float:
        """Return by how much of signal the two patches differ at most."""
        return max(abs(a - b) for a, b in zip(self.patch, other.patch, strict=True))

    def beside(self, other: "Told") -> float:
        """Return how far the two lie apart in u′v′."""
        return float(np.linalg.norm(self.uv - other.uv))


def all_told(*batches: Iterable[Any]) -> list[list[Told]]:
    """Return what readings tell, batch by batch."""
    states: list[dict[str, Any]] = []
    known: dict[int, dict[str, Any]] = {}  # by the object that stands for it in a reading
    made: list[list[Told]] = []
    for batch in batches:
        made.append([])
        for taken in batch:
            settings = known.get(id(taken.settings))
            if settings is None:
                settings = next((each for each in reversed(states) if each == taken.settings), taken.settings)
                known[id(taken.settings)] = settings
                if settings is taken.settings:
                    states.append(settings)
            made[-1].append(Told(taken, settings))
    return made


def ln(light: float) -> float:
    """Return the natural logarithm of cd/m², of a millionth of one at least."""
    return float(np.log(max(light, 1e-6)))
