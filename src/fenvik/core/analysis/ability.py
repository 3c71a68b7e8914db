"""What a display can do in HDR: its peak by window and over half a minute, its black, its colours, how far it follows."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.analysis.report import coverage
from fenvik.core.colour.space import BT2020, P3D65, xyz_to_uv
from fenvik.core.models.rolloff import RollOff, roll_off_of
from fenvik.core.types import Floats

STEADY = 0.03  # of the light: a window that loses less than this beside smaller ones tells the picture and not the power supply
FALLS = 0.05  # of the peak within half a minute: more is said
USUAL = 10.0  # percent of the area: the window for greys unless the display does not bear it


@dataclass(frozen=True)
class Ability:
    """``peaks``: percent of the area and cd/m², smallest first; ``held``: seconds and cd/m² of the window at which it was held.

    ``covers``: shares of P3 and BT.2020 in u′v′; ``roll``: how it ends, None where too few greys tell; ``same``: windows and
    cd/m² of one grey.
    """

    peaks: tuple[tuple[float, float], ...]
    held: tuple[tuple[float, float], ...]
    black: float
    black_is_bound: bool
    covers: tuple[float, float]
    roll: RollOff | None
    same: tuple[tuple[float, float], ...] = ()

    @property
    def bends(self) -> tuple[float, float] | None:
        """The least and the most light of one grey in small and large windows; None where it stays what it is."""
        light = [y for _, y in self.same]
        return (min(light), max(light)) if light and min(light) < (1.0 - STEADY) * max(light) else None

    @property
    def peak(self) -> float:
        """The most light of any window, in cd/m²."""
        return max(light for _, light in self.peaks)

    @property
    def full(self) -> float:
        """The light of the largest window, in cd/m²."""
        return self.peaks[-1][1]

    @property
    def falls_by(self) -> float:
        """The share of its first light that it has lost at the end of being held."""
        if len(self.held) < 2:
            return 0.0
        return max(0.0, 1.0 - self.held[-1][1] / self.held[0][1])

    @property
    def window(self) -> float:
        """The window for greys: the usual one, or the largest below it that gives what smaller ones give, and holds it."""
        steady = [area for area, light in self.peaks if area <= USUAL and light >= (1.0 - STEADY) * self._best(area)]
        return max(steady, default=self.peaks[0][0])

    def _best(self, area: float) -> float:
        return max(light for other, light in self.peaks if other <= area)

    @property
    def judged_to(self) -> float:
        """The luminance in cd/m² up to which patches can be judged: where it still follows, or its peak at that window."""
        at = dict(self.peaks).get(self.window, self.peak)
        return min(self.roll.follows_to, at) if self.roll is not None else at

    @property
    def says(self) -> list[str]:
        """What is to be said of it, in sentences."""
        told = [f"It gives {self.peak:.0f} cd/m² at most, {self.full:.0f} over the whole screen."]
        if self.falls_by > FALLS:
            lost = f"Held for {self.held[-1][0]:.0f} s it loses {100 * self.falls_by:.0f} %"
            told.append(f"{lost}: read bright patches short, with rests between.")
        elif len(self.held) > 1:
            told.append(f"It holds its peak for {self.held[-1][0]:.0f} s.")
        if self.roll is not None:
            told.append(f"It follows the signal to {self.roll.follows_to:.0f} cd/m² and rolls off from there.")
        if self.bends is not None:
            low, high = self.bends
            told.append(f"One grey gives {low:.0f} to {high:.0f} cd/m² as the lit area grows: mapping or dimming follows it.")
        told.append(f"It covers {100 * self.covers[0]:.0f} % of P3 and {100 * self.covers[1]:.0f} % of BT.2020.")
        return told


def ability_of(
    peaks: Sequence[tuple[float, float]], held: Sequence[tuple[float, float]], greys: Sequence[tuple[float, float]],
    primaries: ArrayLike, black: float, *, black_is_bound: bool = False, same: Sequence[tuple[float, float]] = (),
) -> Ability:  # fmt: skip
    """Return what a display can do.

    ``peaks``: windows and cd/m²; ``held``: seconds since the first and cd/m²; ``greys``: PQ signals and cd/m²; ``primaries``: XYZ
    (3, 3) of red, green, blue at full drive; ``black`` in cd/m². Raises ValueError without a window.
    """
    if not peaks:
        raise ValueError("No window was read.")
    corners: Floats = xyz_to_uv(np.asarray(primaries, dtype=np.float64))
    covers = coverage(corners, P3D65), coverage(corners, BT2020)
    dark = 0.0 if black_is_bound else black
    roll = roll_off_of([s for s, _ in greys], [light for _, light in greys], dark) if len(greys) > 4 else None
    return Ability(tuple(sorted(peaks)), tuple(sorted(held)), black, black_is_bound, covers, roll, tuple(sorted(same)))
