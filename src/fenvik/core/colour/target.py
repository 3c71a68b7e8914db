"""What a tuning aims at: primaries, white, transfer curve, luminance, tolerance."""

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour import curves
from fenvik.core.colour.metric import DE2000, DE_ITP, Metric
from fenvik.core.colour.space import BT709, BT2020, D65_XY, P3D65, XY, Primaries, rgb_to_xyz_matrix
from fenvik.core.colour.unread import usual_black
from fenvik.core.types import Floats

Curve = Literal["bt1886", "power", "srgb", "pq", "hlg"]
# What BT.2390's roll-off bends: each light by itself, or all three alike, by the greatest of them or by their luminance.
RolledBy = Literal["light", "greatest", "luminance"]
DIFFUSE_CD_M2 = 203.0  # HDR's reference white. Source: BT.2408-7, 2.2
ABSOLUTE: tuple[Curve, ...] = ("pq",)
FROM_BLACK: tuple[Curve, ...] = ("bt1886", "hlg")  # what they want of every level hangs on the display's black
NO_LIGHT = 1e-6  # cd/m²


@dataclass(frozen=True)
class Target:
    """``gamma`` counts for the curve "power"; ``tolerance`` is in the unit of ``metric``: CIEDE2000, for PQ and HLG ΔE ITP.

    PQ and HLG signals are BT.2020: other primaries are a picture of that gamut in a BT.2020 container.
    """

    name: str
    primaries: Primaries = BT709
    white_xy: XY = D65_XY
    curve: Curve = "bt1886"
    gamma: float = curves.BT1886_GAMMA
    tolerance: float = 1.0
    rolls_off: bool = False  # PQ: by BT.2390 from the mastering range to the display's, instead of clipping at its peak
    mastered: tuple[float, float] = (1000.0, 0.005)  # cd/m², most and least of the mastering display
    rolled_by: RolledBy = "light"
    # PQ: points of signal in and out, both rising: as it is up to the first, straight between, even after the last.
    knees: tuple[tuple[float, float], ...] = ()
    # PQ: cd/m² that the film's reference white becomes, and every light in proportion, before it ends; None for as the film says.
    diffuse: float | None = None
    # BT.1886 and HLG: what the black is taken for where it was too dark to read: its usual share of white, 0 where that is none or
    # not known; and the meter's floor in cd/m².
    unread: tuple[float, float] = (0.0, 0.0)

    @property
    def is_hdr(self) -> bool:
        """Whether differences are told as ΔE ITP."""
        return self.curve in ("pq", "hlg")

    @property
    def metric(self) -> Metric:
        """What it is judged by."""
        return DE_ITP if self.is_hdr else DE2000

    @cached_property
    def unrolled(self) -> "Target":
        """The same target without an end: each light by what the standard gives for it, as far as the signal goes."""
        return replace(self, rolls_off=False, knees=())

    @property
    def plain(self) -> "Target":
        """What the signal says by itself, without an end and without a reference white of its own: what a display is driven by."""
        return replace(self, rolls_off=False, knees=(), diffuse=None)

    @property
    def ends_otherwise(self) -> bool:
        """Whether less may be wanted of a signal than it says, where a display shows its peak already."""
        return self != self.plain

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

    @cached_property
    def from_container(self) -> Floats | None:
        """Linear RGB of the signal to linear RGB of the primaries (3, 3); None where the signal has these primaries."""
        if not self.is_hdr or self.primaries == BT2020:
            return None
        made: Floats = self.inverse_matrix @ rgb_to_xyz_matrix(BT2020, self.white_xy)
        return made

    @property
    def share(self) -> float:
        """How much of each light that the film says is wanted: less than 1 where a dim display has a reference white of its own."""
        return 1.0 if self.diffuse is None else self.diffuse / DIFFUSE_CD_M2

    def counted(self, white: ArrayLike, black: ArrayLike) -> Floats:
        """Return the black in cd/m² that is counted with beside a measured white and black: the usual one where that is 0."""
        measured = np.asarray(black, dtype=np.float64)
        if not self.unread[0] or self.curve not in FROM_BLACK:
            return measured
        return np.where(measured > 0.0, measured, usual_black(white, *self.unread))

    def light(self, fraction: ArrayLike, white: ArrayLike, black: ArrayLike) -> Floats:
        """Return each channel's light in cd/m² of white for signal fractions, any shape, with which white and black broadcast."""
        match self.curve:
            case "bt1886":
                return curves.bt1886(fraction, white, self.counted(white, black))
            case "srgb":
                return curves.srgb(fraction, white)
            case "pq":
                return np.minimum(self._pq(fraction, white, black), white)
            case "hlg":
                return curves.hlg(fraction, white, self.counted(white, black))
        return curves.power(fraction, self.gamma, white)

    def _pq(self, fraction: ArrayLike, white: ArrayLike, black: ArrayLike) -> Floats:
        """PQ's light, of each channel by itself, before it meets the display's peak."""
        v = np.clip(np.asarray(fraction, dtype=np.float64), 0.0, 1.0)
        if self.diffuse is not None:
            v = curves.pq_inverse(self.share * curves.pq(v))
        if self.knees:
            return curves.pq(curves.bent(v, self.knees))
        return curves.pq(curves.roll_off(v, white, black, self._range) if self.rolls_off else v)

    @property
    def _range(self) -> tuple[float, float]:
        """The mastering range in the light that is wanted."""
        return self.mastered[0] * self.share, self.mastered[1] * self.share

    def _pq_together(self, rgb: ArrayLike, white: Floats, black: Floats) -> Floats:
        """PQ's light of three channels (..., 3) that are rolled off alike: their proportions stay."""
        asked = replace(self, rolls_off=False)._pq(rgb, white, black)
        leads = self._leading(asked)
        rolled = curves.pq(curves.roll_off(curves.pq_inverse(leads), white, black, self._range))
        result: Floats = np.where(leads > NO_LIGHT, asked * rolled / np.maximum(leads, NO_LIGHT), rolled)
        return result

    def _leading(self, light: Floats) -> Floats:
        """What all three channels (..., 3) are rolled off by, shape (..., 1)."""
        leads: Floats = light.max(axis=-1) if self.rolled_by == "greatest" else light @ self._signal_matrix[1]
        return leads[..., None]

    def fraction(self, light: ArrayLike, white: ArrayLike, black: ArrayLike) -> Floats:
        """Return the signal fraction at which the target's curve gives this light: the inverse of ``light``."""
        match self.curve:
            case "bt1886":
                return curves.bt1886_inverse(light, white, self.counted(white, black))
            case "srgb":
                return curves.srgb_inverse(light, white)
            case "pq":
                signal = curves.pq_inverse(light)
                if self.knees:
                    signal = curves.bent_inverse(signal, self.knees)
                elif self.rolls_off:
                    signal = curves.roll_off_inverse(signal, white, black, self._range)
                return signal if self.diffuse is None else curves.pq_inverse(curves.pq(signal) / self.share)
            case "hlg":
                return curves.hlg_inverse(light, white, self.counted(white, black))
        return curves.power_inverse(light, self.gamma, white)

    def xyz(self, rgb: ArrayLike, white: ArrayLike, black: ArrayLike) -> Floats:
        """Return the absolute XYZ that signal fractions (..., 3) should give, in cd/m²; the one place where a target is made.

        ``white``, ``black``: measured luminances of 100 % and 0 %, numbers or shapes that broadcast with the colours'. BT.1886 is
        applied to each channel, and goes on above 100 %; HLG's system gamma to the luminance of the three together. PQ is cut
        off at the peak light by light, in the primaries of the target.
        """
        top, floor = np.asarray(white, dtype=np.float64)[..., None], np.asarray(black, dtype=np.float64)[..., None]
        if self.curve == "hlg":
            linear = self._hlg_light(rgb, top, floor)
        elif self.curve == "pq":
            linear = self._pq_together(rgb, top, floor) if self._ends_together else self._pq(rgb, top, floor)
        else:
            linear = self.light(rgb, top, floor)
        if self.from_container is not None:
            linear = linear @ self.from_container.T
        if self.curve == "pq" or self.from_container is not None:
            linear = np.clip(linear, 0.0, top)
        result: Floats = linear @ self.matrix.T
        return result

    @property
    def _ends_together(self) -> bool:
        return self.rolls_off and not self.knees and self.rolled_by != "light"

    def _hlg_light(self, rgb: ArrayLike, top: Floats, floor: Floats) -> Floats:
        scene = curves.hlg_scene(rgb, top, self.counted(top, floor))
        luminance = (scene @ self._signal_matrix[1])[..., None]
        gain = np.where(luminance > 0, np.maximum(luminance, 1e-12) ** (curves.hlg_gamma(top) - 1.0), 0.0)
        lit: Floats = top * gain * scene
        return lit

    @property
    def signal_matrix(self) -> Floats:
        """Linear RGB of the signal to XYZ, Y = 1 at white: of the container, which for HDR is BT.2020."""
        return self._signal_matrix

    @cached_property
    def _signal_matrix(self) -> Floats:
        """Linear RGB of the signal to XYZ, Y = 1 at white."""
        return rgb_to_xyz_matrix(BT2020, self.white_xy) if self.is_hdr else self.matrix

    def drive(self, xyz: ArrayLike, white: ArrayLike, black: ArrayLike) -> Floats:
        """Return the signal fractions (..., 3) that give XYZ (..., 3): the inverse of ``xyz`` within the target's reach.

        Light of less than none in a channel counts as none; with BT.1886 that lies below 0.
        """
        top, floor = np.asarray(white, dtype=np.float64)[..., None], np.asarray(black, dtype=np.float64)[..., None]
        linear = np.asarray(xyz, dtype=np.float64) @ self._signal_inverse.T
        if self.curve == "pq" and self._ends_together:
            lit = np.maximum(linear, 0.0)
            leads = self._leading(lit)
            asked = curves.pq(curves.roll_off_inverse(curves.pq_inverse(leads), top, floor, self._range))
            lit = np.where(leads > NO_LIGHT, lit * asked / np.maximum(leads, NO_LIGHT), asked)
            return replace(self, rolls_off=False).fraction(lit, top, floor)
        if self.curve != "hlg":
            return self.fraction(linear, top, floor)
        lit = np.maximum(linear, 0.0) / top
        luminance = (lit @ self._signal_matrix[1])[..., None]
        power = 1.0 / curves.hlg_gamma(top) - 1.0
        scene = lit * np.where(luminance > 0, np.maximum(luminance, 1e-12) ** power, 0.0)
        return curves.hlg_signal(scene, top, self.counted(top, floor))

    @cached_property
    def _signal_inverse(self) -> Floats:
        inverse: Floats = np.asarray(np.linalg.inv(self._signal_matrix), dtype=np.float64)
        return inverse


TARGETS = {
    "bt709-bt1886": Target("bt709-bt1886"),
    "bt709-2.2": Target("bt709-2.2", curve="power", gamma=2.2),
    "bt709-2.4": Target("bt709-2.4", curve="power", gamma=2.4),
    "p3d65-2.6": Target("p3d65-2.6", P3D65, curve="power", gamma=2.6),
    "bt2020-pq": Target("bt2020-pq", BT2020, curve="pq", tolerance=3.0),
    "p3d65-pq": Target("p3d65-pq", P3D65, curve="pq", tolerance=3.0),
    "bt2020-hlg": Target("bt2020-hlg", BT2020, curve="hlg", tolerance=3.0),
}
