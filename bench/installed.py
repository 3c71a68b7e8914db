"""What installing leaves on white-sub-pixel OLEDs drawn at random, in HDR10 or HLG: curves, a cube and a tone, by the true light.

Prints the table of docs/hdr/reaches.md. `./fenvik bench installed [COUNT] [hlg] [both] [cost=PERCENT]`: 40 displays take a minute. ΔE ITP,
greys from 5 % of signal to 98 % of the peak; in HLG to full signal. ``cost``: what white may cost of HLG's peak.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.site import Site
from fenvik.core.colour.target import TARGETS
from fenvik.core.models.points import MAY_COST
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform

COUNT, START, BUDGET = 40, 100, 140
OLED = 1
KINDS = {"hdr10": ("p4", TARGETS["bt2020-pq"]), "hlg": ("p5", TARGETS["bt2020-hlg"])}  # by signal: its mode, and the target
PEAK, KNEE, BOOST = (440.0, 1700.0), (0.6, 0.95), (0.2, 0.7)  # cd/m² of the three lights; of the peak; of their sum
PANELS = (1023, 4095)  # steps of the panel: with few of them dark levels cannot be better than one of them
SCALE, SHIFT, BEND = 0.03, 0.004, 0.006  # of signal, each light by itself
MOST_LOST = 0.02


def drawn(seed: int, signal: str = "hdr10") -> Site:
    """Return a sample unlike any that ships: the stand-ins' OLED with another light, another end and other lights."""
    mode = KINDS[signal][0]
    here = Site(OLED, mode, seed, signal=signal)
    optics, draw = here.display.optics, np.random.default_rng(seed * 7 + 1)
    scale, shift = optics.build.error[mode]
    off = np.asarray(scale) * np.exp(draw.normal(0.0, SCALE, 3)), np.asarray(shift) + draw.normal(0.0, SHIFT, 3)
    optics.build = replace(
        optics.build,
        hdr_peak=float(np.exp(draw.uniform(*np.log(PEAK)))),
        hdr_knee=float(draw.uniform(*KNEE)),
        boost=float(draw.uniform(*BOOST)),
        panel_levels=int(draw.choice(PANELS)),
        error={**optics.build.error, mode: off},
    )
    optics.bend = draw.normal(0.0, BEND, 3)
    return here


def one(asked: tuple[int, str, str, float]) -> dict[str, Any]:
    """Install in one display, of a seed, with a signal, and its menu beside it or not; return what was found and what is left."""
    seed, signal, by, may_cost = asked
    here, target = drawn(seed, signal), KINDS[signal][1]
    found, _, peak, black = here.hdr_truth(target)
    takes = here.display.optics.build.installs
    job = Job(Desk(here.controls, budget=BUDGET), target, by=by, takes=takes, may_cost=may_cost)
    perform(job.run(), here)
    left, colours, peak_left, black_left = here.hdr_truth(target)
    return {
        "panel": here.display.optics.build.panel_levels, "found": found, "left": left, "colours": float(colours.mean()),
        "lost": 1.0 - peak_left / peak, "brighter": black_left - black, "readings": len(job.desk.taken),
    }  # fmt: skip


def main() -> None:
    """Run all displays and print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    signal, by = ("hlg" if "hlg" in sys.argv else "hdr10"), ("both" if "both" in sys.argv else "install")
    cost = next((float(word.removeprefix("cost=")) / 100.0 for word in sys.argv if word.startswith("cost=")), MAY_COST)
    with ProcessPoolExecutor() as pool:
        told = list(pool.map(one, [(seed, signal, by, cost) for seed in range(START, START + count)]))
    for levels in PANELS:
        rows = [t for t in told if t["panel"] == levels]
        print(f"{len(rows)} panels of {levels + 1} steps, middle / 90 of 100 / worst:")
        for name, values in (
            ("greys as found", [t["found"].mean() for t in rows]), ("greys left, mean", [t["left"].mean() for t in rows]),
            ("greys left, worst", [t["left"].max() for t in rows]), ("P3 colours left", [t["colours"] for t in rows]),
            ("readings", [t["readings"] for t in rows]),
        ):  # fmt: skip
            print(f"  {name:20}", " / ".join(f"{v:.2f}" for v in np.percentile(values, [50, 90, 100])))
        print("  by level            ", " ".join(f"{v:.1f}" for v in np.mean([t["left"] for t in rows], axis=0)))
    lost = np.array([t["lost"] for t in told])
    worse = sum(t["left"].mean() > t["found"].mean() for t in told)
    print(f"peak lost: {100 * np.median(lost):.1f} % in the middle, {100 * lost.max():.1f} % at most, more than {MOST_LOST:.0%}: "
          f"{(lost > MOST_LOST).sum()}; black brighter: {sum(t['brighter'] > 0.001 for t in told)}; worse than found: {worse}")  # fmt: skip


if __name__ == "__main__":
    main()
