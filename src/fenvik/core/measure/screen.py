"""Light of a projection screen: area, foot-lamberts, and the lumens that a luminance needs. Source: a diffuser's L = E·g / π."""

import math
from dataclasses import dataclass

FOOT_LAMBERT = 3.4262591  # cd/m²: 1/π candela a square foot
INCH_M = 0.0254
CINEMA_CD_M2 = 48.0  # 14 foot-lamberts: SMPTE ST 431-1's white of a cinema


def foot_lamberts(luminance: float) -> float:
    """Return a luminance in cd/m² as foot-lamberts."""
    return luminance / FOOT_LAMBERT


@dataclass(frozen=True)
class Screen:
    """A screen of a diagonal in inches, its gain (1 for a white matt one), and the ratio of its sides."""

    diagonal_in: float
    gain: float = 1.0
    ratio: float = 16.0 / 9.0

    @property
    def width_m(self) -> float:
        """How wide it is."""
        return self.diagonal_in * INCH_M * self.ratio / math.hypot(self.ratio, 1.0)

    @property
    def area_m2(self) -> float:
        """Its area."""
        return self.width_m**2 / self.ratio

    def lumens(self, luminance: float) -> float:
        """Return the light in lumens that has to fall on it for a luminance in cd/m²."""
        return luminance * math.pi * self.area_m2 / self.gain

    def lux(self, luminance: float) -> float:
        """Return how many lux have to fall on it for a luminance in cd/m²."""
        return luminance * math.pi / self.gain

    def luminance(self, lux: float) -> float:
        """Return the luminance in cd/m² of a place on which so many lux fall, for a meter that faces the lens."""
        return lux * self.gain / math.pi
