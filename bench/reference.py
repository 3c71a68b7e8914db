"""Whole jobs with a reference beside a quick meter that sees colours wrongly, on the random displays: readings of both, and what is left.

`./fenvik bench reference [COUNT] [hdr | hlg] [faults]`. The displays are those of the bench hands-free, hdr or hlg; no processing is
on when they are found. With faults it is the reference that fails, in each of the ways below: none may be left worse than found.
"""

import sys
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay
from bench.handsfree import BUDGET, START, TARGET
from bench.hdr import BUDGET as IN_HDR
from bench.hdr import TARGET as HDR
from bench.hdr import HdrDisplay
from bench.hlg import TARGET as HLG
from bench.hlg import HlgDisplay
from fenvik.core.measure.correction_patches import correction_list
from fenvik.core.procedures.correcting import AVERAGE, NAMED, Corrected
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import AwayError, perform
from fenvik.core.types import Floats

COUNT = 150
MISSES = 0.02  # of each of X, Y and Z in each other
DAYLIGHT = np.array([0.57, 0.6, 0.65])  # cd/m²
SOMETIMES, WORSE = 0.04, 0.05  # of its readings; of a mean error, what a display itself wanders
# What becomes of a reading of the reference from its n-th on: XYZ, whether that was reached, and a generator.
FAULTS: dict[str, Callable[[Floats, bool, np.random.Generator], Floats]] = {
    "covered": lambda xyz, is_late, chance: 0.0 * xyz if is_late else xyz,
    "dimmed": lambda xyz, is_late, chance: 0.7 * xyz if is_late else xyz,
    "bumped": lambda xyz, is_late, chance: xyz * (1.06, 1.0, 0.9) if is_late else xyz,
    "off its aim": lambda xyz, is_late, chance: 0.15 * xyz + 5.0 * DAYLIGHT if is_late else xyz,
    "daylight": lambda xyz, is_late, chance: xyz + 20.0 * DAYLIGHT if is_late else xyz,
    "slips": lambda xyz, is_late, chance: xyz * chance.uniform(0.6, 1.5) if chance.random() < SOMETIMES else xyz,
    "slips in colour": lambda xyz, is_late, chance: xyz * chance.uniform(0.92, 1.08, 3) if chance.random() < SOMETIMES else xyz,
    "noisy": lambda xyz, is_late, chance: xyz * chance.normal(1.0, 0.02, 3),
    "gone": lambda xyz, is_late, chance: xyz,
}
PATCHES = [patch for patch in correction_list("four-colour", 10, "limited") if patch.label in NAMED]


class Beside(RandomDisplay):
    """A random display, of any kind, before a quick meter that misses, and a reference that does not.

    ``dims``: share of its light that the display takes from white and leaves its parts; ``is_late``: only from a picture that stands
    for as long as a reference reads. ``slips``: which reading of the reference
    gives 0.7 of its light. ``fault``: what the reference does from some reading on; a bump is after the correction, for one that
    is bumped before that is no worse than any.
    """

    def __init__(self, seed: int, *, dims: float = 0.0, is_late: bool = False, slips: int = 0, fault: str = "") -> None:
        super().__init__(seed)
        self.misses = np.eye(3) + np.random.default_rng(seed + 99).normal(0.0, MISSES, (3, 3))
        self.dims, self.is_late, self.slips, self.matrix = dims, is_late, slips, np.eye(3)
        self.read_as, self.is_long = Counter[str](), False
        self.fault, self.chance = fault, np.random.default_rng(seed + 5)
        self.since = int(self.chance.integers(5 if fault == "bumped" else 0, 10))

    def emitted(self, fraction: Floats) -> Floats:
        """Return XYZ (n, 3) in cd/m²."""
        shared = np.atleast_2d(fraction).min(axis=1, keepdims=True)
        dims = 0.0 if self.is_late and not self.is_long else self.dims
        made: Floats = super().emitted(fraction) * (1.0 - dims * np.clip(2.0 * shared - 1.0, 0.0, 1.0))
        return made

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read a patch with the quick meter, through the correction that is in force."""
        self.read_as["greys" if len(set(percent)) == 1 else "colours"] += 1
        fraction, xyz = super().read(percent)
        return fraction, self.matrix @ self.misses @ xyz

    def read_by(self, meter: str, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read a patch with one of both, uncorrected and averaged; it counts as one reading."""
        self.read_as[meter] += 1
        before, self.is_long = self.readings, meter == "reference"
        made = [super(Beside, self).read(percent) for _ in range(AVERAGE)]
        self.readings, self.is_long = before + 1, False
        xyz = np.mean([each for _, each in made], axis=0)
        if meter != "reference":
            return made[0][0], self.misses @ xyz
        is_late = self.read_as[meter] > self.since
        if self.fault == "gone" and is_late:
            raise AwayError("The reference does not answer.")
        if self.fault:
            return made[0][0], FAULTS[self.fault](xyz, is_late, self.chance)
        return made[0][0], xyz * (0.7 if self.read_as[meter] == self.slips else 1.0)

    def correct(self, matrix: Floats, made: Corrected) -> None:
        """See through a correction from now on."""
        self.matrix = matrix


class Referenced(Beside):
    """One in SDR."""


class ReferencedInHdr(Beside, HdrDisplay):
    """One in HDR10."""


class ReferencedInHlg(Beside, HlgDisplay):
    """One in HLG."""


def job_on(display: Beside) -> Job:
    """Do the whole job on a display, its meter corrected first."""
    is_hdr = isinstance(display, HdrDisplay)
    desk = Desk(display.controls, budget=(IN_HDR if is_hdr else BUDGET) - 2 * len(PATCHES))
    target = HLG if isinstance(display, HlgDisplay) else HDR if is_hdr else TARGET
    job = Job(desk, target, correction=PATCHES)
    perform(job.run(), display)
    return job


def truth_of(display: Beside) -> tuple[float, float, float]:
    """Return mean and worst error of greys, in HDR of those below the roll-off, and the mean of colours, by the true light."""
    if isinstance(display, HlgDisplay):
        return display.hlg_truth()[:3]
    if isinstance(display, HdrDisplay):
        told = display.hdr_truth()
        return told.get("follows_mean", told["mean"]), told.get("follows_worst", told["worst"]), told["colours"]
    mean, worst, colours, _ = display.truth(TARGET)
    return mean, worst, colours


def one(task: tuple[type[Beside], int, str]) -> dict[str, Any]:
    """Return what a job has read, found and left."""
    kind, seed, fault = task
    display = kind(seed, fault=fault)
    found = truth_of(display)
    job = job_on(display)
    return {
        "points": bool(display.at), "found": found, "left": truth_of(display), "readings": display.readings,
        "read_as": dict(display.read_as), "anew": sum("made anew" in note for note in job.desk.notes), "restored": job.restored,
    }  # fmt: skip


def print_faults(kind: type[Beside], count: int) -> None:
    """Print a row for each fault of the reference."""
    with ProcessPoolExecutor() as pool:
        told = list(pool.map(one, [(kind, START + 1000 + i, fault) for fault in FAULTS for i in range(count)], chunksize=4))
    for place, fault in enumerate(FAULTS):
        rows = told[place * count : (place + 1) * count]
        before, after = (np.array([t[name][0] for t in rows]) for name in ("found", "left"))
        print(
            f"{fault}: {(after > before + WORSE).sum()} of {count} worse than found; {np.median(before):.2f} to {np.median(after):.2f} "
            f"in the middle, {np.quantile(after, 0.9):.2f} at 90 of 100; {sum(t['restored'] for t in rows)} put back; "
            f"{np.median([t['readings'] for t in rows]):.0f} readings",
            flush=True,
        )


def main() -> None:
    """Run all displays and print what came of it."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    kinds: dict[str, type[Beside]] = {"hdr": ReferencedInHdr, "hlg": ReferencedInHlg}
    kind = next((kinds[name] for name in kinds if name in sys.argv[2:]), Referenced)
    if "faults" in sys.argv[2:]:
        print_faults(kind, count)
        return
    with ProcessPoolExecutor() as pool:
        told = list(pool.map(one, [(kind, seed, "") for seed in range(START, START + count)], chunksize=4))
    for name, rows in (("points", [t for t in told if t["points"]]), ("two-point or gains", [t for t in told if not t["points"]])):
        if not rows:
            continue
        both = [np.quantile([[*t["left"], t["readings"]] for t in rows], share, axis=0) for share in (0.5, 0.9)]
        mean, worst, colours, readings = zip(*both, strict=True)
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
