"""One colour of a hands-free job: its controls, its looks, and what is known of its patches where they were not read."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control, control_of
from fenvik.core.models import hueprior, hues
from fenvik.core.models.hues import Look
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import Procedure
from fenvik.core.types import Floats

BUT_SKIN, OF_LATER = 2, 1  # patches that are read after a move: a skin tone may be told by the pale patch; later moves are small


@dataclass
class Hue:
    """One colour: its controls, its looks in order of time, and the place of the best."""

    name: str
    controls: list[dict[str, Any]]
    patches: list[hues.Percent]  # the full and the pale one, of red and yellow a skin tone too, as by hand
    looks: list[Look] = field(default_factory=list)
    known: list[Floats] = field(default_factory=list)  # the parts of each look, by the other looks where they were not read
    looked: list[int] = field(default_factory=list)  # of each look that was read: after how many readings
    era: int = 0  # how often the meter has changed: a look before it cannot be held against one after it
    best: int = 0
    rests: bool = False
    is_dead: bool = False
    skin_too: bool = True  # whether a skin tone is read after the first move, else it follows the pale patch
    goal: float = 0.0  # of a difference: a colour that is no farther off rests
    others: list["Hue"] = field(default_factory=list, repr=False)  # colours of the same display, which teach of these controls

    def __post_init__(self) -> None:
        self.fraction: Floats = np.array(self.patches) / 100.0

    def forget(self) -> None:
        """Forget every look, and whatever followed from them."""
        for kept in (self.looks, self.known, self.looked):
            kept.clear()
        self.best, self.rests, self.is_dead = 0, False, False

    def turn(self, desk: Desk, settings: Floats) -> Procedure[None]:
        """Set its controls, in steps."""
        for control, value in zip(self.controls, settings, strict=True):
            yield from desk.set(control, float(value) * float(control["step"]))

    def turns(self) -> list[Control]:
        """Return the controls as they stand."""
        return [control for c in self.controls if (control := control_of(c, c["value"])) is not None]

    @property
    def settings(self) -> Floats:
        """The controls' values in steps."""
        return np.array([float(c["value"]) / float(c["step"]) for c in self.controls])

    def foresee(self, xyz: Floats, target: Target, hold: tuple[float, float]) -> None:
        """Take XYZ (n, 3) of the patches for a first look that was not read."""
        self.known.append(hues.parts_of(self.fraction, xyz, target, *hold))
        self.looks.append(Look(self.known[-1], self.settings, foreseen=True))

    def look(self, desk: Desk, target: Target, hold: tuple[float, float], *, whole: bool = False) -> Procedure[None]:
        """Read its patches, after its first moves as many as tell: the others are as the looks before lead to expect, by what these
        have just told. ``whole``: all of them.
        """
        patches = self.patches if whole else self.patches[: self._telling()]
        read = yield from desk.reads(patches)
        self.fraction[: len(read)] = [t.fraction for t in read]
        parts = np.full(3 * len(self.patches), np.nan)
        parts[: 3 * len(read)] = hues.parts_of(
            self.fraction[: len(read)], np.array([t.xyz for t in read]), target, *hold
        )  # fmt: skip
        self.looks.append(Look(parts, self.settings, self.era))
        if not np.isfinite(parts).all():
            before, slope = self.looks[self.best], self.belief(target, hold).slope
            parts = np.where(np.isfinite(parts), parts, self.known[self.best] + slope @ (self.settings - before.settings))
        self.known.append(parts)
        self.looked.append(len(desk.taken) - len(read))
        last = len(self.looks) - 1
        if self.best == last or self.looks[self.best].foreseen or _cost(parts) < _cost(self.known[self.best]):
            self.best = last

    def take_back(self) -> None:
        """Forget the newest look."""
        if not self.looks.pop().foreseen:
            self.looked.pop()
        self.known.pop()
        self.best = min(self.best, max(len(self.looks) - 1, 0))

    def _telling(self) -> int:
        """Return how many patches are read."""
        alike = [look for look in self.looks if look.era == self.era]
        if not alike:
            return len(self.patches)
        if len(alike) > 1 and not all(look.foreseen for look in alike):
            return OF_LATER
        return len(self.patches) if self.skin_too else BUT_SKIN

    def belief(self, target: Target, hold: tuple[float, float]) -> hues.Belief:
        """Return what its controls are taken to do, by its looks and by what the other colours have taught."""
        return hueprior.believed((self.turns(), self.fraction, self.looks), self._others, target, *hold)

    def expected(self, target: Target, hold: tuple[float, float]) -> Floats:
        """Return the slope that was to be expected before it was looked at."""
        return hueprior.believed((self.turns(), self.fraction, self.looks[:1]), self._others, target, *hold).slope

    @property
    def _others(self) -> list[hueprior.Moved]:
        return [(h.turns(), h.fraction, h.looks) for h in self.others if h is not self and not h.is_dead]

    @property
    def error(self) -> float:
        """The mean difference of its patches where they were best."""
        return float(hues.errors_of(self.known[self.best]).mean())


def _cost(parts: Floats) -> float:
    return float((hues.weighed(parts) ** 2).sum())
