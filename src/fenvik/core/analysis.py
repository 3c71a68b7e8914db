"""What the readings of a pass say, against a target: the figures behind every chart and sentence."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fenvik.core import greyscale, uncertainty
from fenvik.core.colourspace import xyz_to_uv, xyz_to_xy
from fenvik.core.errors import NoWhiteError, ShapeError
from fenvik.core.science import cct_and_duv
from fenvik.core.signal import Range, decode
from fenvik.core.target import Target
from fenvik.core.types import Bools, Floats, Ints
from fenvik.core.uncertainty import Repeatability


@dataclass(frozen=True)
class Readings:
    """Readings of one meter: codes (n, 3), absolute XYZ (n, 3) in cd/m², averages (n,), labels."""

    codes: Ints
    xyz: Floats
    bits: int
    range: Range
    labels: tuple[str, ...]
    average: Floats
    repeatability: Repeatability | None = None
    floor: float = 0.0  # the meter's, in cd/m²
    systematic: tuple[float, float, float] | None = None  # how far a correction may be off: std of Y relative, x, y

    def __post_init__(self) -> None:
        if self.codes.ndim != 2 or self.codes.shape[1] != 3 or self.codes.shape != self.xyz.shape:
            raise ShapeError(self.xyz.shape, "(n, 3), as the codes")

    @cached_property
    def fraction(self) -> Floats:
        """Signal fractions (n, 3), not clamped."""
        return decode(self.codes, self.bits, self.range)

    @cached_property
    def neutral(self) -> Bools:
        """Which patches have three equal codes."""
        first = self.codes[:, :1]
        result: Bools = (self.codes == first).all(axis=1)
        return result

    @cached_property
    def covariance(self) -> Floats:
        """Covariance of each XYZ (n, 3, 3); zero where the meter's noise is not known."""
        known = np.zeros((*self.xyz.shape, 3))
        if self.repeatability is not None:
            known = self.repeatability.covariance(self.xyz, self.average)
        if self.systematic is not None:
            # It does not get smaller with averages, and is the same for every reading; here it is counted for each alone.
            known = known + Repeatability.of([(1.0, *self.systematic)]).covariance(self.xyz)
        return known

    def mean_at(self, level: float) -> Floats | None:
        """Return the mean XYZ of the greys whose signal is exactly this fraction, or None without one."""
        there = self.neutral & (self.fraction[:, 0] == level)
        return self.xyz[there].mean(axis=0) if there.any() else None


@dataclass(frozen=True)
class Errors:
    """A difference for every reading, and its std, both (n,)."""

    value: Floats
    std: Floats

    @property
    def upper(self) -> Floats:
        """The upper end of the 95 % interval."""
        return uncertainty.interval_95(self.value, self.std)[1]


@dataclass(frozen=True)
class Analysis:
    """Every figure of a set of readings. Arrays keep the order of the readings; n of them."""

    readings: Readings
    target: Target
    white: Floats  # measured XYZ of 100 %
    black: Floats | None  # measured XYZ of 0 %
    target_xyz: Floats
    whole: Errors
    colour_only: Errors
    balance: Floats  # (n, 3) percent
    balance_std: Floats
    gamma: Floats
    gamma_std: Floats
    target_gamma: Floats
    luminance_error: Floats  # fraction
    luminance_std: Floats

    @property
    def black_luminance(self) -> float:
        """The black that BT.1886 counts with: measured, or 0."""
        return 0.0 if self.black is None else max(float(self.black[1]), 0.0)

    @cached_property
    def cct_and_duv(self) -> tuple[Floats, Floats]:
        """CCT in kelvin and Duv of each reading; computed when asked for, since it costs more than all the rest."""
        return cct_and_duv(self.readings.xyz)

    @cached_property
    def xy(self) -> Floats:
        """Chromaticities (n, 2)."""
        return xyz_to_xy(self.readings.xyz)

    @cached_property
    def uv(self) -> Floats:
        """u′v′ (n, 2)."""
        return xyz_to_uv(self.readings.xyz)

    @cached_property
    def target_uv(self) -> Floats:
        """u′v′ of the targets (n, 2); white's where the target has no light."""
        dark = self.target_xyz[:, 1:2] <= 0
        return xyz_to_uv(np.where(dark, self.target.white, self.target_xyz))

    @property
    def grey(self) -> Bools:
        """Greys from 0 to 100 %: what the greyscale's figures are made of."""
        level = self.readings.fraction[:, 0]
        result: Bools = self.readings.neutral & (level >= 0) & (level <= 1)
        return result

    @property
    def lit_grey(self) -> Bools:
        """Greys above 0 % that gave light: what a balance can be told of."""
        result: Bools = self.grey & (self.readings.fraction[:, 0] > 0) & (self.readings.xyz[:, 1] > 0)
        return result

    @property
    def coloured(self) -> Bools:
        """Every patch that is not grey."""
        result: Bools = ~self.readings.neutral
        return result

    @cached_property
    def contrast(self) -> tuple[float, bool] | None:
        """White over black and whether it is a lower bound; None without a black reading."""
        if self.black is None:
            return None
        return greyscale.contrast(float(self.white[1]), float(self.black[1]), max(self.readings.floor, 1e-6))

    def _mean_covariance(self, level: float) -> Floats:
        """Covariance (3, 3) of the mean XYZ of the greys at a fraction of signal; zero where there is none."""
        there = self.readings.neutral & (self.readings.fraction[:, 0] == level)
        count = int(there.sum())
        if not count:
            return np.zeros((3, 3))
        result: Floats = self.readings.covariance[there].sum(axis=0) / count**2
        return result

    @cached_property
    def contrast_std(self) -> float:
        """Standard deviation of the contrast; NaN without one, and where it is only a lower bound."""
        known = self.contrast
        if known is None or self.black is None or known[1]:
            return float("nan")
        parts = [
            self._mean_covariance(level)[1, 1] / float(xyz[1]) ** 2
            for level, xyz in ((1.0, self.white), (0.0, self.black))
        ]
        return known[0] * float(np.sqrt(sum(parts)))

    @cached_property
    def white_cct_and_duv(self) -> tuple[float, float, float, float]:
        """CCT in kelvin and Duv of white, then the standard deviation of each; NaN where there is no temperature."""
        white = self.white[None]
        covariance = self._mean_covariance(1.0)[None]

        def both(values: Floats) -> Floats:
            return np.stack(cct_and_duv(values), axis=-1)

        cct, duv = both(white)[0]
        cct_std, duv_std = uncertainty.propagate(both, white, covariance)[0]
        return float(cct), float(duv), float(cct_std), float(duv_std)

    @cached_property
    def mean_gamma(self) -> float:
        """Mean effective gamma of the greys between 0 and 100 %; NaN without one."""
        known = self.gamma[self.grey & np.isfinite(self.gamma)]
        return float(known.mean()) if known.size else float("nan")


def analyse(
    readings: Readings, target: Target, *, white: Floats | None = None, black: Floats | None = None
) -> Analysis:
    """Hold readings against a target, by the target's own metric. Source of every rule: docs/colour.md.

    ``white``, ``black``: XYZ of 100 % and 0 % to use where the readings have none of their own, for example the newest
    of the same tuning. Raises NoWhiteError where there is neither.
    """
    measured_white = readings.mean_at(1.0)
    measured_white = white if measured_white is None else measured_white
    if measured_white is None or measured_white[1] <= 0:
        raise NoWhiteError
    measured_black = readings.mean_at(0.0)
    measured_black = black if measured_black is None else measured_black
    white_y = float(measured_white[1])
    black_y = 0.0 if measured_black is None else max(float(measured_black[1]), 0.0)
    target_xyz = target.xyz(readings.fraction, white_y, black_y)
    lab_white = target.white * white_y
    xyz, covariance = readings.xyz, readings.covariance

    def whole(values: Floats) -> Floats:
        return target.metric.whole(target_xyz, values, lab_white)

    def colour_only(values: Floats) -> Floats:
        return target.metric.colour_only(target_xyz, values, lab_white)

    def balance(values: Floats) -> Floats:
        return greyscale.balance(values, target)

    level = readings.fraction[:, 0]
    grey_level = np.where(readings.neutral, level, np.nan)

    def gamma(values: Floats) -> Floats:
        return greyscale.effective_gamma(values[..., 1], grey_level, white_y)

    with np.errstate(divide="ignore", invalid="ignore"):
        luminance_error = np.where(target_xyz[:, 1] > 0, xyz[:, 1] / target_xyz[:, 1] - 1.0, np.nan)
        luminance_std = np.where(target_xyz[:, 1] > 0, np.sqrt(covariance[:, 1, 1]) / target_xyz[:, 1], np.nan)
    return Analysis(
        readings=readings,
        target=target,
        white=measured_white,
        black=measured_black,
        target_xyz=target_xyz,
        whole=Errors(whole(xyz), uncertainty.length_std(whole, xyz, covariance)),
        colour_only=Errors(colour_only(xyz), uncertainty.length_std(colour_only, xyz, covariance)),
        balance=balance(xyz),
        balance_std=uncertainty.propagate(balance, xyz, covariance),
        gamma=gamma(xyz),
        gamma_std=uncertainty.propagate(gamma, xyz, covariance),
        target_gamma=greyscale.effective_gamma(target_xyz[:, 1], grey_level, white_y),
        luminance_error=luminance_error,
        luminance_std=luminance_std,
    )
