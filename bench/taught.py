"""What a first display of a model teaches hands-free for the second one: random models, two samples of each, by true light.

Prints the lines of docs/adjusting/tried.md. `./fenvik bench taught [COUNT]`: 100 models take two minutes.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay
from bench.handsfree import BUDGET, START, TARGET
from fenvik.core.models.taught import Taught
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform

COUNT = 100
APART = (0.06, 0.2)  # deviation of the logarithm of what a step does, between samples of a model


class Sample(RandomDisplay):
    """A sample of the model that a seed draws: the same menu and electronics; light, curve and what a step does are its own."""

    def __init__(self, seed: int, sample: int, apart: float) -> None:
        super().__init__(seed)
        self.draw = draw = np.random.default_rng((seed, sample))
        self.native = self.native * (1.0 + draw.normal(0.0, 0.006, (3, 3)))
        self.mix = self.mix + draw.normal(0.0, 0.006, (3, 3))
        self.gamma_off = 0.5 * self.gamma_off + draw.normal(0.0, 0.014, 3)
        self.bumps = 0.6 * self.bumps + draw.normal(0.0, 0.0035, (3, 3))
        self.scale, self.shift = 1.0 + draw.normal(-0.02, 0.022, 3), draw.normal(0.0, 0.004, 3)
        self.gain = self.gain * np.exp(draw.normal(0.0, apart, (3, 3)))
        self.offset = self.offset * np.exp(draw.normal(0.0, apart, (3, 3)))
        alone, shared = draw.normal(0.0, apart / 2, self.point_step.shape), draw.normal(0.0, apart, 3)
        self.point_step = self.point_step * np.exp(alone + shared)
        self.overlap *= float(np.exp(draw.normal(0.0, apart / 2)))
        self.cms_step = {part: step * float(np.exp(draw.normal(0.0, apart))) for part, step in self.cms_step.items()}
        self.peak *= float(np.exp(draw.normal(0.0, 0.05)))
        self.readings = self.moves = 0


def adjusted(display: Sample, taught: Taught | None = None) -> Job:
    """Do the whole job on a sample."""
    job = Job(Desk(display.controls, budget=BUDGET), TARGET, taught=taught)
    perform(job.run(), display)
    return job


def one(seed: int, apart: float) -> list[tuple[float, ...]] | None:
    """Return mean and worst of the greys, readings and moves of a second sample: alone, and taught by the first."""
    if not RandomDisplay(seed).at:
        return None
    balance = adjusted(Sample(seed, 1, apart)).balance
    told = []
    for taught in (None, None if balance is None else balance.teaches()):
        second = Sample(seed, 2, apart)
        adjusted(second, taught)
        told.append((*second.truth(TARGET)[:2], second.readings, second.moves))
    return told


def main() -> None:
    """Run all models with both spreads and print what is left."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    print("| samples apart by | | mean | worst | readings | moves |\n|---|---|---|---|---|---|")
    for apart in APART:
        with ProcessPoolExecutor() as pool:
            found = np.array([t for t in pool.map(partial(one, apart=apart), range(START, START + count), chunksize=4) if t is not None])
        for i, name in enumerate(("alone", "taught by the first")):
            cells = [f"{np.median(v):.{d}f} / {np.quantile(v, 0.9):.{d}f}" for v, d in zip(found[:, i].T, (2, 2, 0, 0), strict=True)]
            print(f"| {apart:.0%}, {len(found)} models | {name} | " + " | ".join(cells) + " |", flush=True)


if __name__ == "__main__":
    main()
