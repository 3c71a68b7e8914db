"""The models of display that ship: an LCD with local dimming, a WRGB OLED, a laser projector."""

from dataclasses import replace

import numpy as np

from fenvik.standins.controls import attribute_items, mixing_items, point_items
from fenvik.standins.menu import Item, Menu, Mode, Value
from fenvik.standins.optics import LIGHTS, Build
from fenvik.standins.spectra import laser_lines, phosphor_lcd, quantum_dots, wrgb_oled, wrgb_white, xenon_lamp

GAMMAS = {"Soft": 2.06, "Middle": 2.23, "Deep": 2.43}
ENERGY = {"Off": 0.0, "Low": 0.22, "High": 0.45}
TONES = {"Warm": (1.0, 0.955, 0.86), "Middle": (1.0, 1.0, 1.0), "Cool": (0.9, 0.97, 1.04)}
STRENGTHS = ("Off", "Low", "High")
EDGE_OFF = 10.0
TWENTY = tuple(5.0 * i for i in range(1, 21))
TEN = tuple(10.0 * i for i in range(1, 11))


def balance_items(low: int = -50, high: int = 50) -> list[Item]:
    """Return the six controls of a two-point balance."""
    return [
        Item(
            f"wb-{short}{light[0]}",
            f"{light[0].upper()}-{name}",
            "White balance",
            "range",
            f"white.{end}.{light}",
            low,
            high,
        )
        for end, name, short in (("gain", "Gain", "g"), ("offset", "Offset", "o"))
        for light in LIGHTS
    ]


def _by_place(items: list[Item]) -> list[Item]:
    """Return items as many menus call them, "Red" in each place, so that a name alone tells nothing."""
    return [replace(item, label=(item.role or "").rpartition(".")[2].capitalize()) for item in items]


def _processing(*, dimming: bool, energy: bool = True) -> list[Item]:
    made = [
        Item(
            "pq-1", "Lively contrast", "Processing", "choice", "process.dynamic-contrast", options=STRENGTHS, off="Off"
        ),
        Item("pq-2", "Deep shadows", "Processing", "switch", "process.black-stretch", off=False),
        Item("pq-3", "Grain filter", "Processing", "choice", "process.noise", options=STRENGTHS, off="Off"),
        Item("pq-4", "Smooth motion", "Processing", "choice", "process.motion", options=STRENGTHS, off="Off"),
        Item("pq-5", "Edge", "Processing", "range", "process.sharpness", 0, 20, off=EDGE_OFF),
        Item("pq-6", "Fit", "Processing", "choice", "process.overscan", options=("Pixel", "Wide"), off="Pixel"),
    ]
    if dimming:
        made.append(Item("pq-7", "Zone care", "Processing", "choice", "process.dimming", options=STRENGTHS, off="Off"))
    made.append(Item("pq-8", "Evening warmth", "Processing", "switch", "process.blue-light", off=False))
    if energy:
        made += [
            Item("eco-1", "Energy care", "Economy", "choice", "process.energy", options=tuple(ENERGY), off="Off"),
            Item("eco-2", "Room sense", "Economy", "switch", "process.ambient", off=False),
        ]
    return made


def _picture(light: str, levels: tuple[str, str]) -> list[Item]:
    return [
        Item("pic-1", light, "Picture", "range", "light", 0, 100),
        Item("pic-2", levels[0], "Picture", "range", "white-level", 0, 100),
        Item("pic-3", levels[1], "Picture", "range", "black-level", 0, 100),
        Item("pic-4", "Curve", "Picture", "choice", "gamma", options=tuple(GAMMAS)),
        Item("pic-5", "Colour", "Picture", "range", "saturation", 0, 100),
        Item("pic-6", "Tint", "Picture", "range", "tint", -50, 50),
    ]


PLAIN: dict[str, Value] = {
    "pic-2": 90, "pic-3": 50, "pic-4": "Middle", "pic-5": 50, "pic-6": 0, "pq-1": "Off", "pq-2": False, "pq-3": "Off",
    "pq-4": "Off", "pq-5": 10, "pq-6": "Pixel", "pq-7": "Off", "pq-8": False, "eco-1": "Off", "eco-2": False,
}  # fmt: skip
SHOP: dict[str, Value] = {
    "pic-2": 94,
    "pic-4": "Soft",
    "pic-5": 58,
    "pq-1": "High",
    "pq-3": "Low",
    "pq-4": "High",
    "pq-5": 16,
    "pq-6": "Wide",
    "pq-7": "High",
}


def _menu(items: list[Item], modes: dict[tuple[str, str, str], dict[str, Value]], *, per_input: bool = False) -> Menu:
    known = {item.id for item in items}
    middle = {item.id: 0.0 if item.kind == "range" else None for item in items}
    made = []
    for (name, label, signal), values in modes.items():
        factory = {k: v for k, v in (middle | PLAIN | values).items() if k in known}
        made.append(Mode(name, label, (signal,), factory))  # type: ignore[arg-type]
    return Menu(items, made, per_input=per_input)


def lcd_menu() -> Menu:
    """Return the menu of the LCD; its "Contrast" is the backlight, as labels in life mislead, and each input has its own values."""
    items = [*_picture("Contrast", ("White detail", "Brightness")), *balance_items(), *_processing(dimming=True)]
    film: dict[str, Value] = {
        "pic-1": 34,
        "eco-1": "Low",
        "pq-3": "Low",
        "pq-4": "Low",
        "pq-5": 12,
        "pq-6": "Wide",
        "pq-7": "Low",
    }
    return _menu(
        items,
        {
            ("m1", "Shop", "sdr"): SHOP | {"pic-1": 90},
            ("m2", "Film", "sdr"): film,
            ("m3", "Film HDR", "hdr10"): film | {"pic-1": 100, "eco-1": "Off", "pq-7": "High"},
        },
        per_input=True,
    )


def lcd_build() -> Build:
    """Return the LCD with 16 by 9 zones."""
    film = (np.array([0.974, 0.985, 1.010]), np.array([0.0035, -0.001, -0.0045]))
    return Build(
        technology="lcd", primaries=phosphor_lcd(), light=(22.0, 3.55), leak=1 / 2900, gammas=GAMMAS, energy=ENERGY,
        error={"m1": (np.array([0.920, 0.965, 1.010]), np.array([-0.004, 0.0, 0.011])), "m2": film, "m3": film},
        emulated=("m2",), zones=(16, 9), hdr_peak=620.0,
    )  # fmt: skip


def oled_menu() -> Menu:
    """Return the menu of the WRGB OLED."""
    items = [
        *_picture("Panel light", ("Contrast", "Black")), *balance_items(), *point_items(TWENTY, luminance=True), *attribute_items(),
        *_processing(dimming=False),
    ]  # fmt: skip
    cinema: dict[str, Value] = {"pic-1": 42, "pq-4": "Low", "pq-5": 11, "eco-2": True}
    return _menu(
        items,
        {
            ("p1", "Vivid", "sdr"): SHOP | {"pic-1": 100, "eco-1": "Low"},
            ("p2", "Cinema", "sdr"): cinema,
            ("p3", "Bright room", "sdr"): cinema | {"pic-1": 70, "pic-4": "Soft"},
            ("p4", "Cinema HDR", "hdr10"): cinema | {"pic-1": 100, "eco-2": False},
            ("p5", "Cinema HLG", "hlg"): cinema | {"pic-1": 100, "eco-2": False},
            ("p6", "Bright room HDR", "hdr10"): cinema | {"pic-1": 100, "eco-2": False},
            ("p7", "Cinema dynamic", "dynamic"): cinema | {"pic-1": 100, "eco-2": False},
            ("p8", "Bright room dynamic", "dynamic"): cinema | {"pic-1": 100, "eco-2": False},
        },
    )


def oled_build() -> Build:
    """Return the OLED whose white sub-pixel makes white more than the sum of the three."""
    cinema = (np.array([0.985, 0.975, 1.004]), np.array([0.0010, 0.0015, 0.0]))
    return Build(
        technology="wrgb-oled", primaries=wrgb_oled(), light=(18.0, 1.9), leak=0.0, gammas=GAMMAS, energy=ENERGY,
        error={"p1": (np.array([0.90, 0.95, 1.02]), np.zeros(3))} | {f"p{i}": cinema for i in range(2, 9)},
        gain_step=(0.0022, 0.0025, 0.0027), emulated=("p2", "p3"), boost=0.45, boost_spectrum=wrgb_white(), load=(0.22, 0.9),
        installs={"curves": {"size": 1024}, "matrix": True, "cube": {"sizes": [17, 33]}, "tone": True, "panel": True},
        idle="cyan",
        shift={"p3": (0.985, 1.0, 0.97), "p6": (0.98, 1.0, 0.965), "p8": (0.97, 1.0, 0.985)}, lifts=("p8",),
        hdr_peak=520.0, hdr_knee=0.6, halves_colour=False,
        warm_up_s=9 * 60.0, cold_loss=0.018, cold_blue=0.006, reflectance=0.008,
    )  # fmt: skip


def projector_menu() -> Menu:
    """Return the menu of the laser projector, with the lens and the convergence beside the picture."""
    lens = [
        Item("ln-focus", "Focus", "Lens", "range", None, 0, 60, shared=True),
        *(
            Item(f"cv-{light}-{axis}", f"{light.capitalize()} {words}", "Convergence", "range", None, -4, 4, 0.5, shared=True)
            for light in ("red", "blue")
            for axis, words in (("x", "across"), ("y", "down"))
        ),
        Item("ir-1", "Moving iris", "Light", "choice", "process.iris", options=STRENGTHS, off="Off"),
    ]
    items = [
        *_picture("Laser", ("Contrast", "Brightness")),
        *balance_items(-30, 30),
        *lens,
        *_processing(dimming=False, energy=False),
    ]
    natural: dict[str, Value] = {
        "pic-1": 60,
        "ln-focus": 31,
        "cv-red-x": 0.0,
        "cv-blue-y": 0.0,
        "pq-4": "Low",
        "pq-5": 12,
        "ir-1": "Low",
    }
    return _menu(
        items,
        {
            ("c1", "Bright", "sdr"): natural | {"pic-1": 100, "pic-4": "Soft", "pic-5": 56},
            ("c2", "Natural", "sdr"): natural,
            ("c3", "Natural HDR", "hdr10"): natural | {"pic-1": 100},
        },
    )


def projector_build() -> Build:
    """Return the laser projector on a screen of 2.4 m: narrow lines, colours that miss each other a little."""
    natural = (np.array([1.006, 0.982, 0.962]), np.array([0.002, 0.0, -0.002]))
    return Build(
        technology="projector", primaries=laser_lines(), light=(12.0, 0.95), leak=1 / 1500, gammas=GAMMAS, energy={"Off": 0.0},
        error={"c1": (np.array([0.93, 1.01, 0.97]), np.zeros(3)), "c2": natural, "c3": natural},
        gain_step=(0.004, 0.0045, 0.005), offset_step=(0.0016, 0.0018, 0.002), emulated=("c1", "c2"), hdr_peak=110.0,
        hdr_knee=0.5, convergence=((1.5, 0.5), (-0.5, 1.0)), best_focus=37.0, corner_light=0.82, warm_up_s=20 * 60.0,
        cold_loss=0.08, cold_blue=0.02, reflectance=0.9, panel_levels=1023,
    )  # fmt: skip


def quantum_dot_menu() -> Menu:
    """Return the menu of the quantum-dot LCD: ten points, colours by mixing; with its blue-light reduction on."""
    lights = _by_place([
        *balance_items(-20, 20), *point_items(TEN, luminance=False, low=-25, high=25), *mixing_items(),
    ])  # fmt: skip
    items = [*_picture("Backlight", ("White", "Black")), *lights, *_processing(dimming=True)]
    calm: dict[str, Value] = {"pic-1": 30, "eco-2": True, "pq-5": 13, "pq-7": "Low", "pq-8": True}
    return _menu(
        items,
        {
            ("q1", "Brilliant", "sdr"): SHOP | {"pic-1": 95},
            ("q2", "Expert", "sdr"): calm,
            ("q3", "Expert", "hdr10"): calm | {"pic-1": 100, "eco-2": False},
            ("q4", "Expert", "hlg"): calm | {"pic-1": 100, "eco-2": False},
        },
    )


def quantum_dot_build() -> Build:
    """Return the quantum-dot LCD: narrow primaries, coarse steps of gain, an early roll-off in HDR."""
    expert = (np.array([1.008, 0.990, 0.972]), np.array([-0.002, 0.0, 0.003]))
    return Build(
        technology="lcd", primaries=quantum_dots(), light=(30.0, 4.4), leak=1 / 4200, gammas=GAMMAS, energy=ENERGY,
        error={"q1": (np.array([0.91, 0.97, 1.01]), np.zeros(3)), "q2": expert, "q3": expert, "q4": expert},
        gain_step=(0.0064, 0.0071, 0.0078), offset_step=(0.0024, 0.0026, 0.0029), emulated=("q2",), zones=(24, 14),
        hdr_peak=1150.0, hdr_knee=0.35,
    )  # fmt: skip


def lamp_menu() -> Menu:
    """Return the menu of the lamp projector: gains alone, in coarse steps, and no colour management."""
    gains = [item for item in balance_items(0, 255) if (item.role or "").startswith("white.gain")]
    lens = [
        Item("ln-focus", "Focus", "Lens", "range", None, 0, 60, shared=True),
        Item("ir-1", "Auto iris", "Light", "choice", "process.iris", options=STRENGTHS, off="Off"),
    ]
    tone = Item("pic-7", "Colour tone", "Picture", "choice", "white-preset", options=tuple(TONES))
    items = [*_picture("Lamp", ("Contrast", "Brightness")), tone, *gains, *lens, *_processing(dimming=False, energy=False)]
    theatre: dict[str, Value] = {
        "pic-1": 55, "pic-7": "Middle", "ln-focus": 22, "ir-1": "High", "pq-3": "Low", "wb-gr": 128, "wb-gg": 128, "wb-gb": 128,
    }  # fmt: skip
    return _menu(
        items,
        {
            ("l1", "Dynamic", "sdr"): theatre | {"pic-1": 100, "pic-4": "Soft", "pic-5": 60},
            ("l2", "Theatre", "sdr"): theatre,
            ("l3", "Theatre HDR", "hdr10"): theatre | {"pic-1": 100},
        },
    )


def lamp_build() -> Build:
    """Return the lamp projector: broad primaries, a lamp that wanders and takes half an hour to settle."""
    theatre = (np.array([1.0, 0.985, 0.958]) - 128 * np.array([0.0009, 0.001, 0.0011]), np.array([0.001, 0.0, -0.001]))
    return Build(
        technology="projector", primaries=xenon_lamp(), light=(9.0, 0.62), leak=1 / 900, gammas=GAMMAS, energy={"Off": 0.0},
        error={"l1": (theatre[0] * np.array([0.96, 1.02, 0.98]), np.zeros(3)), "l2": theatre, "l3": theatre},
        gain_step=(0.0009, 0.0010, 0.0011), emulated=("l2",), hdr_peak=75.0, hdr_knee=0.4, best_focus=29.0, corner_light=0.7,
        warm_up_s=28 * 60.0, cold_loss=0.11, cold_blue=0.03, reflectance=0.9, ageing=(0.42, 700.0), hours=340.0,
        modulation_hz=(480.0, 120.0), tones=TONES,
    )  # fmt: skip
