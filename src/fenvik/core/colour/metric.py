"""How far one light is from another: the measure that a target is judged by, as a value that whoever judges asks."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour import difference, itp
from fenvik.core.colour.difference import Parts
from fenvik.core.types import Floats


@dataclass(frozen=True)
class Metric:
    """A difference of absolute XYZ (..., 3) from a target's, in cd/m². ``white``: XYZ of the target's white at 100 %.

    ``unit`` is what it is called where figures of it are shown.
    """

    name: Literal["de2000", "de_itp"]
    unit: str
    weight: float = 1.0  # how many of it are as much as one of CIEDE2000, by which moves are weighed

    def whole(self, wanted: ArrayLike, xyz: ArrayLike, white: ArrayLike) -> Floats:
        """Return the difference with luminance, shape (...)."""
        if self.name == "de_itp":
            return itp.delta_itp(wanted, xyz)
        return difference.whole(wanted, xyz, white).total

    def colour_only(self, wanted: ArrayLike, xyz: ArrayLike, white: ArrayLike) -> Floats:
        """Return the difference without luminance, shape (...): the target is scaled to the measured Y."""
        if self.name == "de_itp":
            return itp.delta_itp_colour_only(wanted, xyz)
        return difference.colour_only(wanted, xyz, white).total

    def parts(self, wanted: ArrayLike, xyz: ArrayLike, white: ArrayLike) -> Parts:
        """Return the signed parts of the difference with luminance, each of shape (...)."""
        if self.name == "de_itp":
            return itp.parts(wanted, xyz)
        return difference.whole(wanted, xyz, white)

    def colour_parts(self, wanted: ArrayLike, xyz: ArrayLike, white: ArrayLike) -> Parts:
        """Return the signed parts of the difference without luminance, each of shape (...)."""
        if self.name == "de_itp":
            return itp.parts(itp.at_luminance(wanted, xyz), xyz)
        return difference.colour_only(wanted, xyz, white)


DE2000 = Metric("de2000", "CIEDE2000")
DE_ITP = Metric("de_itp", "ΔE ITP", 3.0)


def neutral_tolerance(metric: Metric, wanted: Floats, matrix: Floats, white: Floats, limit: float) -> Floats:
    """Return how far one light of greys may be off, as a share, before ``colour_only`` reaches a limit, shape (...).

    ``wanted``: XYZ (..., 3) of the greys, ``matrix``: linear RGB to XYZ with Y = 1 at white. The light that shows soonest counts.
    """
    probe = 0.01
    errors = []
    for channel in range(3):
        lights = np.ones(3)
        lights[channel] += probe
        sample = matrix @ lights * wanted[..., 1:2]
        errors.append(metric.colour_only(wanted, sample, white))
    result: Floats = probe * limit / np.maximum(np.max(errors, axis=0), 1e-6)
    return result
