"""Displays drawn at random, each a rig: technology, errors, step sizes, cross-talk, overlap and a meter with noise.

They are made differently from the stand-ins on purpose: other curves, other overlaps, other colour management. What adjusts
them can rely on nothing but the device link's roles.
"""

from typing import Any

import numpy as np

from fenvik.core.colour import difference
from fenvik.core.colour.space import BT709, BT2020, D65_XY, P3D65, rgb_to_xyz_matrix
from fenvik.core.colour.target import Target
from fenvik.core.measure.averaging import steady_average, typical_seconds
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.types import Floats

LIGHTS = ("red", "green", "blue")
COLOURS = ("red", "yellow", "green", "cyan", "blue", "magenta")
SIX = ((1, 0, 0), (0, 1, 0), (0, 0, 1), (0, 1, 1), (1, 0, 1), (1, 1, 0))
KINDS = ("lcd", "quantum-dot", "oled", "wrgb-oled", "projector")
CODES = 876.0  # steps of a ten-bit signal in limited range
TOP = 75.0
QUICK = ((0.003, 3.0), (0.1, 1.8), (1.0, 0.9), (10.0, 0.4), (100.0, 0.25))  # cd/m² and seconds of one reading


def _range(name: str, role: str, low: float, high: float, step: float, value: float = 0.0) -> dict[str, Any]:
    return {
        "id": name, "label": name, "group": "picture", "kind": "range", "role": role, "min": low, "max": high, "step": step,
        "value": value, "default": value,
    }  # fmt: skip


def _choice(name: str, role: str, options: list[str], value: str) -> dict[str, Any]:
    return {
        "id": name, "label": name, "group": "picture", "kind": "choice", "role": role, "options": options, "value": value,
        "default": value,
    }  # fmt: skip


class RandomDisplay:
    """One sample. ``read`` is the meter's, with its noise; ``truth`` is the display's own light."""

    def __init__(self, seed: int) -> None:
        self.draw = draw = np.random.default_rng(seed)
        self.kind = str(draw.choice(KINDS))
        self.readings = self.moves = 0
        self.seconds = 0.0  # that the meter was busy
        self._light(draw)
        self._curve(draw)
        self._menu(draw)
        self._meter(draw)

    def _light(self, draw: np.random.Generator) -> None:
        wide = {"lcd": BT709, "quantum-dot": P3D65, "oled": P3D65, "wrgb-oled": P3D65, "projector": BT2020}[self.kind]
        native = rgb_to_xyz_matrix(wide, D65_XY)
        native = native * (1.0 + draw.normal(0.0, 0.02, (3, 3)))
        native = native * (rgb_to_xyz_matrix(wide, D65_XY).sum(axis=1) @ np.linalg.inv(native).T)
        self.native = native
        # The mode emulates BT.709, not quite.
        self.mix = np.linalg.solve(native, rgb_to_xyz_matrix(BT709, D65_XY)) + draw.normal(0.0, 0.012, (3, 3))
        self.peak = float({"projector": 60.0}.get(self.kind, 150.0) * draw.uniform(0.7, 1.8))
        self.leak = 0.0 if "oled" in self.kind else float(1.0 / draw.uniform(900, 5000))
        self.boost = float(draw.uniform(0.1, 0.45)) if self.kind == "wrgb-oled" else 0.0
        self.boost_xyz = native.sum(axis=1) * (1.0 + draw.normal(0.0, 0.02, 3))
        self.levels = float(draw.choice([1023, 2047, 4095]))
        self.cold, self.warms = float(draw.uniform(0.0, 0.012)), float(draw.uniform(30, 90))  # readings

    def _curve(self, draw: np.random.Generator) -> None:
        middle = float(draw.uniform(2.05, 2.5))
        self.gammas = {"A": middle - 0.18, "B": middle, "C": middle + 0.17}
        self.gamma_off = draw.normal(0.0, 0.02, 3)
        self.bumps = draw.normal(0.0, 0.005, (3, 3))  # channel by wave
        self.scale, self.shift = 1.0 + draw.normal(-0.02, 0.022, 3), draw.normal(0.0, 0.004, 3)
        self.presets = {"W1": np.ones(3), "W2": np.array([0.96, 0.99, 1.03]), "W3": np.array([1.03, 0.99, 0.95])}

    def _menu(self, draw: np.random.Generator) -> None:
        self.controls: list[dict[str, Any]] = [_range("light", "light", 0, 100, 1, float(draw.integers(30, 80)))]
        if draw.random() < 0.6:
            self.controls.append(_choice("curve", "gamma", list(self.gammas), str(draw.choice(list(self.gammas)))))
        if draw.random() < 0.4:
            self.controls.append(
                _choice("preset", "white-preset", list(self.presets), str(draw.choice(list(self.presets))))
            )
        half = float(draw.choice([20, 30, 50, 100]))
        reach = float(draw.uniform(0.10, 0.25))  # of the signal at a control's end
        cross = float(draw.uniform(0.0, 0.10))
        self.gain = self._effects(draw, reach / half, cross)
        self.offset = self._effects(draw, 0.45 * reach / half, cross)
        self.has_offsets = draw.random() < 0.85
        self.gains_in_light = draw.random() < 0.35
        for end in ("gain", "offset") if self.has_offsets else ("gain",):
            self.controls += [_range(f"{end}-{c}", f"white.{end}.{c}", -half, half, 1) for c in LIGHTS]
        at = draw.choice(["none", "ten", "twenty", "odd"], p=[0.25, 0.3, 0.35, 0.1])
        self.at = {
            "none": [], "ten": [10.0 * i for i in range(1, 11)], "twenty": [5.0 * i for i in range(1, 21)],
            "odd": [2.5, 6.0, 12.0, 20.0, 30.0, 42.0, 55.0, 70.0, 85.0],
        }[str(at)]  # fmt: skip
        span = float(draw.choice([25, 50]))
        self.points = np.array(self.at) / 100.0
        self.point_step = float(draw.uniform(0.04, 0.09)) / span * draw.uniform(0.75, 1.3, (max(len(self.at), 1), 3))
        self.tents, self.overlap = draw.random() < 0.5, float(draw.uniform(0.45, 1.0))
        for level in self.at:
            self.controls += [_range(f"at-{level:g}-{c}", f"white.at.{level:g}.{c}", -span, span, 1) for c in LIGHTS]
        self.cms = str(draw.choice(["none", "attribute", "mix"], p=[0.2, 0.45, 0.35]))
        parts = {"none": (), "attribute": ("hue", "saturation", "luminance"), "mix": tuple(f"mix.{c}" for c in LIGHTS)}[
            self.cms
        ]
        ends = float(draw.choice([10, 30, 50]))
        self.cms_step = {p: float(draw.uniform(0.12, 0.3)) / ends for p in ("hue", "saturation", "luminance", "mix")}
        self.cms_step["hue"] *= float(draw.choice([-1.0, 1.0]))
        self.dead = str(draw.choice(COLOURS)) if draw.random() < 0.2 else ""
        self.controls += [_range(f"{c}-{p}", f"colour.{c}.{p}", -ends, ends, 1) for c in COLOURS for p in parts]
        self._by = {c["role"]: c for c in self.controls}

    @staticmethod
    def _effects(draw: np.random.Generator, step: float, cross: float) -> Floats:
        own = np.diag(step * draw.uniform(0.8, 1.25, 3))
        return own + (1 - np.eye(3)) * step * cross * draw.uniform(-1.0, 1.0, (3, 3))

    def _meter(self, draw: np.random.Generator) -> None:
        self.noise_y, self.noise_xy = float(draw.uniform(0.0005, 0.003)), float(draw.uniform(0.0002, 0.0008))
        self.floor = 0.003
        rows = [(y, *self._noise(y)) for y in (0.01, 0.03, 0.1, 0.3, 1.0, 3.0, 10.0, 100.0)]
        self.repeatability = Repeatability.of([(y, of_y, of_xy, of_xy) for y, of_y, of_xy in rows])

    def _noise(self, luminance: float) -> tuple[float, float]:
        """Return one deviation of a single reading: of luminance in relation to it, and of x and y."""
        return (
            self.noise_y * (1.0 + 0.2 / max(luminance, 0.02)),
            self.noise_xy * (1.0 + 0.3 / max(luminance, 0.05)),
        )

    def _value(self, role: str, default: Any = 0.0) -> Any:
        control = self._by.get(role)
        return default if control is None else control["value"]

    def _three(self, start: str) -> Floats:
        return np.array([float(self._value(f"{start}.{c}")) for c in LIGHTS])

    def _felt(self, v: Floats) -> tuple[Floats, Floats]:
        """Return how much of a gain and of an offset is felt at signals (n, 3)."""
        return v, 1.0 - v

    def _gains(self) -> Floats:
        gains = 1.0 + self.gain @ self._three("white.gain")
        return np.maximum(gains, 0.05) ** 0.9 if self.gains_in_light else gains  # turned in light and felt in the signal

    def _balanced(self, v: Floats) -> Floats:
        high, low = self._felt(v)
        v = (v + high * (self._gains() - 1.0)) * self.scale + self.shift * (1.0 - v)
        v = v + (self.offset @ self._three("white.offset")) * low
        steps = self._bends() if len(self.points) else np.zeros(0)
        return self._bent_by(v, steps) if steps.any() else v

    def _bends(self) -> Floats:
        """Return what the points add to each light (k, 3), of signal."""
        made: Floats = np.array([self._three(f"white.at.{level:g}") for level in self.at]) * self.point_step
        return made

    def _bent_by(self, v: Floats, steps: Floats) -> Floats:
        """Return signals (n, 3) with what the points (k, 3) add."""
        gaps = np.gradient(self.points) * self.overlap
        away = np.abs(v[:, :, None] - self.points) / gaps
        weight = np.clip(1.0 - 0.6 * away, 0.0, 1.0) if self.tents else np.exp(-0.5 * (away / 0.7) ** 2)
        return np.asarray(v + np.einsum("nck,kc->nc", weight, steps))

    def _managed(self, light: Floats) -> Floats:
        if self.cms == "none":
            return light
        r, g, b = light.T
        weight = {
            "red": r - np.maximum(g, b), "green": g - np.maximum(r, b), "blue": b - np.maximum(r, g),
            "yellow": np.minimum(r, g) - b, "cyan": np.minimum(g, b) - r, "magenta": np.minimum(r, b) - g,
        }  # fmt: skip
        made = light.copy()
        for colour in COLOURS:
            share = np.clip(weight[colour], 0.0, None)[:, None]
            if colour == self.dead or not share.any():
                continue
            if self.cms == "mix":
                made = made + share * self.cms_step["mix"] * self._three(f"colour.{colour}.mix")
                continue
            hue, saturation, luminance = (
                float(self._value(f"colour.{colour}.{p}")) * self.cms_step[p]
                for p in ("hue", "saturation", "luminance")
            )
            own = np.array([1.0 if c in _made_of(colour) else 0.0 for c in LIGHTS])
            turn = np.roll(own, 1) - np.roll(own, -1)
            made = made + share * (
                hue * turn * 0.5 - saturation * (1.0 - own) * 0.6 + saturation * own * 0.1 + luminance * own
            )
        return np.clip(made, 0.0, None)

    def emitted(self, fraction: Floats) -> Floats:
        """Return the XYZ (n, 3) in cd/m² that signal fractions (n, 3) give."""
        v = self._balanced(np.clip(np.atleast_2d(fraction), 0.0, 1.0))
        v = np.clip(v, 0.0, 1.06)
        waves = np.stack([np.sin(np.pi * (k + 1) * v) for k in range(3)], axis=-1)  # (n, 3, 3)
        v = v + np.einsum("nck,ck->nc", waves, self.bumps)
        light = np.clip(v, 0.0, None) ** (self.gammas[self._value("gamma", "B")] + self.gamma_off)
        light = self._managed(light) @ self.mix.T * self.presets[self._value("white-preset", "W1")]
        light = np.clip(light, 0.0, None)
        light = (np.round(light ** (1 / 2.2) * self.levels / 1.1) * 1.1 / self.levels) ** 2.2
        peak = self.peak * (0.15 + 0.85 * float(self._value("light", 60.0)) / 100.0)
        peak *= 1.0 - self.cold * np.exp(-self.readings / self.warms)
        xyz: Floats = peak * ((light + self.leak) @ self.native.T)
        return xyz + peak * self.boost * light.min(axis=1, keepdims=True) * self.boost_xyz

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Show a patch with ten bits and read it."""
        fraction = np.round(np.array(percent) / 100.0 * CODES) / CODES
        x, y, z = self.emitted(fraction[None])[0]
        self.readings += 1
        if y < self.floor:
            return fraction, np.zeros(3)
        total = x + y + z
        # As the command and the worker do: a meter that is noisy and quick is averaged within a reading.
        average = steady_average(self.repeatability, QUICK, max(y, 0.01), grey=bool(np.ptp(fraction) == 0))
        self.seconds += average * float(typical_seconds(QUICK, max(y, 0.01)))
        noise_y, noise_xy = self._noise(y)
        a, b = np.array([x, y]) / total + self.draw.normal(0.0, noise_xy / average**0.5, 2)
        y *= 1.0 + self.draw.normal(0.0, noise_y / average**0.5)
        return fraction, np.array([a / b * y, y, (1 - a - b) / b * y])

    def set(self, control: str, value: Any) -> Any:
        """Turn a control."""
        self.moves += 1
        next(c for c in self.controls if c["id"] == control)["value"] = value
        return value

    def truth(self, target: Target) -> tuple[float, float, float, float]:
        """Return mean and worst CIEDE2000 of 19 greys from 10 % up, and of 24 colours at 75 %, of the true light."""
        greys = np.repeat(np.linspace(1.0, 0.0, 21)[:, None], 3, axis=1)
        share = np.array([0.25, 0.5, 0.75, 1.0])
        colours = np.array([[TOP / 100 * (1.0 if lit else 1.0 - s) for lit in mix] for mix in SIX for s in share])
        xyz = self.emitted(np.vstack([greys, colours]))
        error = held(target, np.vstack([greys, colours]), xyz)
        return float(error[:19].mean()), float(error[:19].max()), float(error[21:].mean()), float(error[21:].max())


def _made_of(colour: str) -> tuple[str, ...]:
    mixed = {"yellow": ("red", "green"), "cyan": ("green", "blue"), "magenta": ("red", "blue")}
    return mixed.get(colour, (colour,))


def held(target: Target, fraction: Floats, xyz: Floats) -> Floats:
    """Return CIEDE2000 against the target with the measured white (row 0) and black (row 20)."""
    error: Floats = difference.whole(target.xyz(fraction, xyz[0, 1], xyz[20, 1]), xyz, target.white * xyz[0, 1]).total
    return error
