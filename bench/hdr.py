"""Hands-free in HDR10 over displays drawn at random: knees, limiters, white sub-pixels, dim projectors; beside plain strategies.

Prints the table of docs/hdr/reaches.md. `./fenvik bench hdr [COUNT [behind]]`: 200 displays take some minutes. Judged by true light, ΔE ITP.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay, _range
from bench.handsfree import Plain, descent, halving, line, proportional
from fenvik.core.colour import curves
from fenvik.core.colour.space import BT2020, D65_XY, P3D65, rgb_to_xyz_matrix
from fenvik.core.colour.target import TARGETS
from fenvik.core.controls import of_greys
from fenvik.core.models.greyblock import prior_units
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform
from fenvik.core.types import Floats

TARGET = TARGETS["bt2020-pq"]
COUNT, START, BUDGET = 200, 5000, 140
PEAKS = {"lcd": (350, 900), "quantum-dot": (500, 1600), "oled": (450, 1300), "wrgb-oled": (450, 1100), "projector": (50, 130)}
ROOM = 1.05  # of the peak: what a panel has above it, where white balance stands behind the roll-off
LEAST_CD_M2 = 0.6  # and twice the display's own black: below, black speaks
P3 = rgb_to_xyz_matrix(P3D65, D65_XY)


class HdrDisplay(RandomDisplay):
    """A sample in its HDR10 mode: follows PQ in its own way to a knee, then bends to its peak.

    ``is_behind``: its white balance acts on what has been rolled off already, and not on the signal that arrives.
    """

    is_behind = False

    def _light(self, draw: np.random.Generator) -> None:
        super()._light(draw)
        low, high = PEAKS[self.kind]
        self.top = float(np.exp(draw.uniform(np.log(low), np.log(high))))
        self.leak = 0.0 if "oled" in self.kind else float(self.top / draw.uniform(900, 5000))
        self.knee = float(draw.uniform(0.6, 0.97))  # of the peak's PQ signal
        self.hard = float(draw.uniform(1.0, 3.0))  # of the bend
        wide = rgb_to_xyz_matrix(BT2020, D65_XY)
        self.mix = np.linalg.solve(self.native, wide) + draw.normal(0.0, 0.012, (3, 3))
        self.blue_of_peak = draw.uniform(0.96, 1.0, 3)  # what each light has left at the end
        self.levels = float(draw.choice([2047, 4095, 8191]))

    def _curve(self, draw: np.random.Generator) -> None:
        super()._curve(draw)
        self.steep, self.dark = float(draw.normal(1.0, 0.015)), float(draw.normal(0.0, 0.004))
        self.bumps = draw.normal(0.0, 0.004, (3, 3))
        self.scale, self.shift = 1.0 + draw.normal(0.0, 0.012, 3), draw.normal(0.0, 0.003, 3)

    def _menu(self, draw: np.random.Generator) -> None:
        super()._menu(draw)
        # No gamma to choose; points where HDR menus have them; steps are of PQ signal, which is finer.
        self.controls = [c for c in self.controls if c["role"] not in ("gamma", "light")]
        self.controls.insert(0, _range("light", "light", 0, 100, 1, float(draw.choice([100, 100, 85]))))
        self.gain, self.offset, self.point_step = 0.4 * self.gain, 0.4 * self.offset, 0.5 * self.point_step
        self._by = {c["role"]: c for c in self.controls}

    def _value(self, role: str, default: Any = 0.0) -> Any:
        return super()._value(role, 100.0 if role == "light" else default)

    def emitted(self, fraction: Floats) -> Floats:
        """Return the XYZ (n, 3) in cd/m² that PQ signal fractions (n, 3) give."""
        v = np.clip(np.atleast_2d(fraction), 0.0, 1.0)
        v = v if self.is_behind else np.clip(self._balanced(v), 0.0, 1.06)
        waves = np.stack([np.sin(np.pi * (k + 1) * v) for k in range(3)], axis=-1)
        v = v * self.steep + self.dark * (1.0 - v) + np.einsum("nck,ck->nc", waves, self.bumps)
        light = self._managed(curves.pq(np.clip(v, 0.0, 1.0)) / 10_000.0) @ self.mix.T
        light = np.clip(light * self.presets[self._value("white-preset", "W1")], 0.0, None) * 10_000.0
        peak = self.top * (0.15 + 0.85 * float(self._value("light", 100.0)) / 100.0)
        peak *= 1.0 - self.cold * np.exp(-self.readings / self.warms)
        s, top = curves.pq_inverse(light), curves.pq_inverse(peak * self.blue_of_peak)
        knee = self.knee * top
        over = np.maximum(s - knee, 0.0) / np.maximum(top - knee, 1e-6)
        bent = (1.0 - (1.0 + over / self.hard) ** -self.hard) if self.hard < 2.9 else np.minimum(over, 1.0)
        s = np.where(s > knee, knee + (top - knee) * np.minimum(bent, 1.0), s)
        if self.is_behind:
            s = np.clip(self._balanced(s), 0.0, curves.pq_inverse(ROOM * peak))
        s = np.round(s * self.levels) / self.levels
        lit = curves.pq(s)
        share = self.boost * lit.min(axis=1, keepdims=True) / (1.0 + self.boost)
        xyz: Floats = (lit / (1.0 + self.boost) + self.leak) @ self.native.T + share * self.boost_xyz
        return xyz

    def greys(self) -> tuple[Floats, Floats, float, float]:
        """Return ΔE ITP of 21 greys from 5 % to 98 % of the peak, the cd/m² wanted of them, peak and black."""
        ends = self.emitted(np.array([[1.0] * 3, [0.0] * 3]))
        peak, black = float(ends[0, 1]), float(ends[1, 1])
        levels = np.repeat(np.linspace(0.05, float(TARGET.fraction(0.98 * peak, peak, black)), 21)[:, None], 3, axis=1)
        wanted = TARGET.xyz(levels, peak, black)
        return TARGET.metric.whole(wanted, self.emitted(levels), TARGET.white * peak), wanted[:, 1], peak, black

    def follows(self, wanted: Floats, peak: float, black: float) -> Floats:
        """Return which greys lie below the knee and are no blacker than the display."""
        lit = (wanted > LEAST_CD_M2) & (wanted > 2.0 * black)
        return lit & (curves.pq_inverse(wanted) < self.knee * float(curves.pq_inverse(peak)))

    def hdr_truth(self) -> dict[str, float]:
        """Return the errors of greys that are no blacker than the display, of those below its knee, and of P3 colours."""
        error, wanted, peak, black = self.greys()
        lit = (wanted > LEAST_CD_M2) & (wanted > 2.0 * black)
        follows = self.follows(wanted, peak, black)
        at = min(100.0, 0.3 * peak)
        colours = np.array([at * (P3 @ light) for light in ((1, 0, 0), (0, 1, 0), (0, 0, 1), (0, 1, 1), (1, 0, 1), (1, 1, 0))])
        sent = TARGET.drive(colours, peak, black)
        of_colours = TARGET.metric.whole(TARGET.xyz(sent, peak, black), self.emitted(sent), TARGET.white * peak)
        told = {"mean": error[lit].mean(), "worst": error[lit].max(), "colours": of_colours.mean(), "peak": peak, "black": black}
        told |= {"follows_mean": error[follows].mean(), "follows_worst": error[follows].max()} if follows.any() else {}
        return {name: float(v) for name, v in told.items()}


class PlainHdr(Plain):
    """A plain strategy's desk in HDR: PQ wants every light itself, so only the peak is read first."""

    def __init__(self, display: HdrDisplay) -> None:
        self.display = display
        self.white, self.black = self._xyz(100.0)[1], max(self._xyz(0.0)[1], 0.0)
        values = {c["id"]: c["value"] for c in display.controls}
        self.knobs = of_greys(display.controls, values, ("gain", "offset", "point"))
        self.units = prior_units(self.knobs)
        self.top = 100.0 * float(TARGET.fraction(0.5 * self.white, self.white, 0.0))

    def level_of(self, k: int) -> float:
        """Return the level in percent at which a control is looked at: below half of the peak, but for points of their own."""
        knob = self.knobs[k]
        return {"gain": 0.8 * self.top, "offset": 0.3 * self.top}.get(knob.kind, 100.0 * knob.at)

    def drives(self, level: float) -> np.ndarray:
        """Return the drives (3,) of a level in percent."""
        return TARGET.unrolled.drive(self._xyz(level), self.white, self.black)

    def error(self, level: float) -> float:
        """Return the error of a level as it is read."""
        wanted = TARGET.xyz(np.full((1, 3), level / 100.0), self.white, self.black)
        return float(TARGET.metric.whole(wanted, self._xyz(level)[None], TARGET.white * self.white)[0])


class Behind(HdrDisplay):
    """One whose white balance stands behind its roll-off."""

    is_behind = True


def one(asked: tuple[int, type[HdrDisplay]]) -> dict[str, Any]:
    """Run everything on one display; each begins from the same sample as found."""
    seed, sample = asked
    display = sample(seed)
    told: dict[str, Any] = {"kind": "points" if display.at else "two-point", "panel": display.kind, "found": display.hdr_truth()}
    job = Job(Desk(display.controls, budget=BUDGET), TARGET)
    perform(job.run(), display)
    told |= {"left": display.hdr_truth(), "readings": display.readings, "moves": display.moves, "restored": job.restored}
    _, wanted, peak, black = display.greys()
    follows = display.follows(wanted, peak, black)
    if follows.any():
        told["limit"] = descent(display, ("white.",), lambda: display.greys()[0][follows])
    for name, strategy in (("halving", halving), ("proportional", proportional)):
        again = sample(seed)
        strategy(again, PlainHdr)
        told[name] = (again.hdr_truth(), again.readings, again.moves)
    return told


def main() -> None:
    """Run all displays and print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    sample = Behind if "behind" in sys.argv else HdrDisplay
    with ProcessPoolExecutor() as pool:
        told = list(pool.map(one, [(seed, sample) for seed in range(START, START + count)], chunksize=4))
    worse = [t for t in told if t["left"]["mean"] > t["found"]["mean"] + 0.05]
    dimmer = [t for t in told if t["left"]["peak"] < 0.98 * t["found"]["peak"]]
    print(f"{count} displays; restored: {sum(t['restored'] for t in told)}; worse than found: {len(worse)}; more than 2 % of peak "
          f"lost: {len(dimmer)}; black more than 3 % up: "
          f"{sum(t['left']['black'] > 1.03 * t['found']['black'] + 0.001 for t in told)}")  # fmt: skip
    for kind in ("points", "two-point"):
        rows = [t for t in told if t["kind"] == kind]
        print(f"\ngreys, {kind}, {len(rows)} displays: mean | worst | readings | moves (middle / 90 of 100)")
        for name, ends in (("to 98 % of the peak", ("mean", "worst")), ("to the roll-off", ("follows_mean", "follows_worst"))):
            there = [t for t in rows if ends[0] in t["found"] and ends[0] in t["left"]]
            line(f"as found, {name}", [tuple(t["found"][e] for e in ends) for t in there], None, None)
            line(f"hands-free, {name}", [tuple(t["left"][e] for e in ends) for t in there], [t["readings"] for t in there],
                 [t["moves"] for t in there])  # fmt: skip
            for plain in ("halving", "proportional"):
                usable = [t for t in there if ends[0] in t[plain][0]]
                line(f"{plain}, {name}", [tuple(t[plain][0][e] for e in ends) for t in usable], [t[plain][1] for t in usable],
                     [t[plain][2] for t in usable])  # fmt: skip
        allowed = [t["limit"] for t in rows if "limit" in t]
        if allowed:
            line("what whole steps allow, to the roll-off", allowed, None, None)
    for when in ("found", "left"):
        colours = np.array([t[when]["colours"] for t in told])
        print(f"P3 colours, {when}: {np.median(colours):.2f} / {np.quantile(colours, 0.9):.2f}")
    late = sorted(told, key=lambda t: -t["left"].get("follows_worst", 0.0))[:6]
    for t in late:
        print(t["panel"], t["kind"], {k: round(v, 2) for k, v in t["left"].items()})


if __name__ == "__main__":
    main()
