"""Whole jobs with a reference beside a quick meter that sees colours wrongly, on the random displays: readings of both, and what is left.

`./fenvik bench reference [COUNT]`. The displays are those of the bench hands-free; no processing is on when they are found.
"""

import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay
from bench.handsfree import BUDGET, START, TARGET
from fenvik.core.measure.correction_patches import correction_list
from fenvik.core.procedures.correcting import AVERAGE, NAMED, Corrected
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform
from fenvik.core.types import Floats

COUNT = 150
MISSES = 0.02  # of each of X, Y and Z in each other
PATCHES = [patch for patch in correction_list("four-colour", 10, "limited") if patch.label in NAMED]


class Referenced(RandomDisplay):
    """A random display before a quick meter that misses, and a reference that does not.

    ``dims``: share of its light that the display takes from white and leaves its parts. ``slips``: which reading of the reference
    gives 0.7 of its light.
    """

    def __init__(self, seed: int, *, dims: float = 0.0, slips: int = 0) -> None:
        super().__init__(seed)
        self.misses = np.eye(3) + np.random.default_rng(seed + 99).normal(0.0, MISSES, (3, 3))
        self.dims, self.slips, self.matrix = dims, slips, np.eye(3)
        self.read_as = Counter[str]()

    def emitted(self, fraction: Floats) -> Floats:
        """Return XYZ (n, 3) in cd/m²."""
        shared = np.atleast_2d(fraction).min(axis=1, keepdims=True)
        made: Floats = super().emitted(fraction) * (1.0 - self.dims * np.clip(2.0 * shared - 1.0, 0.0, 1.0))
        return made

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read a patch with the quick meter, through the correction that is in force."""
        self.read_as["greys" if len(set(percent)) == 1 else "colours"] += 1
        fraction, xyz = super().read(percent)
        return fraction, self.matrix @ self.misses @ xyz

    def read_by(self, meter: str, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read a patch with one of both, uncorrected and averaged; it counts as one reading."""
        self.read_as[meter] += 1
        before = self.readings
        made = [super(Referenced, self).read(percent) for _ in range(AVERAGE)]
        self.readings = before + 1
        xyz = np.mean([each for _, each in made], axis=0)
        if meter != "reference":
            return made[0][0], self.misses @ xyz
        return made[0][0], xyz * (0.7 if self.read_as[meter] == self.slips else 1.0)

    def correct(self, matrix: Floats, made: Corrected) -> None:
        """See through a correction from now on."""
        self.matrix = matrix


def job_on(display: Referenced) -> Job:
    """Do the whole job on a display, its meter corrected first."""
    job = Job(Desk(display.controls, budget=BUDGET - 2 * len(PATCHES)), TARGET, correction=PATCHES)
    perform(job.run(), display)
    return job


def one(seed: int) -> dict[str, Any]:
    """Return what a job has read, found and left."""
    display = Referenced(seed)
    found = display.truth(TARGET)
    job = job_on(display)
    return {
        "points": bool(display.at), "found": found, "left": display.truth(TARGET), "readings": display.readings,
        "read_as": dict(display.read_as), "anew": sum("made anew" in note for note in job.desk.notes), "restored": job.restored,
    }  # fmt: skip


def main() -> None:
    """Run all displays and print what came of it."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    with ProcessPoolExecutor() as pool:
        told = list(pool.map(one, range(START, START + count), chunksize=4))
    for name, rows in (("points", [t for t in told if t["points"]]), ("two-point or gains", [t for t in told if not t["points"]])):
        both = [np.quantile([[*t["left"], t["readings"]] for t in rows], share, axis=0) for share in (0.5, 0.9)]
        mean, worst, colours, _, readings = zip(*both, strict=True)
        sums = sum((Counter(t["read_as"]) for t in rows), Counter[str]())
        print(
            f"{name}, {len(rows)} displays, middle / 90 of 100: greys {mean[0]:.2f} / {mean[1]:.2f}, worst {worst[0]:.2f} / "
            f"{worst[1]:.2f}, colours {colours[0]:.2f} / {colours[1]:.2f}, {readings[0]:.0f} / {readings[1]:.0f} readings; on average "
            + ", ".join(f"{many / len(rows):.1f} {what}" for what, many in sums.most_common())
            + f"; {sum(t['anew'] for t in rows)} made anew, {sum(t['restored'] for t in rows)} put back, "
            f"{sum(t['left'][0] > t['found'][0] + 0.02 for t in rows)} worse than found",
            flush=True,
        )


if __name__ == "__main__":
    main()
