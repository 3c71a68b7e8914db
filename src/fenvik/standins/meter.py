"""Two meters: one that is true to the observer and slow, one whose filters miss it a little and that is quick."""

import asyncio
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.colour.science import WAVELENGTHS_NM, daylight_65, observer_1931, spectrum_to_xyz
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.types import Floats
from fenvik.standins.display import Display
from fenvik.standins.rpc import Device, Params, Refusal, is_number, text, wrong
from fenvik.standins.spectra import bumps, laser_lines, quantum_dots
from fenvik.standins.world import World

MOST_AVERAGES = 64
REFRESH_S = 1.0
MIDDLE = (0.5, 0.5)
SPOT = 0.03  # of the screen: the radius of what a meter sees
SLANTED = 1.6  # a meter that looks at another place looks at it slantingly, and loses light with the square of how far


@dataclass(frozen=True)
class Kind:
    """What a model of meter can do: see docs/device-link.md for the tables."""

    kind: str
    floor: float
    ceiling: float
    typical: tuple[tuple[float, float], ...]
    repeatability: tuple[tuple[float, float, float, float], ...]
    features: tuple[str, ...]


SPECTRORADIOMETER = Kind(
    "spectroradiometer",
    0.01,
    20_000.0,
    ((0.01, 30.0), (0.1, 14.0), (1.0, 6.0), (10.0, 2.6), (100.0, 2.0)),
    (
        (0.01, 0.05, 0.010, 0.010),
        (0.1, 0.012, 0.0030, 0.0030),
        (1.0, 0.004, 0.0008, 0.0008),
        (10.0, 0.0015, 0.0003, 0.0003),
        (100.0, 0.0010, 0.0002, 0.0002),
    ),
    ("spectrum",),
)
COLORIMETER = Kind(
    "colorimeter",
    0.003,
    10_000.0,
    ((0.003, 3.0), (0.1, 1.8), (1.0, 0.9), (10.0, 0.4), (100.0, 0.25)),
    (
        (0.003, 0.08, 0.020, 0.020),
        (0.03, 0.020, 0.0040, 0.0040),
        (0.3, 0.006, 0.0012, 0.0012),
        (3.0, 0.002, 0.0005, 0.0005),
        (30.0, 0.0012, 0.0003, 0.0003),
        (300.0, 0.0010, 0.0002, 0.0002),
    ),
    ("refresh",),
)
CHEAP_COLORIMETER = Kind(
    "colorimeter",
    0.05,
    2_000.0,
    ((0.05, 3.2), (1.0, 1.4), (10.0, 0.6), (100.0, 0.4)),
    (
        (0.05, 0.10, 0.025, 0.025),
        (0.5, 0.025, 0.0060, 0.0060),
        (5.0, 0.006, 0.0015, 0.0015),
        (50.0, 0.003, 0.0006, 0.0006),
        (500.0, 0.002, 0.0005, 0.0005),
    ),
    (),
)
MISS_XY = 0.006  # by which a colorimeter is off in x or y at most on narrow primaries
CHEAP_IS_WORSE = 1.8  # times as far from the observer
EFFORTS = {"quick": 0.5, "normal": 1.0, "slow": 2.5}


def _missed_filters(seed: int, worse: float) -> Floats:
    """Return filters (401, 3) near the observer's, made right on daylight and on a warm broad light by a matrix."""
    draw = np.random.default_rng(seed)
    filters = np.empty_like(observer_1931())
    for i in range(3):
        shift, widen = worse * draw.normal(0.0, 1.2), 1.0 + worse * draw.normal(0.0, 0.012)
        centre = WAVELENGTHS_NM[int(np.argmax(observer_1931()[:, i]))]
        at = centre + (WAVELENGTHS_NM - centre - shift) / widen
        filters[:, i] = np.interp(at, WAVELENGTHS_NM, observer_1931()[:, i])
    lights = np.array(
        [
            daylight_65(),
            bumps((620.0, 70.0, 1.0)) + 0.2,
            bumps((540.0, 60.0, 1.0)) + 0.2,
            bumps((460.0, 50.0, 1.0)) + 0.2,
        ]
    )
    matrix, *_ = np.linalg.lstsq(lights @ filters, lights @ observer_1931(), rcond=None)
    # How far a sample misses is drawn; how far it is off on narrow light is what its maker promises.
    apart = filters @ matrix - observer_1931()
    narrow = np.vstack([laser_lines(), quantum_dots()])
    share = worse * MISS_XY / _off_on(narrow, observer_1931() + apart)
    share *= worse * MISS_XY / _off_on(narrow, observer_1931() + share * apart)
    result: Floats = observer_1931() + share * apart
    return result


def _off_on(lights: Floats, filters: Floats) -> float:
    """Return by how much filters miss x or y of lights at most."""
    seen, true = lights @ filters, lights @ observer_1931()
    return float(np.abs((seen / seen.sum(-1, keepdims=True) - true / true.sum(-1, keepdims=True))[:, :2]).max())


class Meter(Device):
    """A stand-in meter in front of a display."""

    role = "meter"

    def __init__(
        self, maker: str, model: str, serial: str, *, kind: Kind, world: World, displays: list[Display], seed: int
    ) -> None:
        super().__init__(maker, model, serial, "2.0")
        self.kind, self.world, self.displays = kind, world, displays
        self.features = list(kind.features)
        self._noise = np.random.default_rng(seed)
        self._repeatability = Repeatability.of(kind.repeatability)
        true = kind.kind == "spectroradiometer"
        self._nm_shift = self._noise.normal(0.0, 0.15) if true else 0.0
        self._scale = 1.0 + self._noise.normal(0.0, 0.003)
        self._filters = None if true else _missed_filters(seed, 1.0 if kind is COLORIMETER else CHEAP_IS_WORSE)
        self._one_at_a_time = asyncio.Lock()
        self.methods |= {"read": self.read, "refresh": self.refresh}

    @property
    def display(self) -> Display:
        """The display that the instruments stand in front of."""
        return next((d for d in self.displays if d.serial == self.world.front), self.displays[0])

    def facts(self) -> dict[str, Any]:
        """What the link wants to know of a meter."""
        return {
            "kind": self.kind.kind,
            "floor": self.kind.floor,
            "ceiling": self.kind.ceiling,
            "efforts": list(EFFORTS),
            "typical": [list(row) for row in self.kind.typical],
            "repeatability": [list(row) for row in self.kind.repeatability],
        }

    def _seen(self, radiance: Floats) -> tuple[Floats, Floats]:
        """Return XYZ as the meter's optics have it, and the spectrum as it sees it, both without noise."""
        if self._filters is not None:
            return self._scale * 683.002 * (radiance @ self._filters), radiance
        shifted = np.interp(WAVELENGTHS_NM - self._nm_shift, WAVELENGTHS_NM, radiance) * self._scale
        return spectrum_to_xyz(shifted), shifted

    async def read(self, params: Params) -> dict[str, Any]:
        """Read the light in the middle of the screen."""
        effort, average, spectrum = self._asked(params)
        async with self._one_at_a_time:
            display = self.display
            radiance = self._in_view(display)
            clean, seen = self._seen(radiance)
            luminance = float(clean[1])
            seconds = self._seconds(luminance) * EFFORTS[effort] * average
            await self.world.spend(seconds)
        if luminance < self.kind.floor:
            raise Refusal(6, f"Too dark to read: below {self.kind.floor:g} cd/m².", floor=self.kind.floor)
        if luminance > self.kind.ceiling:
            raise Refusal(7, f"Too bright to read: above {self.kind.ceiling:g} cd/m².", ceiling=self.kind.ceiling)
        noisy = self._with_noise(clean, EFFORTS[effort] * average)
        result: dict[str, Any] = {
            "xyz": [float(v) for v in noisy],
            "seconds": seconds,
            "clock": self.world.now(),
        }
        if spectrum:
            values = seen * (noisy[1] / clean[1])
            result["spectrum"] = {"start_nm": 380, "step_nm": 1, "values": [float(v) for v in values]}
        return result

    def _in_view(self, display: Display) -> Floats:
        """Return the spectrum in the meter's field of view: aimed badly it sees less of the window, and slantingly."""
        dx, dy = self.world.aim.get(self.serial, (0.0, 0.0))
        stands = self.world.stand.get(self.serial, MIDDLE)
        if not dx and not dy:
            return display.optics.radiance(display.mode, stands)
        middle = (stands[0] + dx, stands[1] + dy)
        ring = [(SPOT * np.cos(a), SPOT * np.sin(a)) for a in np.linspace(0.0, 2 * np.pi, 8, endpoint=False)]
        places = [(middle[0] + x, middle[1] + y) for x, y in [(0.0, 0.0), *ring]]
        seen = [
            display.optics.radiance(display.mode, place) if all(0.0 <= v <= 1.0 for v in place) else np.zeros_like(WAVELENGTHS_NM)
            for place in places
        ]  # fmt: skip
        kept = max(1.0 - SLANTED * (dx**2 + dy**2), 0.0)
        return np.asarray(kept * np.mean(seen, axis=0))

    def _asked(self, params: Params) -> tuple[str, int, bool]:
        effort = text(params, "effort") if "effort" in params else "normal"
        if effort not in EFFORTS:
            raise Refusal(4, "There is no such effort.", name=effort[:80])
        average = params.get("average", 1)
        if not is_number(average) or not isinstance(average, int) or not 1 <= average <= MOST_AVERAGES:
            raise wrong(f"average is a whole number from 1 to {MOST_AVERAGES}.")
        spectrum = params.get("spectrum", False)
        if not isinstance(spectrum, bool):
            raise wrong("spectrum is true or false.")
        if spectrum and "spectrum" not in self.features:
            raise Refusal(8, "This meter gives no spectrum.", name="spectrum")
        return effort, average, spectrum

    def _seconds(self, luminance: float) -> float:
        levels, times = zip(*self.kind.typical, strict=True)
        return float(np.interp(np.log(max(luminance, 1e-4)), np.log(levels), times))

    def _with_noise(self, xyz: Floats, share: float) -> Floats:
        covariance = self._repeatability.covariance(xyz, np.asarray(share))
        noisy: Floats = self._noise.multivariate_normal(xyz, covariance)
        return noisy if noisy[1] > 0 else xyz

    async def refresh(self, _: Params) -> dict[str, Any]:
        """Tell how often a second the light comes and goes, where the meter can."""
        if "refresh" in self.features:
            async with self._one_at_a_time:
                await self.world.spend(REFRESH_S)
                return {"hz": float(self.display.optics.modulation(self.display.mode) * self._noise.normal(1.0, 2e-4))}
        raise Refusal(8, "This meter does not tell the light's modulation.", name="refresh")
