"""Watching a display warm up: white now and then until it has come to rest."""

from dataclasses import dataclass

import numpy as np

from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.measure.warmup import WarmUp, warm_up
from fenvik.core.procedures.steps import Clock, Fraction, Keep, Procedure, Read, Say, Wait
from fenvik.core.types import Floats

WHITE: Fraction = (100.0, 100.0, 100.0)
WORDS = "warm-up"


@dataclass(frozen=True)
class Warmth:
    """What has been seen so far: how many ``readings``, the luminance of the last in cd/m², and a fit once there is one."""

    readings: int
    white: float | None
    fit: WarmUp | None

    @property
    def is_settled(self) -> bool:
        """Whether the display has settled."""
        return self.fit is not None and self.fit.is_settled


def watch(meter: Repeatability, *, every_s: float, average: int = 1, longest_s: float = np.inf) -> Procedure[Warmth]:
    """Read white every so many seconds until the display has settled, or for ``longest_s``; what is said so far is kept each time.

    ``meter``: its repeatability where each reading is of so many averages. A white that is too dark to read tells nothing.
    """
    yield Say(WORDS)
    at: list[float] = []
    seen: list[Floats] = []
    begun: float | None = None
    while True:
        _, xyz = yield Read(WHITE)
        now: float = yield Clock()
        begun = now if begun is None else begun
        if xyz[1] > 0:
            at.append(now)
            seen.append(np.asarray(xyz, dtype=np.float64))
        fit = warm_up(np.array(at), np.array(seen), meter, average) if at else None
        warmth = Warmth(len(seen), float(seen[-1][1]) if seen else None, fit)
        yield Keep(warmth)
        if warmth.is_settled or now - begun >= longest_s:
            return warmth
        yield Wait(min(every_s, begun + longest_s - now))
