"""The light of a simulated display: from code values to a spectrum, in the order that docs/standins.md tells."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour import curves
from fenvik.core.colour.science import daylight_65, spectrum_to_xyz
from fenvik.core.colour.space import BT709, BT2020, D65_XY, Primaries, rgb_to_xyz_matrix, xyz_to_xy
from fenvik.core.signal.decoding import decode, encode
from fenvik.core.types import Floats
from fenvik.standins.controls import Points, managed
from fenvik.standins.installed import Installs, Panel
from fenvik.standins.menu import OWN_PLAYER, Menu, Value
from fenvik.standins.spectra import with_luminance
from fenvik.standins.world import Picture, World

LIGHTS = ("red", "green", "blue")
LUMA_2020 = np.array([0.2627, 0.6780, 0.0593])
LUMA = np.array([0.2126, 0.7152, 0.0722])
STRETCHED_BELOW = 0.15  # of signal: what black stretch eats
AVERAGED = 8  # a chart's mean is taken over every so many pixels
BELIEVED_OFF = np.array([[0.006, -0.004], [-0.008, 0.006], [0.003, 0.002], [-0.003, 0.0025]])  # of every sample, so of none
BELIEVED_PEAK = 1.3  # times what the panel gives
LIFTS = 0.05  # of signal, in the middle of it, in a black picture
OWN_WHITE = 75.0  # percent of signal, of the white that its own player shows
BRIGHT_ROOM_LUX = 150.0  # at which the ambient sensor lets all light through


@dataclass(frozen=True)
class Build:
    """What a model is like; samples differ from it by their seed."""

    technology: str
    primaries: Floats  # spectra (3, 401), unit luminance each
    light: tuple[float, float]  # cd/m² of white at light 0, and for each step
    leak: float  # of each primary's full light that passes the closed panel
    gammas: dict[str, float]
    energy: dict[str, float]  # how much less light a dark picture gets
    error: dict[str, tuple[Floats, Floats]]  # by mode: scale and shift of the three channels
    gain_step: tuple[float, float, float] = (0.0026, 0.0032, 0.0035)
    offset_step: tuple[float, float, float] = (0.0010, 0.0011, 0.0013)
    panel_levels: int = 1023
    reflectance: float = 0.012
    warm_up_s: float = 14 * 60.0
    cold_loss: float = 0.055  # of the light is missing when switched on
    cold_blue: float = 0.012  # more of blue's light than of the others'
    headroom: float = 0.962  # of the panel's drive at video white with every control at the middle
    emulated: tuple[str, ...] = ()  # the modes that bring the panel's own colours to BT.709
    boost: float = 0.0  # light of a white sub-pixel, beside that of the three
    boost_spectrum: Floats | None = None
    load: tuple[float, float] = (1.0, 0.0)  # mean light from which power is limited, and how hard
    hdr_peak: float = 600.0  # cd/m² at full light
    hdr_knee: float = 0.75  # of the peak, from where HDR is rolled off
    zones: tuple[int, int] | None = None  # of local dimming, across and down
    modulation_hz: tuple[float, float] = (240.0, 120.0)  # of the light, and while black pictures are put between for motion
    ageing: tuple[float, float] = (0.0, 1000.0)  # of the light that is lost in the end, and hours until two thirds of it are
    hours: float = 0.0  # that the sample has been used
    halves_colour: bool = True  # between two pixels, as many displays do
    convergence: tuple[tuple[float, float], tuple[float, float]] | None = None  # red's and blue's shift in pixels
    best_focus: float | None = None
    edge_loss: float = 0.12  # of the light in the corners
    corner_light: float = 1.0  # of the middle's
    installs: dict[str, Any] = field(default_factory=dict)  # what can be installed, as the link says it
    idle: str = ""  # a colour whose management does nothing
    tones: dict[str, tuple[float, float, float]] = field(default_factory=dict)  # by option of the colour temperature: light kept
    lifts: tuple[str, ...] = ()  # modes for dynamic metadata that make dark pictures lighter than it says
    shift: dict[str, tuple[float, float, float]] = field(
        default_factory=dict
    )  # by mode: light that it takes from white by itself


class Optics:
    """The optics of one sample; its seed decides how it differs from the next one."""

    def __init__(self, world: World, menu: Menu, seed: int, build: Build) -> None:
        self.world, self.menu, self.build = world, menu, build
        self.technology = build.technology
        draw = np.random.default_rng(seed)
        self.primaries = build.primaries
        matrix = spectrum_to_xyz(self.primaries).T
        white = rgb_to_xyz_matrix(BT709, D65_XY).sum(axis=1)
        self.native = matrix * np.linalg.solve(matrix, white)  # linear panel light to XYZ, D65 at 1, 1, 1
        self.spectra = self.primaries * np.linalg.solve(matrix, white)[:, None]
        self.emulation = np.linalg.solve(self.native, rgb_to_xyz_matrix(BT709, D65_XY))
        self.emulation = self.emulation + draw.normal(0.0, 0.004, (3, 3))
        self.wide = np.linalg.solve(self.native, rgb_to_xyz_matrix(BT2020, D65_XY))
        # One step of a gain or an offset, and what it does to the other two lights.
        self.gain = np.diag(np.array(build.gain_step) * draw.uniform(0.9, 1.1, 3))
        self.offset = np.diag(np.array(build.offset_step) * draw.uniform(0.9, 1.1, 3))
        self.gain += (1 - np.eye(3)) * draw.normal(-0.0001, 0.00008, (3, 3))
        self.offset += (1 - np.eye(3)) * draw.normal(0.0, 0.00004, (3, 3))
        self.bend = draw.normal(0.0, 0.0025, 3)
        self.on_since = world.now() - 35 * 60.0
        self.wander = draw.uniform(0.0, 2 * np.pi)
        self.points = Points(self._roles_of(menu), draw)
        self.installed = Installs()
        self.tint = np.random.default_rng(seed + 7000).normal(0.0, 0.018, (3, 2))
        self._mean_of: tuple[Any, ...] | None = None
        self._mean = 0.0
        self._roles = self._roles_of(menu)
        self._of: dict[tuple[str, ...], dict[str, str]] = {}  # of those, by how they begin

    @staticmethod
    def _roles_of(menu: Menu) -> dict[str, str]:
        return {item.role: item.id for item in menu.items.values() if item.role}

    def numbers(self, mode: str, prefixes: tuple[str, ...]) -> dict[str, float]:
        """Return the numbers of all controls whose roles begin so, by role."""
        values = self.menu.values[mode]
        if prefixes not in self._of:
            self._of[prefixes] = {role: name for role, name in self._roles.items() if role.startswith(prefixes)}
        return {role: float(values[name]) for role, name in self._of[prefixes].items()}

    def value(self, mode: str, role: str, default: Value) -> Value:
        """Return what the control of a role stands at, or a default where the menu has none."""
        name = self._roles.get(role)
        return default if name is None else self.menu.values[mode][name]

    def number(self, mode: str, role: str, default: float) -> float:
        """Return the number that the control of a role stands at."""
        return float(self.value(mode, role, default))

    def is_hdr(self, mode: str) -> bool:
        """Whether a mode is for PQ or HLG signals."""
        return self.menu.modes[mode].signals[0] in ("hdr10", "hlg", "dynamic")

    def is_dynamic(self, mode: str) -> bool:
        """Whether a mode follows dynamic metadata."""
        return self.menu.modes[mode].signals[0] == "dynamic"

    def panel(self, mode: str) -> Panel:
        """Return what a mode's mapping believes of the panel: what was sent to it, else the maker's word for all samples."""
        told = self.installed.of(mode).panel
        if told is not None:
            return told
        xy = np.array([xyz_to_xy(column) for column in (*self.native.T, self.native.sum(axis=1))])
        peak = self.build.hdr_peak * (1.0 + self.build.boost)
        return Panel(xy + BELIEVED_OFF, BELIEVED_PEAK * peak, 0.0005)

    def _believed(self, mode: str) -> Floats:
        """Return linear BT.2020 to panel light as the mapping reckons it from its panel."""
        told = self.panel(mode)
        red, green, blue, white = (tuple(float(v) for v in row) for row in told.xy)
        native = rgb_to_xyz_matrix(Primaries(red, green, blue), white)  # type: ignore[arg-type]
        return np.asarray(np.linalg.solve(native, rgb_to_xyz_matrix(BT2020, D65_XY)))

    def frame(self) -> tuple[float, float, float]:
        """Return the metadata of the picture: what was sent with it, else that of the picture itself, by its strongest lights."""
        picture = self.picture
        if picture.frame is not None:
            return picture.frame
        if picture.codes is not None:
            signal = self.fraction(picture.codes[::AVERAGED, ::AVERAGED]).max(axis=-1).clip(0.0, 1.0)
            return float(signal.min()), float(signal.mean()), float(signal.max())
        inside, outside = (float(self.fraction(codes).max().clip(0.0, 1.0)) for codes in (picture.rgb, picture.surround))
        share = picture.window / 100.0
        return min(inside, outside), share * inside + (1.0 - share) * outside, max(inside, outside)

    def _mapped(self, mode: str, v: Floats) -> Floats:
        """Return luminance in cd/m² by dynamic metadata: rolled off where a frame goes beyond the believed panel."""
        least, average, most = self.frame()
        told = self.panel(mode)
        if mode in self.build.lifts:
            v = v + LIFTS * (1.0 - average) * np.sin(np.pi * np.clip(v, 0.0, 1.0))
        mastered = max(float(curves.pq(most)), 1.0), float(curves.pq(least))
        return curves.pq(curves.roll_off(v, told.peak, told.black, mastered))

    def switch_off_and_on(self) -> None:
        """Let the display be cold again."""
        self.on_since = self.world.now()

    def signal(self, mode: str, fraction: ArrayLike, mean: float) -> Floats:
        """Return what the panel is driven with for signal fractions (..., 3); ``mean`` is the picture's own."""
        v = self.installed.of(mode).bent(np.asarray(fraction, dtype=np.float64))
        lift = 0.0016 * (self.number(mode, "black-level", 50.0) - 50.0)
        v = v * (1.0 + 0.006 * (self.number(mode, "white-level", 90.0) - 90.0)) + lift * (1.0 - v)
        v = self._harmed(mode, v, mean)
        scale, shift = self.build.error[mode]
        gains = np.array([self.number(mode, f"white.gain.{light}", 0.0) for light in LIGHTS])
        offsets = np.array([self.number(mode, f"white.offset.{light}", 0.0) for light in LIGHTS])
        foot = np.clip(1.0 - v, 0.0, 1.0)
        hump = np.sin(np.pi * np.clip(v, 0.0, 1.0))
        v = v * (scale + self.gain @ gains) + (shift + self.offset @ offsets) * foot + self.bend * hump
        v = self.points.moved(v, self.numbers(mode, ("white.at.", "gamma.at.")))
        headroom = self.build.headroom
        return np.asarray(np.clip(v * headroom, 0.0, 1.0) / headroom)

    def _harmed(self, mode: str, v: Floats, mean: float) -> Floats:
        """Return the signal after what a calibrator turns off: dynamic contrast, black stretch."""
        strength = {"Off": 0.0, "Low": 0.10, "High": 0.22}.get(
            str(self.value(mode, "process.dynamic-contrast", "Off")), 0.0
        )
        if strength:
            v = v + strength * (mean - 0.35) * np.clip(v, 0, 1) * np.clip(1 - v, 0, 1) * 4.0
        if self.value(mode, "process.black-stretch", False) in (True, "On"):
            v = np.where(v < STRETCHED_BELOW, v - 0.35 * (STRETCHED_BELOW - v) * np.clip(v / STRETCHED_BELOW, 0, 1), v)
        return np.asarray(v)

    def _mixed(self, mode: str, light: Floats) -> Floats:
        """Return linear light after saturation, tint and gamut handling, (..., 3)."""
        saturation = self.number(mode, "saturation", 50.0)
        tint = self.number(mode, "tint", 0.0)
        if saturation != 50.0 or tint:
            luma = (light @ LUMA)[..., None]
            angle = np.deg2rad(0.6 * tint)
            apart = (light - luma) * (saturation / 50.0)
            turned = apart[..., [2, 0, 1]] - apart[..., [1, 2, 0]]
            light = luma + apart * np.cos(angle) + turned * np.sin(angle) / np.sqrt(3)
        if self.is_dynamic(mode):
            return np.asarray(light @ self._believed(mode).T)
        if self.is_hdr(mode):
            return np.asarray(light @ self.wide.T)
        return np.asarray(light @ self.emulation.T) if mode in self.build.emulated else light

    def light(self, mode: str, fraction: ArrayLike, mean: float) -> Floats:
        """Return the panel's linear drive for signal fractions (..., 3), 1 at nominal white."""
        v = self.signal(mode, fraction, mean)
        if "hlg" in self.menu.modes[mode].signals:
            light = self._scened(v)
        elif self.is_dynamic(mode):
            peak = self.build.hdr_peak * (1.0 + self.build.boost)
            light = np.minimum(self._mapped(mode, v), peak) / peak
        elif self.is_hdr(mode):
            nits = self.installed.of(mode).toned(curves.pq(v))
            # A tone that is installed takes the place of the display's own roll-off.
            own = self.installed.of(mode).tone is None
            # What a white sub-pixel adds belongs to the peak: greys follow the signal, colours get less than it asks for.
            peak = self.build.hdr_peak * (1.0 + self.build.boost)
            light = (self._rolled(nits, peak) if own else np.minimum(nits, peak)) / peak
        else:
            gamma = self.build.gammas[str(self.value(mode, "gamma", "Middle"))] + 0.04 * np.sin(
                2.0 * np.pi * np.clip(v, 0.0, 1.0)
            )
            light = v**gamma
        light = managed(light, self.numbers(mode, ("colour.",)), self.build.idle)
        matrix = self.installed.of(mode).matrix
        if matrix is not None:
            light = light @ matrix.T
        mixed = np.clip(self._mixed(mode, light), 0.0, None) * np.array(self.build.shift.get(mode, (1.0, 1.0, 1.0)))
        if self.build.tones:
            mixed = mixed * np.array(self.build.tones[str(self.value(mode, "white-preset", ""))])
        if self.value(mode, "process.blue-light", False) is True:
            mixed = mixed * np.array([1.0, 0.965, 0.86])
        levels = self.build.panel_levels
        return np.asarray((np.round(mixed ** (1 / 2.2) * levels / 1.04) * 1.04 / levels) ** 2.2)

    def _scened(self, v: Floats) -> Floats:
        """Return linear drive of HLG signals: the scene's light, bent by the system gamma of the panel's peak."""
        peak = self.build.hdr_peak * (1.0 + self.build.boost)
        scene = curves.hlg_scene(np.clip(v, 0.0, 1.0), peak, 0.0)
        luminance = scene @ LUMA_2020
        bent = np.maximum(luminance, 1e-9) ** (curves.hlg_gamma(peak) - 1.0)
        return np.asarray(scene * bent[..., None])

    def _rolled(self, nits: Floats, peak: float) -> Floats:
        knee = self.build.hdr_knee * peak
        over = np.maximum(nits - knee, 0.0)
        return np.where(nits <= knee, nits, knee + (peak - knee) * over / (over + (peak - knee)))

    def fraction(self, codes: ArrayLike) -> Floats:
        """Return the signal fractions of code values on the cable."""
        signal = self.world.signal
        return decode(codes, signal.bits, "full" if signal.range == "full" else "limited")

    def linear(self, mode: str, codes: ArrayLike, mean: float = 0.35) -> Floats:
        """Return the panel's linear drive for code values (..., 3), 1 at nominal white."""
        return self.light(mode, self.fraction(codes), mean)

    def mean_signal(self, picture: Picture) -> float:
        """Return the picture's mean signal, 0 to 1."""
        if picture.codes is not None:
            return float(np.clip(self.fraction(picture.codes[::AVERAGED, ::AVERAGED]), 0, 1).mean())
        share = picture.window / 100.0
        inside, outside = self.fraction(picture.rgb), self.fraction(picture.surround)
        return float(share * np.clip(inside, 0, 1).mean() + (1 - share) * np.clip(outside, 0, 1).mean())

    def mean_light(self, mode: str, picture: Picture) -> float:
        """Return the picture's mean linear drive, 0 to 1."""
        # Asked for several times a reading: kept for as long as picture, signal and settings are the same.
        state = (picture, repr(self.world.signal), mode, self.installed.count, self.menu.values[mode])
        if self._mean_of is not None and self._mean_of[0] is picture and self._mean_of[1:] == state[1:]:
            return self._mean
        self._mean = self._mean_light(mode, picture)
        self._mean_of = (*state[:4], dict(state[4]))
        return self._mean

    def _mean_light(self, mode: str, picture: Picture) -> float:
        mean = self.mean_signal(picture)
        if picture.codes is not None:
            return float(self.linear(mode, picture.codes[::AVERAGED, ::AVERAGED], mean).mean())
        share = picture.window / 100.0
        return float(
            share * self.linear(mode, picture.rgb, mean).mean()
            + (1 - share) * self.linear(mode, picture.surround, mean).mean()
        )

    def white_luminance(self, mode: str, picture: Picture) -> float:
        """Return cd/m² of nominal white now: light control, savings, power limit, warm-up, slow wandering."""
        build = self.build
        if self.is_hdr(mode):
            base = build.hdr_peak * (0.25 + 0.75 * self.number(mode, "light", 100.0) / 100.0)
        else:
            base = build.light[0] + build.light[1] * self.number(mode, "light", 50.0)
        mean = self.mean_light(mode, picture)
        base *= 1.0 - build.energy[str(self.value(mode, "process.energy", "Off"))] * (1.0 - min(mean, 1.0))
        if self.value(mode, "process.ambient", False) is True:
            base *= 0.55 + 0.45 * min(self.world.room_lux / BRIGHT_ROOM_LUX, 1.0)
        start, hard = build.load
        base /= 1.0 + hard * max(mean - start, 0.0)
        on = self.world.now() - self.on_since
        lost, span = build.ageing
        base *= 1.0 - lost * (1.0 - np.exp(-(build.hours + self.world.now() / 3600.0) / span))
        return float(
            base
            * (1.0 - build.cold_loss * np.exp(-on / build.warm_up_s))
            * (1 + 0.0006 * np.sin(on / 500 + self.wander))
        )

    def evenness(self, place: tuple[float, float]) -> Floats:
        """Return each channel's light at a place as a share of the middle's: darker towards the edge, a little tinted."""
        x, y = place[0] - 0.5, place[1] - 0.5
        far = 2.0 * (x**2 + y**2)
        light = 1.0 - max(self.build.edge_loss, 1.0 - self.build.corner_light) * far
        tint = self.tint[:, 0] * x + self.tint[:, 1] * y
        return np.asarray(np.maximum(light * (1.0 + tint), 0.0))

    def modulation(self, mode: str | None) -> float:
        """Return how often a second the light comes and goes."""
        still, moving = self.build.modulation_hz
        if mode is None or self.value(mode, "process.motion", "Off") in ("Off", False, "Low"):
            return still
        return moving

    def leak(self, mode: str, picture: Picture) -> float:
        """Return the share of white that leaks through black: less where zones are dimmed."""
        if self.build.zones is None:
            return self.build.leak
        depth = {"Off": 0.0, "Low": 0.5, "High": 0.92}.get(str(self.value(mode, "process.dimming", "Off")), 0.0)
        return self.build.leak * (1.0 - depth * (1.0 - min(4.0 * self.mean_light(mode, picture), 1.0)))

    @property
    def picture(self) -> Picture:
        """What the display shows: what arrives, or a white of its own player, for an eye to hold others against."""
        if self.menu.input != OWN_PLAYER:
            return self.world.picture
        code = int(encode(OWN_WHITE, self.world.signal.bits, "full" if self.world.signal.range == "full" else "limited"))
        return Picture((code, code, code), 100.0, (code, code, code))

    def radiance(self, mode: str | None, place: tuple[float, float]) -> Floats:
        """Return the spectrum that leaves the screen at a place (fractions of width and height)."""
        room = with_luminance(daylight_65(), self.world.room_lux / np.pi * self.build.reflectance + 1e-9)
        if mode is None:
            return room
        picture = self.picture
        on = self.world.now() - self.on_since
        drive = self.linear(mode, picture.seen_at(place), self.mean_signal(picture))
        white = self.white_luminance(mode, picture)
        sub_pixel = self.build.boost * float(drive.min())
        drive = (drive + self.leak(mode, picture)) * self.evenness(place)
        drive[2] *= 1.0 - self.build.cold_blue * np.exp(-on / self.build.warm_up_s)
        sub_pixel *= float(self.evenness(place)[1])
        result: Floats = (drive @ self.spectra) * white + room
        if sub_pixel and self.build.boost_spectrum is not None:
            result = result + self.build.boost_spectrum * (sub_pixel * white)
        return result

    def look(self, mode: str | None, codes: tuple[int, int, int]) -> tuple[float, float, float]:
        """Return how a code looks on the display as sRGB fractions, for the stand-in's own page only."""
        if mode is None:
            return 0.0, 0.0, 0.0
        shown = self.as_srgb(self.linear(mode, codes) + self.build.leak)
        return float(shown[0]), float(shown[1]), float(shown[2])

    def as_srgb(self, drive: Floats) -> Floats:
        """Return linear drives (..., 3) as sRGB-coded fractions, nominal white at 1."""
        to = np.linalg.solve(rgb_to_xyz_matrix(BT709, D65_XY), self.native)
        rgb = np.clip(drive @ to.T, 0.0, 1.0)
        return np.where(rgb <= 0.0031308, 12.92 * rgb, 1.055 * rgb ** (1 / 2.4) - 0.055)

    def facts(self) -> dict[str, Any]:
        """Return what the display says of its technology, and what can be installed."""
        return {"technology": self.technology, "installs": self.build.installs}
