"""A stand-in eye: a person whose colour matching differs from the observer of 1931, and who says how two whites differ."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour.science import WAVELENGTHS_NM, daylight_65, observer
from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.measure.matching import GREEN, JUST_NOTICED, YELLOW
from fenvik.core.types import Floats

SHIFTED_NM, NARROWER = 1.2, 0.015  # how far people differ, one deviation


@dataclass(frozen=True)
class Look:
    """How a white looks beside another: towards yellow and towards green, in u′v′ of this eye."""

    yellow: float
    green: float

    @property
    def says(self) -> str:
        """What is said of it: the stronger of the two differences, or that there is none."""
        if np.hypot(self.yellow, self.green) < JUST_NOTICED:
            return "the same"
        if abs(self.yellow) > abs(self.green):
            return "yellower" if self.yellow > 0 else "bluer"
        return "greener" if self.green > 0 else "more magenta"


class Eye:
    """Colour matching functions near those of CIE 2015 for large fields, each a little aside, as with every person."""

    def __init__(self, seed: int = 7) -> None:
        draw = np.random.default_rng(seed)
        base = observer("CIE 2015 10°")
        self.functions: Floats = np.empty_like(base)
        for i in range(3):
            centre = WAVELENGTHS_NM[int(np.argmax(base[:, i]))]
            shift, narrower = draw.normal(0.0, SHIFTED_NM), 1.0 + draw.normal(0.0, NARROWER)
            self.functions[:, i] = np.interp(centre + (WAVELENGTHS_NM - centre - shift) * narrower, WAVELENGTHS_NM, base[:, i])
        wanted = np.array([0.95047, 1.0, 1.08883])
        self.functions *= wanted / (daylight_65() @ self.functions)  # adapted to daylight

    def uv(self, spectrum: ArrayLike) -> Floats:
        """Return u′v′ of a spectrum at WAVELENGTHS_NM (401,) as this eye has it."""
        seen: Floats = xyz_to_uv(np.asarray(spectrum, dtype=np.float64) @ self.functions)
        return seen

    def compare(self, reference: ArrayLike, other: ArrayLike) -> Look:
        """Return how a light looks beside a reference."""
        apart = self.uv(other) - self.uv(reference)
        return Look(float(apart @ YELLOW), float(apart @ GREEN))
