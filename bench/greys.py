"""Whether a rule for the greys helps: hands-free on many random displays, compared display by display with an earlier run.

A share of a hundred displays cannot tell two percent; the same displays before and after can tell one.
`./fenvik bench greys --keep FILE` writes what was reached, `./fenvik bench greys --against FILE` compares with it. JSON, by seed.
"""

import argparse
import json
import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay
from bench.handsfree import BUDGET, GREYS, TARGET, limit
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform

MEAN, WORST = 0.5, 1.0


def score(left: dict[str, float]) -> float:
    """Return how far from what is wanted a display ended, as a logarithm: 0 is just reached."""
    return float(np.log(max(left["mean"] / MEAN, left["worst"] / WORST)))


def one(seed: int) -> dict[str, float] | None:
    """Run the whole job on one display; None where it has no points."""
    display = RandomDisplay(seed)
    if not display.at:
        return None
    perform(Job(Desk(display.controls, budget=BUDGET), TARGET).run(), display)
    mean, worst, _, _ = display.truth(TARGET)
    left = {"mean": mean, "worst": worst, "readings": display.readings, "seconds": display.seconds, "allowed": 1.0}
    if score(left) > 0:
        best_mean, best_worst = limit(display, GREYS, ("white.",), slice(0, 19))
        left["allowed"] = float(best_mean <= MEAN and best_worst <= WORST)
    return left


def compare(before: dict[str, dict[str, float]], now: dict[str, dict[str, float]]) -> None:
    """Print what changed on the displays that both have."""
    both = sorted(before.keys() & now.keys())
    if len(both) < 2:
        print("nothing to compare: no displays in common")
        return
    change = np.array([score(now[k]) - score(before[k]) for k in both])
    missed = [sum(score(run[k]) > 0 for k in both) for run in (before, now)]
    print(
        f"{len(both)} displays in common: {100 * change.mean():+.1f} ± {100 * change.std() / len(both) ** 0.5:.1f} % of error; "
        f"missed by {missed[0]} before, {missed[1]} now"
    )


def main() -> None:
    """Run, print, keep, compare."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("seeds", nargs="*", type=int, default=[1000, 7000, 23000], help="where each set of seeds begins")
    parser.add_argument("--count", type=int, default=200, help="seeds in each set")
    parser.add_argument("--keep", type=Path)
    parser.add_argument("--against", type=Path)
    asked = parser.parse_args()
    seeds = [seed for start in asked.seeds for seed in range(start, start + asked.count)]
    with ProcessPoolExecutor() as pool:
        told = {str(seed): left for seed, left in zip(seeds, pool.map(one, seeds, chunksize=4), strict=True) if left}
    mean, worst, seconds = (np.array([left[what] for left in told.values()]) for what in ("mean", "worst", "seconds"))
    missed = [left for left in told.values() if score(left) > 0]
    print(
        f"{len(told)} displays with points: mean {np.median(mean):.2f} / {np.quantile(mean, 0.9):.2f}, "
        f"worst {np.median(worst):.2f} / {np.quantile(worst, 0.9):.2f} (middle / 90 of 100); "
        f"both reached by {100 - 100 * len(missed) / len(told):.1f} %; whole steps did not allow it on "
        f"{sum(not left['allowed'] for left in missed)} of the {len(missed)} that missed; "
        f"a quick meter is busy for {np.median(seconds):.0f} / {np.quantile(seconds, 0.9):.0f} s; "
        f"at most {max(left['readings'] for left in told.values()):.0f} readings"
    )
    if asked.keep:
        asked.keep.write_text(json.dumps(told))
    if asked.against:
        compare(json.loads(asked.against.read_text()), told)


if __name__ == "__main__":
    main()
