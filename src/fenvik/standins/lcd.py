"""The simulated LCD: from code values to a spectrum, in the order that docs/standins.md tells."""

from typing import Any

import numpy as np

from fenvik.core.colourspace import BT709, D65_XY, rgb_to_xyz_matrix
from fenvik.core.science import daylight_65, spectrum_to_xyz
from fenvik.core.signal import decode
from fenvik.core.types import Floats
from fenvik.standins.menu import Item, Menu, Mode, Value
from fenvik.standins.spectra import phosphor_lcd, with_luminance
from fenvik.standins.world import Picture, World

LEAK = 1 / 2900  # of each primary's full light passes the closed panel
PANEL_LEVELS = 1023
SCREEN_REFLECTANCE = 0.012
WARM_UP_S = 14 * 60.0
COLD_LOSS = 0.055  # of the light is missing when switched on
COLD_BLUE = 0.012  # more of blue's light than of the others'
HEADROOM = 0.962  # of the panel's drive at video white with every control at the middle
GAMMAS = {"Soft": 2.06, "Middle": 2.23, "Deep": 2.43}
ENERGY = {"Off": 0.0, "Low": 0.22, "High": 0.45}
LIGHTS = ("red", "green", "blue")


def _balance_items() -> list[Item]:
    return [
        Item(
            f"wb-{short}{light[0]}",
            f"{light[0].upper()}-{name}",
            "White balance",
            "range",
            f"white.{end}.{light}",
            -50,
            50,
        )
        for end, name, short in (("gain", "Gain", "g"), ("offset", "Offset", "o"))
        for light in LIGHTS
    ]


def lcd_menu() -> Menu:
    """Return the menu of the LCD; its "Contrast" is the backlight, as labels in life mislead."""
    items = [
        Item("pic-1", "Contrast", "Picture", "range", "light", 0, 100),
        Item("pic-2", "White detail", "Picture", "range", "white-level", 0, 100),
        Item("pic-3", "Brightness", "Picture", "range", "black-level", 0, 100),
        Item("pic-4", "Curve", "Picture", "choice", "gamma", options=tuple(GAMMAS)),
        *_balance_items(),
        Item("eco-1", "Energy care", "Economy", "choice", "process.energy", options=tuple(ENERGY), off="Off"),
    ]
    middle: dict[str, Value] = {item.id: 0 for item in _balance_items()}
    shop = middle | {"pic-1": 90, "pic-2": 94, "pic-3": 50, "pic-4": "Soft", "eco-1": "Off"}
    film = middle | {"pic-1": 34, "pic-2": 90, "pic-3": 50, "pic-4": "Middle", "eco-1": "Low"}
    return Menu(items, [Mode("m1", "Shop", ("sdr",), shop), Mode("m2", "Film", ("sdr",), film)])


class Lcd:
    """The optics of one sample; its seed decides how it differs from the next one."""

    technology = "lcd"

    def __init__(self, world: World, menu: Menu, seed: int) -> None:
        self.world, self.menu = world, menu
        draw = np.random.default_rng(seed)
        self.primaries = phosphor_lcd()
        matrix = spectrum_to_xyz(self.primaries).T
        white = rgb_to_xyz_matrix(BT709, D65_XY).sum(axis=1)
        self.native = matrix * np.linalg.solve(matrix, white)  # linear panel light to XYZ, D65 at 1, 1, 1
        self.spectra = self.primaries * np.linalg.solve(matrix, white)[:, None]
        self.emulation = np.linalg.solve(self.native, rgb_to_xyz_matrix(BT709, D65_XY))
        self.emulation = self.emulation + draw.normal(0.0, 0.004, (3, 3))
        # One step of a gain or an offset, and what it does to the other two lights.
        self.gain = np.diag(np.array([0.0026, 0.0032, 0.0035]) * draw.uniform(0.9, 1.1, 3))
        self.offset = np.diag(np.array([0.0010, 0.0011, 0.0013]) * draw.uniform(0.9, 1.1, 3))
        self.gain += (1 - np.eye(3)) * draw.normal(-0.0001, 0.00008, (3, 3))
        self.offset += (1 - np.eye(3)) * draw.normal(0.0, 0.00004, (3, 3))
        self.error = {
            "m1": (np.array([0.920, 0.965, 1.010]), np.array([-0.004, 0.0, 0.011])),
            "m2": (np.array([0.974, 0.985, 1.010]), np.array([0.0035, -0.001, -0.0045])),
        }
        self.bend = draw.normal(0.0, 0.0025, 3)
        self.on_since = world.now() - 35 * 60.0
        self.wander = draw.uniform(0.0, 2 * np.pi)

    def _signal(self, mode: str, codes: tuple[int, int, int]) -> Floats:
        values = self.menu.values[mode]
        v = decode(codes, self.world.signal.bits, "full" if self.world.signal.range == "full" else "limited")
        lift = 0.0016 * (float(values["pic-3"]) - 50.0)
        v = v * (1.0 + 0.006 * (float(values["pic-2"]) - 90.0)) + lift * (1.0 - v)
        scale, shift = self.error[mode]
        gains = np.array([float(values[f"wb-g{light[0]}"]) for light in LIGHTS])
        offsets = np.array([float(values[f"wb-o{light[0]}"]) for light in LIGHTS])
        foot = np.clip(1.0 - v, 0.0, 1.0)
        hump = np.sin(np.pi * np.clip(v, 0.0, 1.0))
        v = v * (scale + self.gain @ gains) + (shift + self.offset @ offsets) * foot + self.bend * hump
        return np.asarray(np.clip(v * HEADROOM, 0.0, 1.0) / HEADROOM)

    def linear(self, mode: str, codes: tuple[int, int, int]) -> Floats:
        """Return the panel's linear drive, shape (3,), 1 at nominal white."""
        v = self._signal(mode, codes)
        gamma = GAMMAS[str(self.menu.values[mode]["pic-4"])] + 0.04 * np.sin(2.0 * np.pi * np.clip(v, 0.0, 1.0))
        light = v**gamma
        mixed = light if mode == "m1" else self.emulation @ light
        mixed = np.clip(mixed, 0.0, None)
        return np.asarray((np.round(mixed ** (1 / 2.2) * PANEL_LEVELS / 1.04) * 1.04 / PANEL_LEVELS) ** 2.2)

    def white_luminance(self, mode: str, picture: Picture) -> float:
        """Return cd/m² of nominal white now: light control, energy saving by the picture, warm-up, slow wandering."""
        values = self.menu.values[mode]
        base = 22.0 + 3.55 * float(values["pic-1"])
        share = picture.window / 100.0
        mean = share * self.linear(mode, picture.rgb).mean() + (1 - share) * self.linear(mode, picture.surround).mean()
        base *= 1.0 - ENERGY[str(values["eco-1"])] * (1.0 - min(float(mean), 1.0))
        on = self.world.now() - self.on_since
        return float(base * (1.0 - COLD_LOSS * np.exp(-on / WARM_UP_S)) * (1 + 0.0006 * np.sin(on / 500 + self.wander)))

    def radiance(self, mode: str | None, place: tuple[float, float]) -> Floats:
        """Return the spectrum that leaves the screen at a place (fractions of width and height)."""
        room = with_luminance(daylight_65(), self.world.room_lux / np.pi * SCREEN_REFLECTANCE + 1e-9)
        if mode is None:
            return room
        picture = self.world.picture
        rgb = picture.rgb if picture.covers(place) else picture.surround
        on = self.world.now() - self.on_since
        drive = self.linear(mode, rgb) + LEAK
        drive[2] *= 1.0 - COLD_BLUE * np.exp(-on / WARM_UP_S)
        result: Floats = (drive @ self.spectra) * self.white_luminance(mode, picture) + room
        return result

    def look(self, mode: str | None, codes: tuple[int, int, int]) -> tuple[float, float, float]:
        """Return how a code looks on the display as sRGB fractions, for the stand-in's own page only."""
        if mode is None:
            return 0.0, 0.0, 0.0
        xyz = (self.linear(mode, codes) + LEAK) @ self.native.T
        rgb = np.clip(np.linalg.solve(rgb_to_xyz_matrix(BT709, D65_XY), xyz), 0.0, 1.0)
        shown = np.where(rgb <= 0.0031308, 12.92 * rgb, 1.055 * rgb ** (1 / 2.4) - 0.055)
        return float(shown[0]), float(shown[1]), float(shown[2])

    def facts(self) -> dict[str, Any]:
        """Return what the display says of its technology; it takes no curves and no cubes."""
        return {"technology": self.technology, "installs": {}}
