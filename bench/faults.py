"""Hands-free while something goes wrong: random displays on which controls move by themselves, stick, or lose the meter's aim.

`./fenvik bench faults [COUNT] [sdr|hdr|hlg|installed|hlg-installed] [FAULT,FAULT]` prints how many of each end worse than they were found, by the true
light, and what was reached. None may. Of HDR, greys up to the roll-off by a menu, or all of them by what is installed.
"""

import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay
from bench.faulty import KINDS, broken
from bench.handsfree import BUDGET, TARGET
from bench.hdr import BUDGET as IN_HDR
from bench.hdr import TARGET as HDR
from bench.hdr import HdrDisplay
from bench.hlg import TARGET as HLG
from bench.hlg import HlgDisplay
from bench.installed import KINDS as SIGNALS
from bench.installed import drawn
from fenvik.core.colour.target import Target
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform

FAULTS = (
    "moves", "keeps moving", "sticks", "mode flips", "other input", "input for a while", "aim lost", "aim lost a little", "aim lost in colours", "outliers",
    "colour slips", "lamp", "curtain", "door", "hand", "early door", "early hand", "patch before", *KINDS, "none",
)  # fmt: skip
# What a person can set right.
CALLED = ("other input", "aim lost", "aim lost a little", "aim lost in colours", "curtain", "other levels")
WORSE = 0.05  # of a mean error: less is what the display itself wanders
ALL_IN_S = 60.0


def made(kind: str, seed: int) -> tuple[Any, Target, dict[str, Any], Callable[[], float]]:
    """Return a rig, its target, what its job is told beside that, and what tells the mean error of its greys by the true light."""
    if kind == "sdr":
        display = RandomDisplay(seed)
        return display, TARGET, {}, lambda: display.truth(TARGET)[0]
    if kind == "hdr":
        hdr = HdrDisplay(seed)
        return hdr, HDR, {}, lambda: (told := hdr.hdr_truth()).get("follows_mean", told["mean"])
    if kind == "hlg":
        hlg = HlgDisplay(seed)
        return hlg, HLG, {}, lambda: hlg.hlg_truth()[0]
    signal = "hlg" if kind == "hlg-installed" else "hdr10"
    site, target = drawn(seed, signal), SIGNALS[signal][1]
    return site, target, {"by": "install", "takes": site.display.optics.build.installs}, lambda: float(site.hdr_truth(target)[0].mean())


def one(task: tuple[str, int, str, bool]) -> tuple[str, bool, float, float, bool, int]:
    """Return the fault, whether somebody was there, the mean grey error before and after, whether all was put back, the readings."""
    kind, seed, fault, is_attended = task
    rig, target, more, error = made(kind, seed)
    display = broken(seed, fault, rig)
    display.is_attended = is_attended
    before = error()  # as the fault lets it be found
    job = Job(Desk(display.controls, budget=BUDGET if kind == "sdr" else IN_HDR), target, **more)
    perform(job.run(), display)
    if hasattr(display, "to_come"):
        display.wait(ALL_IN_S)  # what was asked for last comes in
    return fault, is_attended, before, np.inf if display.is_elsewhere else error(), job.restored, display.readings


def main() -> None:
    """Print a row for each fault."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 30
    asked = sys.argv[3].split(",") if len(sys.argv) > 3 else FAULTS
    ways = [(fault, is_attended) for fault in asked for is_attended in ((False, True) if fault in CALLED else (False,))]
    kind = sys.argv[2] if len(sys.argv) > 2 else "sdr"
    tasks = [(kind, 80_000 + i, *way) for way in ways for i in range(count)]
    with ProcessPoolExecutor() as pool:
        rows = list(pool.map(one, tasks, chunksize=4))
    for fault, is_attended in ways:
        mine = [row for row in rows if row[:2] == (fault, is_attended)]
        before, after = np.array([r[2] for r in mine]), np.array([r[3] for r in mine])
        worse = int((after > before + WORSE * (TARGET if kind == "sdr" else HDR).metric.weight).sum())
        print(
            f"{fault}{', somebody there' if is_attended else ''}: {worse} of {len(mine)} worse than found; {np.median(before):.2f} to {np.median(after):.2f} in the middle, "
            f"{np.quantile(after, 0.9):.2f} at 90 of 100; {sum(r[4] for r in mine)} put back; {np.median([r[5] for r in mine]):.0f} readings",
            flush=True,
        )


if __name__ == "__main__":
    main()
