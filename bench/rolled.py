"""PQ with an end or a reference white of its own, and with light that is wanted lower: by controls, and installed.

Prints the table of docs/hdr/reaches.md. `./fenvik bench rolled [COUNT]`: 20 displays a row take two minutes. ΔE ITP by the true light; by
controls of greys up to 0.6 of the peak, for there every way of ending is still to be had, installed of all greys.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.hdr import HdrDisplay
from bench.installed import drawn
from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.colour.target import TARGETS, Target
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform
from fenvik.core.types import Floats

COUNT, OF_CONTROLS, OF_INSTALLED, BUDGET = 20, 7000, 100, 140
PQ = TARGETS["bt2020-pq"]
OF_PEAK, LEAST = 0.6, 0.05  # of the peak; cd/m²
LEVELS = np.repeat(np.array([0.0, *np.linspace(0.05, 1.0, 27)])[:, None], 3, axis=1)  # black first


@dataclass(frozen=True)
class Aim:
    """What is wanted: a target, and the light of white in cd/m² where somebody wants it lower."""

    target: Target
    luminance: float | None = None


AIMS = {
    "cut off at the peak": Aim(PQ),
    "rolled off from 1,000 cd/m²": Aim(replace(PQ, rolls_off=True, mastered=(1000.0, 0.005))),
    "rolled off from 4,000 cd/m²": Aim(replace(PQ, rolls_off=True, mastered=(4000.0, 0.005))),
    "bent by two points": Aim(replace(PQ, knees=((0.6, 0.6), (0.75, 0.68)))),
    "a reference white of 100 cd/m²": Aim(replace(PQ, rolls_off=True, mastered=(1000.0, 0.005), diffuse=100.0)),
    "light at 300 cd/m²": Aim(PQ, 300.0),
}


def off_by(target: Target, xyz: Floats, peak: float, *, share: float) -> Floats:
    """Return the errors of greys XYZ at ``LEVELS`` that are wanted at no more than a share of the peak."""
    wanted = target.xyz(LEVELS, peak, black := float(xyz[0, 1]))
    lit = (wanted[:, 1] > max(LEAST, 2.0 * black)) & (wanted[:, 1] <= share * peak * 1.001)
    return np.asarray(target.metric.whole(wanted, xyz, target.white * peak)[lit])


def ends_at(target: Target, peak: float) -> float:
    """Return the cd/m² that full signal is to reach on a display with a peak: a target may end below it by itself."""
    return float(min(peak, target.xyz(np.ones(3), peak, 0.0)[1]))


def by_controls(asked: tuple[str, int]) -> dict[str, Any]:
    """Adjust one display; return what was found and what is left."""
    aim, display = AIMS[asked[0]], HdrDisplay(asked[1])

    def seen() -> tuple[Floats, float]:
        peak = float(display.emitted(np.ones((1, 3)))[0, 1])
        return off_by(aim.target, display.emitted(LEVELS), peak, share=OF_PEAK), peak

    found, peak = seen()
    job = Job(Desk(display.controls, budget=BUDGET), aim.target, luminance=aim.luminance)
    perform(job.run(), display)
    left, now = seen()
    return {"found": found, "left": left, "peak": now / ends_at(aim.target, peak), "readings": display.readings, "back": job.restored, "job": job}


def installed(asked: tuple[str, int]) -> dict[str, Any]:
    """Install in one OLED; return what was found and what is left."""
    aim, here = AIMS[asked[0]], drawn(asked[1])
    here.controls = here.display.menu.described(here.mode)

    def emitted(level: float) -> Floats:
        here._show((100.0 * level,) * 3)
        return np.asarray(spectrum_to_xyz(here.display.optics.radiance(here.mode, (0.5, 0.5))))

    def seen(peak: float | None = None) -> tuple[Floats, float]:
        xyz, white = np.array([emitted(float(v[0])) for v in LEVELS]), float(emitted(1.0)[1])
        held = white if peak is None else ends_at(aim.target, peak)
        return off_by(aim.target, xyz, max(held, white), share=1.0), white / held

    found, _ = seen()
    peak = float(emitted(1.0)[1])
    job = Job(Desk(here.controls, budget=BUDGET), aim.target, by="install", takes=here.display.optics.build.installs)
    perform(job.run(), here)
    left, share = seen(peak)
    return {"found": found, "left": left, "peak": share, "readings": len(job.desk.taken), "back": job.restored, "job": job}


def told(way: Any, aim: str, seed: int) -> dict[str, Any]:
    """Return what one run has left, without what cannot be sent between processes."""
    made = way((aim, seed))
    return {name: value for name, value in made.items() if name != "job"}


def main() -> None:
    """Run all rows and print the table: middle / 90 of 100."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    for name, way, start in (("by controls", by_controls, OF_CONTROLS), ("installed", installed, OF_INSTALLED)):
        print(f"\n| {name}, {count} displays | found | left, mean | worst | of the peak | readings | put back |\n|---|---|---|---|---|---|---|")
        for aim, wanted in AIMS.items():
            if way is installed and wanted.luminance is not None:
                continue
            with ProcessPoolExecutor() as pool:
                rows = list(pool.map(told, [way] * count, [aim] * count, range(start, start + count)))
            cells = [
                " / ".join(f"{np.quantile([measure(row) for row in rows], q):.2f}" for q in (0.5, 0.9))
                for measure in (
                    lambda row: row["found"].mean(), lambda row: row["left"].mean(), lambda row: row["left"].max(),
                    lambda row: row["peak"], lambda row: row["readings"],
                )
            ]  # fmt: skip
            print(f"| {aim} | {' | '.join(cells)} | {sum(row['back'] for row in rows)} |", flush=True)


if __name__ == "__main__":
    main()
