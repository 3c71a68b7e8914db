"""What the readings of a pass say, against a target: the figures behind every chart and sentence."""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from fenvik.core.analysis import greyscale
from fenvik.core.analysis.volume import Model
from fenvik.core.colour import curves
from fenvik.core.colour.science import cct_and_duv
from fenvik.core.colour.space import xyz_to_uv, xyz_to_xy
from fenvik.core.colour.target import Target
from fenvik.core.errors import NoWhiteError, ShapeError
from fenvik.core.measure import uncertainty
from fenvik.core.measure.uncertainty import Repeatability, chromatic_shift
from fenvik.core.signal.decoding import Range, decode
from fenvik.core.types import Bools, Floats, Ints


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
    dark: Bools | None = None  # (n,): too dark for the meter to read, their light is less than its floor; None for none
    shared: Floats | None = None  # (n, 3, k): relative deviations of X, Y, Z that readings share, each column one source of them
    beside: Bools | None = None  # (n,): of the picture, but no levels that averages are made of; None for none

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
    def own_noise(self) -> Floats:
        """Covariance of each XYZ (n, 3, 3) by the meter's noise, which no other reading shares; zero where it is not known."""
        if self.repeatability is None:
            return np.zeros((*self.xyz.shape, 3))
        return self.repeatability.covariance(self.xyz, self.average, self.floor)

    @cached_property
    def noise(self) -> Floats:
        """Covariance of each XYZ (n, 3, 3) by the meter's noise and that of the whites for drift."""
        known = self.own_noise
        if self.shared is not None:
            moved = self.xyz[:, :, None] * self.shared
            known = known + moved @ np.swapaxes(moved, -1, -2)
        return known

    @cached_property
    def shift(self) -> Floats:
        """How far each XYZ (n, 3, 3) is off by one deviation of a correction's Y, x and y: columns that all readings share."""
        if self.systematic is None:
            return np.zeros((*self.xyz.shape, 3))
        columns = [np.where(np.arange(3) == i, self.systematic, 0.0) for i in range(3)]
        made = [chromatic_shift(self.xyz, *column) for column in columns]
        return np.stack(made, axis=-1)

    @cached_property
    def covariance(self) -> Floats:
        """Covariance of each XYZ (n, 3, 3) taken by itself, a correction's part with it; that does not shrink with averages."""
        result: Floats = self.noise + self.shift @ np.swapaxes(self.shift, -1, -2)
        return result

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
    apart_std: Floats  # (n,) of a reading's luminance less its target's, in cd/m²
    unread: float = 0.0  # cd/m² that a black that was too dark to read usually is, with which dark levels would be wanted brighter

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

    @cached_property
    def counted(self) -> Bools:
        """What averages are made of: not the levels that were read beside the standard's."""
        known = self.readings.beside
        return np.ones(len(self.readings.labels), dtype=bool) if known is None else ~known

    @cached_property
    def beyond_end(self) -> Bools:
        """Greys that ask for more light than the peak that was read, where the target ends there too: counted apart.

        Of a target that rolls off there are none: it says how a display is to end.
        """
        target = self.target
        if target.curve != "pq" or target.rolls_off or target.knees:
            return np.zeros(len(self.readings.labels), dtype=bool)
        asked = target.unrolled.xyz(self.readings.fraction, curves.PQ_PEAK_CD_M2, 0.0)[:, 1]
        result: Bools = self.grey & (asked > self.white[1])
        return result

    @property
    def graded(self) -> Bools:
        """Lit greys that the greyscale's figures are made of."""
        result: Bools = self.lit_grey & self.counted & ~self.beyond_end
        return result

    @property
    def graded_whole(self) -> Bools:
        """Greys that its figures with luminance are made of: black too, but for an absolute target, where it stands apart."""
        result: Bools = self.grey & self.counted & ~self.beyond_end
        return result & (self.readings.fraction[:, 0] > 0) if self.target.is_hdr else result

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
    def primaries(self) -> Floats | None:
        """Measured XYZ (3, 3) of full red, green and blue; None where one of them was not read or gave no light."""
        found = []
        for light in np.eye(3):
            there = (self.readings.fraction == light).all(axis=1)
            if not there.any():
                return None
            found.append(self.readings.xyz[there].mean(axis=0))
        three = np.array(found)
        return None if (three.sum(axis=1) <= 0).any() else three

    @cached_property
    def out_of_reach(self) -> Bools:
        """Colours of an absolute target that the display was read not to be able to give: counted apart, never in an average.

        In SDR nothing is: there it is what the controls are for.
        """
        none = np.zeros(len(self.readings.labels), dtype=bool)
        if not self.target.is_hdr or self.primaries is None:
            return none
        black = np.zeros(3) if self.black is None else np.minimum(self.black, self.primaries.min(axis=0))
        return self.coloured & Model(self.primaries, self.white, black).out_of_reach(self.target_xyz)

    @property
    def judged(self) -> Bools:
        """The colours that averages are made of."""
        result: Bools = self.coloured & ~self.out_of_reach
        return result

    @cached_property
    def contrast(self) -> tuple[float, bool] | None:
        """White over black and whether it is a lower bound; None without a black reading."""
        if self.black is None:
            return None
        floor = max(self.readings.floor, 1e-6)
        white, black = float(self.white[1]), float(self.black[1])
        if self.black_is_bound:
            return white / max(black, floor), True
        return greyscale.contrast(white, black, floor)

    @cached_property
    def black_is_bound(self) -> bool:
        """Whether black is only known to be less than something: it was too dark to read, or reads below the meter's floor."""
        if self.black is None:
            return False
        there = self.readings.neutral & (self.readings.fraction[:, 0] == 0.0)
        dark = self.readings.dark is not None and bool((self.readings.dark & there).any())
        return dark or float(self.black[1]) < max(self.readings.floor, 1e-6)

    def mean_covariance(self, level: float) -> Floats:
        """Covariance (3, 3) of the mean XYZ of the greys at a fraction of signal; zero where there is none."""
        return _mean_covariance(self.readings, level)

    def mean_noise(self, level: float) -> Floats:
        """The same by noise alone, without the correction's part."""
        return _mean_covariance(self.readings, level, shift=False)

    @cached_property
    def contrast_std(self) -> float:
        """Standard deviation of the contrast; NaN without one, and where it is only a lower bound."""
        known = self.contrast
        if known is None or self.black is None or known[1]:
            return float("nan")
        parts = [
            self.mean_noise(level)[1, 1] / float(xyz[1]) ** 2  # a correction's factor is in both, and cancels
            for level, xyz in ((1.0, self.white), (0.0, self.black))
        ]
        return known[0] * float(np.sqrt(sum(parts)))

    @cached_property
    def white_cct_and_duv(self) -> tuple[float, float, float, float]:
        """CCT in kelvin and Duv of white, then the standard deviation of each; NaN where there is no temperature."""
        return self._white_with(self.mean_covariance(1.0))

    @cached_property
    def white_by_noise(self) -> tuple[float, float, float, float]:
        """The same with the deviations that noise alone makes."""
        return self._white_with(self.mean_noise(1.0))

    def _white_with(self, of_white: Floats) -> tuple[float, float, float, float]:
        white, covariance = self.white[None], of_white[None]

        def both(values: Floats) -> Floats:
            return np.stack(cct_and_duv(values), axis=-1)

        cct, duv = both(white)[0]
        cct_std, duv_std = uncertainty.propagate(both, white, covariance)[0]
        return float(cct), float(duv), float(cct_std), float(duv_std)

    @cached_property
    def mean_gamma(self) -> float:
        """Mean effective gamma of the greys between 0 and 100 %; NaN without one."""
        known = self.gamma[self.graded & np.isfinite(self.gamma)]
        return float(known.mean()) if known.size else float("nan")


def _mean_covariance(readings: Readings, level: float, *, shift: bool = True) -> Floats:
    there = readings.neutral & (readings.fraction[:, 0] == level)
    count = int(there.sum())
    if not count:
        return np.zeros((3, 3))
    result: Floats = readings.noise[there].sum(axis=0) / count**2
    if shift:
        moved = readings.shift[there].mean(axis=0)
        result = result + moved @ moved.T
    return result


@dataclass(frozen=True)
class _Apart:
    """How sure readings and what they are held against are together, since a target is made of a measured white and black."""

    covariance: Floats  # (n, 3, 3) of reading less target
    white_std: float  # of white's luminance by noise alone, cd/m²


def _apart(readings: Readings, target: Target, white: float, black: float, unread: float) -> _Apart:
    """Return how sure differences are. Source: JCGM 100 (GUM), 5.2: what a reading shares with its own target cancels.

    ``unread``: what a black that was too dark to read may well be: by so much more is wanted of dark levels then.
    """
    noise = readings.noise
    fraction = readings.fraction
    others = np.zeros_like(noise)
    own = np.tile(np.eye(3), (len(fraction), 1, 1))
    stds = {}
    for level, value in ((1.0, white), (0.0, black)):
        there = readings.neutral & (fraction[:, 0] == level)
        count = int(there.sum())
        variance = float(noise[there, 1, 1].sum()) / count**2 if count else 0.0
        stds[level] = np.sqrt(variance)
        if variance <= 0:
            continue
        up, down = float(stds[level]), -min(float(stds[level]), 0.5 * value)  # a black may be none at all
        ends = [(white + s, black) if level == 1.0 else (white, black + s) for s in (up, down)]
        slope = (target.xyz(fraction, *ends[0]) - target.xyz(fraction, *ends[1])) / (up - down)
        share = np.where(there, 1.0 / max(count, 1), 0.0)
        own[:, :, 1] -= slope * share[:, None]
        left = np.maximum(variance - share**2 * noise[:, 1, 1], 0.0)
        others += slope[:, :, None] * slope[:, None, :] * left[:, None, None]
    if unread > 0.0:
        more = target.xyz(fraction, white, unread) - target.xyz(fraction, white, black)
        others += more[:, :, None] * more[:, None, :]
    shift = readings.shift
    covariance = own @ noise @ np.swapaxes(own, -1, -2) + others + shift @ np.swapaxes(shift, -1, -2)
    return _Apart(covariance, float(stds[1.0]))


def analyse(
    readings: Readings, target: Target, *, white: Floats | None = None, black: Floats | None = None
) -> Analysis:
    """Hold readings against a target, by the target's own metric. Source of every rule: docs/colour.md.

    ``white``, ``black``: XYZ of 100 % and 0 % to use where the readings have none of their own, for example the newest
    of the same tuning. Raises NoWhiteError where there is neither. A black that was too dark to read counts as none, whatever
    the target has for it: that is a part of the doubt.
    """
    measured_white = readings.mean_at(1.0)
    measured_white = white if measured_white is None else measured_white
    if measured_white is None or measured_white[1] <= 0:
        raise NoWhiteError
    measured_black = readings.mean_at(0.0)
    measured_black = black if measured_black is None else measured_black
    white_y = float(measured_white[1])
    black_y = 0.0 if measured_black is None else max(float(measured_black[1]), 0.0)
    unread = float(target.counted(white_y, black_y)) if measured_black is not None and black_y <= 0.0 else 0.0
    target = replace(target, unread=(0.0, 0.0))
    target_xyz = target.xyz(readings.fraction, white_y, black_y)
    lab_white = target.white * white_y
    xyz = readings.xyz
    apart = _apart(readings, target, white_y, black_y, unread)
    covariance = apart.covariance

    def whole(values: Floats) -> Floats:
        return target.metric.whole(target_xyz, values, lab_white)

    def colour_only(values: Floats) -> Floats:
        return target.metric.colour_only(target_xyz, values, lab_white)

    def balance(values: Floats) -> Floats:
        return greyscale.balance(values, target)

    level = readings.fraction[:, 0]
    grey_level = np.where(readings.neutral & (not target.is_hdr), level, np.nan)  # an absolute curve has no gamma

    def gamma(values: Floats) -> Floats:
        return greyscale.effective_gamma(values[..., 1], grey_level, white_y)

    with np.errstate(divide="ignore", invalid="ignore"):
        luminance_error = np.where(target_xyz[:, 1] > 0, xyz[:, 1] / target_xyz[:, 1] - 1.0, np.nan)
        luminance_std = np.where(target_xyz[:, 1] > 0, np.sqrt(np.maximum(covariance[:, 1, 1], 0.0)) / target_xyz[:, 1], np.nan)
        # White stands below every effective gamma, with a noise of its own.
        gamma_white = np.abs(apart.white_std / white_y / np.log(np.where((level > 0) & (level != 1), level, np.nan)))
    return Analysis(
        readings=readings,
        target=target,
        white=measured_white,
        black=measured_black,
        target_xyz=target_xyz,
        whole=Errors(whole(xyz), uncertainty.length_std(whole, xyz, covariance)),
        colour_only=Errors(colour_only(xyz), uncertainty.length_std(colour_only, xyz, covariance)),
        balance=balance(xyz),
        balance_std=uncertainty.propagate(balance, xyz, readings.covariance),
        gamma=gamma(xyz),
        gamma_std=np.hypot(uncertainty.propagate(gamma, xyz, readings.noise), gamma_white),
        target_gamma=greyscale.effective_gamma(target_xyz[:, 1], grey_level, white_y),
        luminance_error=luminance_error,
        luminance_std=luminance_std,
        unread=unread,
        apart_std=np.sqrt(np.maximum(covariance[:, 1, 1], 0.0)),
    )
