"""What a tuning aims at: primaries, white, transfer curve, luminance, tolerance."""

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core import curves
from fenvik.core.colourspace import BT709, BT2020, D65_XY, P3D65, XY, Primaries, rgb_to_xyz_matrix
from fenvik.core.types import Floats

Curve = Literal["bt1886", "power", "srgb", "pq", "hlg"]
ABSOLUTE: tuple[Curve, ...] = ("pq",)


@dataclass(frozen=True)
class Target:
    """``gamma`` counts for the curve "power"; ``tolerance`` is in CIEDE2000, for PQ and HLG in ΔE ITP."""

    name: str
    primaries: Primaries = BT709
    white_xy: XY = D65_XY
    curve: Curve = "bt1886"
    gamma: float = curves.BT1886_GAMMA
    tolerance: float = 1.0
    rolls_off: bool = False  # PQ: by BT.2390 from the mastering range to the display's, instead of clipping at its peak
    mastered: tuple[float, float] = (1000.0, 0.005)  # cd/m², most and least of the mastering display

    @property
    def is_hdr(self) -> bool:
        """Whether differences are told as ΔE ITP."""
        return self.curve in ("pq", "hlg")

    @cached_property
    def matrix(self) -> Floats:
        """Linear RGB to XYZ, Y = 1 at white."""
        return rgb_to_xyz_matrix(self.primaries, self.white_xy)

    @cached_property
    def inverse_matrix(self) -> Floats:
        """XYZ to linear RGB."""
        inverse: Floats = np.asarray(np.linalg.inv(self.matrix), dtype=np.float64)
        return inverse

    @cached_property
    def white(self) -> Floats:
        """XYZ of the target's white at Y = 1, shape (3,)."""
        white: Floats = self.matrix.sum(axis=1)
        return white

    def light(self, fraction: ArrayLike, white: float, black: float) -> Floats:
        """Return each channel's light in cd/m² of white for signal fractions, any shape."""
        match self.curve:
            case "bt1886":
                return curves.bt1886(fraction, white, black)
            case "srgb":
                return curves.srgb(fraction, white)
            case "pq":
                if self.rolls_off:
                    return curves.pq(curves.roll_off(fraction, white, black, self.mastered))
                return np.minimum(curves.pq(fraction), white)
            case "hlg":
                return curves.hlg(fraction, white, black)
        return curves.power(fraction, self.gamma, white)

    def fraction(self, light: ArrayLike, white: float, black: float) -> Floats:
        """Return the signal fraction at which the target's curve gives this light: the inverse of ``light``."""
        match self.curve:
            case "bt1886":
                return curves.bt1886_inverse(light, white, black)
            case "srgb":
                return curves.srgb_inverse(light, white)
            case "pq":
                return curves.pq_inverse(light)
            case "hlg":
                return curves.hlg_inverse(light, white, black)
        return curves.power_inverse(light, self.gamma, white)

    def xyz(self, rgb: ArrayLike, white: float, black: float) -> Floats:
        """Return the absolute XYZ that signal fractions (..., 3) should give, in cd/m².

        ``white``, ``black``: measured luminances of 100 % and 0 %. BT.1886 is applied to each channel; HLG's system gamma
        to the luminance of the three together.
        """
        if self.curve == "hlg":
            scene = curves.hlg_scene(rgb, white, black)
            luminance = scene @ self.matrix[1]
            gain = np.where(luminance > 0, np.maximum(luminance, 1e-12) ** (curves.hlg_gamma(white) - 1.0), 0.0)
            lit: Floats = white * (gain[..., None] * scene) @ self.matrix.T
            return lit
        linear = self.light(rgb, white, black)
        if self.curve == "pq" and self.primaries == P3D65:  # a P3 picture in a BT.2020 container: the codes are BT.2020
            linear = np.clip(linear @ rgb_to_xyz_matrix(BT2020, D65_XY).T @ self.inverse_matrix.T, 0.0, white)
        result: Floats = linear @ self.matrix.T
        return result


TARGETS = {
    "bt709-bt1886": Target("bt709-bt1886"),
    "bt709-2.2": Target("bt709-2.2", curve="power", gamma=2.2),
    "bt709-2.4": Target("bt709-2.4", curve="power", gamma=2.4),
    "p3d65-2.6": Target("p3d65-2.6", P3D65, curve="power", gamma=2.6),
    "bt2020-pq": Target("bt2020-pq", BT2020, curve="pq", tolerance=3.0),
    "p3d65-pq": Target("p3d65-pq", P3D65, curve="pq", tolerance=3.0),
    "bt2020-hlg": Target("bt2020-hlg", BT2020, curve="hlg", tolerance=3.0),
}
