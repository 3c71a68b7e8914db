"""Hands-free in HLG over displays drawn at random: a system gamma of their own, lights that end, black that lifts every grey.

Prints the table of docs/hdr/reaches.md. `./fenvik bench hlg [COUNT]`: 60 displays take two minutes. Judged by true light, ΔE ITP, beside the
white and the black that are left.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.handsfree import descent, line
from bench.hdr import P3, HdrDisplay
from fenvik.core.colour import curves
from fenvik.core.colour.target import TARGETS
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform
from fenvik.core.types import Floats

TARGET = TARGETS["bt2020-hlg"]
COUNT, START, BUDGET = 60, 8000, 140
LEVELS = np.repeat(np.linspace(0.05, 1.0, 20)[:, None], 3, axis=1)
LUMA = np.array([0.2627, 0.6780, 0.0593])  # BT.2100
FIXED, UNLIKE = 1.2, 0.12  # a system gamma that many keep at any peak; where that would be off by more, they have their own
ABOVE = 1.02  # of signal: what is beyond is cut off


class HlgDisplay(HdrDisplay):
    """A sample in its HLG mode: bends the scene's light by a gamma, and dims all of it by its light control."""

    def _menu(self, draw: np.random.Generator) -> None:
        super()._menu(draw)
        own = float(curves.hlg_gamma(self.top))
        kind, off = str(draw.choice(["own", "fixed", "off"])), float(draw.normal(0.0, 0.04))
        self.bends = {"own": own, "fixed": FIXED, "off": FIXED + off}[kind] if abs(own - FIXED) <= UNLIKE else own
        ends, share = draw.random() < 0.3, float(draw.uniform(0.85, 1.0))
        self.most = self.blue_of_peak * share if ends else np.full(3, 1.05)

    def emitted(self, fraction: Floats) -> Floats:
        """Return the XYZ (n, 3) in cd/m² that HLG signal fractions (n, 3) give."""
        v = np.clip(self._balanced(np.clip(np.atleast_2d(fraction), 0.0, 1.0)), 0.0, 1.06)
        waves = np.stack([np.sin(np.pi * (k + 1) * v) for k in range(3)], axis=-1)
        v = v * self.steep + self.dark * (1.0 - v) + np.einsum("nck,ck->nc", waves, self.bumps)
        scene = curves.hlg_scene(np.clip(v, 0.0, ABOVE), self.top, 0.0)
        light = scene * np.maximum(scene @ LUMA, 1e-9)[:, None] ** (self.bends - 1.0)
        light = self._managed(np.clip(light, 0.0, None)) @ self.mix.T
        light = np.minimum(np.clip(light * self.presets[self._value("white-preset", "W1")], 0.0, None), self.most)
        light = (np.round(light ** (1 / 2.4) * self.levels) / self.levels) ** 2.4
        peak = self.top * (0.15 + 0.85 * float(self._value("light", 100.0)) / 100.0)
        peak *= 1.0 - self.cold * np.exp(-self.readings / self.warms)
        share = self.boost * light.min(axis=1, keepdims=True) / (1.0 + self.boost)
        xyz: Floats = peak * ((light / (1.0 + self.boost) + self.leak / self.top) @ self.native.T + share * self.boost_xyz)
        return xyz

    def off(self, fraction: Floats) -> Floats:
        """Return ΔE ITP of signal fractions (n, 3)."""
        ends = self.emitted(np.array([[1.0] * 3, [0.0] * 3]))
        peak, black = float(ends[0, 1]), float(ends[1, 1])
        return np.asarray(TARGET.metric.whole(TARGET.xyz(fraction, peak, black), self.emitted(fraction), TARGET.white * peak))

    def hlg_truth(self) -> tuple[float, float, float, float]:
        """Return mean and worst error of 20 greys, the mean of six P3 colours, and the peak."""
        greys, peak = self.off(LEVELS), float(self.emitted(np.ones((1, 3)))[0, 1])
        lights = ((1, 0, 0), (0, 1, 0), (0, 0, 1), (0, 1, 1), (1, 0, 1), (1, 1, 0))
        sent = TARGET.drive(np.array([min(100.0, 0.3 * peak) * (P3 @ light) for light in lights]), peak, 0.0)
        return float(greys.mean()), float(greys.max()), float(self.off(sent).mean()), peak


def one(seed: int) -> dict[str, Any]:
    """Run the job on one display; return what was found, what is left and what whole steps allow."""
    display = HlgDisplay(seed)
    told: dict[str, Any] = {"points": bool(display.at), "found": display.hlg_truth()}
    job = Job(Desk(display.controls, budget=BUDGET), TARGET)
    perform(job.run(), display)
    told |= {"left": display.hlg_truth(), "readings": display.readings, "moves": display.moves, "restored": job.restored}
    return told | {"limit": descent(display, ("white.",), lambda: display.off(LEVELS))}


def main() -> None:
    """Run all displays and print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    with ProcessPoolExecutor() as pool:
        told = list(pool.map(one, range(START, START + count), chunksize=2))
    worse = sum(t["left"][0] > t["found"][0] + 0.05 for t in told)
    dimmer = sum(t["left"][3] < 0.98 * t["found"][3] for t in told)
    back = sum(t["restored"] for t in told)
    print(f"{count} displays; put back: {back}; worse than found: {worse}; more than 2 % of peak lost: {dimmer}")
    for kind, rows in (("points", [t for t in told if t["points"]]), ("two-point", [t for t in told if not t["points"]])):
        print(f"\ngreys, {kind}, {len(rows)} displays: mean | worst | readings | moves (middle / 90 of 100)")
        line("as found", [t["found"][:2] for t in rows], None, None)
        line("hands-free", [t["left"][:2] for t in rows], [t["readings"] for t in rows], [t["moves"] for t in rows])
        line("what whole steps allow", [t["limit"] for t in rows], None, None)
        colours = [np.percentile([t[when][2] for t in rows], [50, 90]) for when in ("found", "left")]
        print("P3 colours, found and left:", " and ".join(f"{middle:.1f} / {most:.1f}" for middle, most in colours))


if __name__ == "__main__":
    main()
