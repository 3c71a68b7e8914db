"""Hands-free on displays that are hard each in one way: processing that works on the picture, coarse and huge steps, dead points.

`./fenvik bench hard [COUNT] [WAY,WAY]` prints, for each way, what was found and left of the greys by the true light, and what whole steps allow.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay, _choice, _range
from bench.faulty import Faulty
from bench.handsfree import BUDGET, GREYS, TARGET, limit
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform
from fenvik.core.types import Floats

WAYS = (
    "none", "processing on", "sensor comes back", "labels mislead", "saturation off", "coarse, 1 % a step", "±5 at 0.4 %",
    "±512 at 0.4 %", "gains at an end", "three points inverted", "a dead point",
    "offsets in the dark alone", "two-point about 30 and 80 %", "felt at every second step", "felt at every fourth step",
    "long menus", "gains beside the brightest", "points in light", "lights end early", "bent like an S", "readings that beat",
    "white level too high", "too much colour", "too much colour, turned the other way", "too much colour, a dead control",
    "points push other lights", "points keep light", "points act elsewhere", "points turned before", "gains turned before", "colours turned before",
)  # fmt: skip
STEPS = {"coarse, 1 % a step": (5, 0.010), "±5 at 0.4 %": (5, 0.004), "±512 at 0.4 %": (512, 0.004)}
DIMS, SAVES, SENSES = 0.2, 0.15, 0.15  # of the light: dynamic contrast in white, saving in the dark, the sensor back and forth
OFF_BY = 0.82  # of saturation
DARK_TO = 0.35  # of signal: from where on offsets that are felt in the dark alone do nothing
ENDS_AT, BENT_BY, BEATS_BY = 0.97, 0.03, 0.015  # of signal; of signal; of light, by a meter that sees the display flicker
HIGHER, A_LEVEL, MORE, A_COLOUR = 12, 0.006, 8, 0.02  # steps too many, and what one does to the signal and to the saturation
IN_LIGHT = 4.0  # times what a point does to the signal: what it does to the light
ELSEWHERE = 0.08  # of a point's signal: by how much it acts below or above what its label says
PUSHED = 0.3  # of a point's own effect, at most: what it does to another light
SHARES = np.array([0.2126, 0.7152, 0.0722])  # of luminance
FELT = {"felt at every second step": 2, "felt at every fourth step": 4}
TURNED = {  # by somebody, at random: roles, and how far of their range
    "points turned before": (("white.at",), 0.4), "gains turned before": (("white.gain", "white.offset"), 0.9),
    "colours turned before": (("colour",), 0.6),
}  # fmt: skip
PROCESSING = ("dynamic-contrast", "energy", "ambient")


class Hard(RandomDisplay):
    """A display that is hard in one way."""

    def __init__(self, seed: int, way: str) -> None:
        super().__init__(seed)
        self.seed, self.way, self.chance = seed, way, np.random.default_rng(seed + 77)
        self.pushes = np.eye(3)  # light by the points of a light
        _, self.at_set = int(self.chance.integers(20, 90)), int(self.chance.integers(10, 60))
        if way in ("processing on", "sensor comes back"):
            self.controls += [self._process(name, value=way == "processing on") for name in PROCESSING]
        elif way == "labels mislead":
            self.gammas = dict(zip(self.gammas, np.roll(list(self.gammas.values()), 1), strict=True))
            self.presets = dict(zip(self.presets, [self.presets[n] for n in ("W2", "W3", "W1")], strict=True))
        elif way == "long menus":
            self._long_menus()
        elif way == "white level too high":
            self.controls.append(_range("white", "white-level", -50, 50, 1, HIGHER))
        elif way.startswith("too much colour"):
            stands = 50 - MORE if way.endswith("other way") else 50 + MORE
            self.controls.append(_range("colour", "saturation", 0, 100, 1, stands))
        elif way in STEPS:
            self._step(*STEPS[way])
        elif way in TURNED:
            roles, far = TURNED[way]
            for control in (c for c in self.controls if c["role"].startswith(roles)):
                control["value"] = float(round(self.chance.uniform(far * control["min"], far * control["max"])))
        elif way == "gains at an end":
            self._to_an_end()
        elif way == "points push other lights":
            self.pushes = np.eye(3) + (1 - np.eye(3)) * PUSHED * self.chance.uniform(-1.0, 1.0, (3, 3))
        elif way == "points keep light":
            self.pushes = np.eye(3) - SHARES  # what one light gets, the others lose
        elif way == "points act elsewhere":
            self.points = self.points * (1.0 + (ELSEWHERE if seed % 2 else -ELSEWHERE))
        elif self.at and way == "three points inverted":
            for place in self.chance.choice(self.point_step.size, 3, replace=False):
                self.point_step.flat[place] *= -1.0
        elif self.at and way == "a dead point":
            self.point_step.flat[self.chance.integers(self.point_step.size)] = 0.0
        self._by = {c["role"]: c for c in self.controls}

    @staticmethod
    def _process(name: str, *, value: bool) -> dict[str, Any]:
        return {
            "id": name, "label": name, "group": "picture", "kind": "switch", "role": f"process.{name}", "value": value, "off": False,
            "default": True,
        }  # fmt: skip

    def _long_menus(self) -> None:
        """Gamma by steps of 0.08 and white by many temperatures, as menus of projectors have them."""
        self.gammas = {f"{v:.2f}": float(v) for v in np.linspace(1.8, 2.68, 12)}
        self.presets = {f"{k}": np.array([1.0 - 0.08 * v, 1.0, 1.0 + 0.1 * v]) for k, v in enumerate(np.linspace(-1, 1, 17))}
        self.controls = [c for c in self.controls if c["role"] not in ("gamma", "white-preset")]
        for name, role, options in (("curve", "gamma", [*self.gammas]), ("preset", "white-preset", [*self.presets])):
            self.controls.append(_choice(name, role, options, str(self.chance.choice(options))))

    def _of_white(self, end: str) -> list[dict[str, Any]]:
        return [c for c in self.controls if c["role"].startswith(f"white.{end}.")]

    def _step(self, half: int, step: float) -> None:
        self.gain = self.gain * (step / self.gain.diagonal().mean())
        self.offset = self.offset * (0.45 * step / self.offset.diagonal().mean())
        for end in ("gain", "offset"):
            for control in self._of_white(end):
                control["min"], control["max"] = -half, half

    def _to_an_end(self) -> None:
        """One gain stands at its upper end, and what it does there is what the panel lacks."""
        control = self._of_white("gain")[int(self.chance.integers(3))]
        control["value"] = control["max"]
        turned = np.array([float(c["value"]) for c in self._of_white("gain")])
        self.scale = self.scale / (1.0 + self.gain @ turned)

    def _value(self, role: str, default: Any = 0.0) -> Any:
        """A display that counts in larger steps than its menu does: it drops the rest, rounds, or rounds down."""
        value, every = super()._value(role, default), FELT.get(self.way)
        if every is None or not role.startswith(("white.", "colour.")) or role not in self._by:
            return value
        return every * [np.trunc(value / every), np.floor(value / every + 0.5), np.floor(value / every)][self.seed % 3]

    def _three(self, start: str) -> Floats:
        made = super()._three(start)
        return self.pushes @ made if start.startswith("white.at") else made

    def _felt(self, v: Floats) -> tuple[Floats, Floats]:
        if self.way == "offsets in the dark alone":
            return v, np.maximum(1.0 - v / DARK_TO, 0.0)
        return ((v - 0.3) / 0.7, (0.8 - v) / 0.8) if self.way == "two-point about 30 and 80 %" else (v, 1.0 - v)

    def _gains(self) -> Floats:
        """Some menus keep the brightest light as it is, whichever gain is turned."""
        gains = super()._gains()
        return gains / gains.max() if self.way == "gains beside the brightest" else gains

    def _bent_by(self, v: Floats, steps: Floats) -> Floats:
        if self.way != "points in light":
            return super()._bent_by(v, steps)
        at = np.append(0.0, self.points)
        more = [np.interp(v[:, c], at, np.append(0.0, IN_LIGHT * steps[:, c])) for c in range(3)]
        return np.asarray(np.maximum(v, 1e-6) * np.maximum(1.0 + np.stack(more, axis=-1), 0.1) ** (1 / 2.2))

    def _balanced(self, v: Floats) -> Floats:
        made = super()._balanced(v)
        if self.way == "white level too high":
            made = np.minimum(made * (1.0 + A_LEVEL * float(self._value("white-level"))), 1.0)
        if self.way == "bent like an S":
            made = made + BENT_BY * np.sin(2.0 * np.pi * np.clip(made, 0.0, 1.0))
        return np.minimum(made, ENDS_AT) if self.way == "lights end early" else made

    def _managed(self, light: Floats) -> Floats:
        """Of all colours first, as far as the lights reach; then of each."""
        if not self.way.startswith("too much colour"):
            return super()._managed(light)
        more = float(self._value("saturation")) - 50.0
        more = MORE if self.way.endswith("dead control") else -more if self.way.endswith("other way") else more
        grey = (light @ TARGET.matrix[1])[:, None]
        return super()._managed(np.clip(grey + (light - grey) * (1.0 + A_COLOUR * more), 0.0, None))

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read, in step with the display or not."""
        fraction, xyz = super().read(percent)
        return fraction, xyz * (1.0 + BEATS_BY * np.sin(2.4 * self.readings)) if self.way == "readings that beat" else xyz

    def works(self, name: str) -> bool:
        """Return whether some processing is on."""
        return bool(self._value(f"process.{name}", default=False))

    def emitted(self, fraction: Floats) -> Floats:
        """Return the light, with what works on it."""
        light = super().emitted(fraction)
        mean = np.atleast_2d(fraction).mean(axis=1, keepdims=True)
        if self.way == "saturation off":
            y = light[:, [1]] * (TARGET.white / TARGET.white[1])
            light = y + OFF_BY * (light - y)
        if self.works("dynamic-contrast"):
            light = light * (1.0 - DIMS * mean**2)
        if self.works("energy"):
            light = light * (1.0 - SAVES * (1.0 - mean))
        if self.works("ambient"):
            light = light * (1.0 - SENSES * 0.5 * (1.0 + np.sin(self.readings / 7.0)))
        return np.asarray(light)

    def set(self, control: str, value: Any) -> Any:
        """Set; a sensor may come back by itself meanwhile."""
        now = super().set(control, value)
        if self.way == "sensor comes back" and self.moves == self.at_set:
            self._by["process.ambient"]["value"] = self._by["process.energy"]["value"] = True
        return now


def one(task: tuple[int, str]) -> tuple[str, float, float, float, float, bool, int, float]:
    """Return the way, mean error found, left and allowed, the worst left, whether all was put back, the readings, and of colours."""
    seed, way = task
    display = Hard(seed, way)
    found = display.truth(TARGET)[0]
    site = Faulty(seed, "none", display)
    job = Job(Desk(site.controls, budget=BUDGET), TARGET)
    perform(job.run(), site)
    left, worst, colours, _ = display.truth(TARGET)
    allowed = np.nan
    if not any(display.works(name) for name in PROCESSING):
        allowed, _ = limit(display, GREYS, ("white.",), slice(0, 19), FELT.get(way, 1))
    return way, found, left, allowed, worst, job.restored, display.readings, colours


def main() -> None:
    """Print a row for each way."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 30
    ways = sys.argv[2].split(",") if len(sys.argv) > 2 else WAYS
    with ProcessPoolExecutor() as pool:
        rows = list(pool.map(one, [(60_000 + i, way) for way in ways for i in range(count)], chunksize=4))
    print("greys, middle / 90 of 100: found | left | worst left | whole steps allow | worse than found, put back | readings | colours left")
    for way in ways:
        mine = [row for row in rows if row[0] == way]
        found, left, allowed, worst = (np.array([row[i] for row in mine]) for i in (1, 2, 3, 4))
        told = [f"{np.nanmedian(v):.2f} / {np.nanquantile(v, 0.9):.2f}" for v in (found, left, worst, allowed)]
        worse = int((left > found + 0.05).sum())
        put_back = sum(row[5] for row in mine)
        print(f"{way:24}", " | ".join(told), f"| {worse}, {put_back} | {np.median([row[6] for row in mine]):.0f} | {np.median([row[7] for row in mine]):.2f}", flush=True)


if __name__ == "__main__":
    main()
