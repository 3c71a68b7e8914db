"""Hands-free over displays drawn at random, against what their steps allow and against two plain strategies.

Prints the table of docs/adjusting/reaches.md. `./fenvik bench handsfree [COUNT]`: 200 displays take some minutes.
"""

import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import SIX, TOP, RandomDisplay, held
from fenvik.core.colour import difference
from fenvik.core.colour.target import TARGETS
from fenvik.core.controls import of_greys
from fenvik.core.models.greyblock import prior_units
from fenvik.core.models.twopoint import drive
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform

TARGET = TARGETS["bt709-bt1886"]
COUNT, START, BUDGET = 200, 1000, 150
GREYS = np.repeat(np.linspace(1.0, 0.0, 21)[:, None], 3, axis=1)
COLOURS = np.array([[TOP / 100 * (1.0 if lit else 1.0 - s) for lit in mix] for mix in SIX for s in (0.25, 0.5, 0.75, 1.0)])
PLAIN_BUDGET = 600


def limit(
    display: RandomDisplay, patches: np.ndarray, roles: tuple[str, ...], rows: slice, grain: int = 1
) -> tuple[float, float]:
    """Return mean and worst CIEDE2000 that whole steps allow, by descent on the true light from where the display stands."""
    return descent(display, roles, lambda: held(TARGET, patches, display.emitted(patches))[rows], grain)


def descent(
    display: RandomDisplay, roles: tuple[str, ...], errors: Callable[[], np.ndarray], grain: int = 1
) -> tuple[float, float]:
    """Return mean and worst of errors (n,) at their least: whole steps of controls of some roles, which are put back afterwards."""
    knobs = [c for c in display.controls if c["kind"] == "range" and c["role"].startswith(roles)]
    kept = {c["id"]: c["value"] for c in knobs}
    best = float((errors() ** 2).mean())
    for step in (max(size, grain) for size in (4, 2, 1, 1, 1)):
        for _ in range(6):
            before = best
            for c in knobs:
                for way in (step, -step):
                    was = c["value"]
                    if not c["min"] <= was + way * c["step"] <= c["max"]:
                        continue
                    c["value"] = was + way * c["step"]
                    now = float((errors() ** 2).mean())
                    if now < best - 1e-6:
                        best = now
                        break
                    c["value"] = was
            if best >= before - 1e-6:
                break
    found = errors()
    for c in knobs:
        c["value"] = kept[c["id"]]
    return float(found.mean()), float(found.max())


class Plain:
    """What both plain strategies share: a white and a black, the error of a level, and a count."""

    def __init__(self, display: RandomDisplay) -> None:
        self.display = display
        self.white, self.black = self._xyz(100.0)[1], max(self._xyz(0.0)[1], 0.0)
        values = {c["id"]: c["value"] for c in display.controls}
        self.knobs = of_greys(display.controls, values, ("gain", "offset", "point"))
        self.units = prior_units(self.knobs)

    def _xyz(self, level: float) -> np.ndarray:
        return self.display.read((level,) * 3)[1]

    def drives(self, level: float) -> np.ndarray:
        """Return the drives (3,) of a level in percent."""
        return drive(self._xyz(level), TARGET, self.white, self.black)

    def error(self, level: float) -> float:
        """Return the error of a level as it is read."""
        wanted = TARGET.xyz(np.full((1, 3), level / 100.0), self.white, self.black)
        return float(difference.whole(wanted, self._xyz(level)[None], TARGET.white * self.white).total[0])

    @property
    def spent(self) -> bool:
        """Whether the readings are used up."""
        return self.display.readings >= PLAIN_BUDGET

    def level_of(self, k: int) -> float:
        """Return the level in percent at which a control is looked at."""
        knob = self.knobs[k]
        return {"gain": 80.0, "offset": 20.0}.get(knob.kind, 100.0 * knob.at)

    def turn(self, k: int, steps: float) -> bool:
        """Turn a control by whole steps within its range; return whether it moved."""
        control = next(c for c in self.display.controls if c["id"] == self.knobs[k].id)
        wanted = min(max(control["value"] + round(steps) * control["step"], control["min"]), control["max"])
        if wanted == control["value"]:
            return False
        self.display.set(control["id"], wanted)
        return True


def halving(display: RandomDisplay, desk: type[Plain] = Plain) -> None:
    """One control at a time: a large step that helps is kept, else the other way, else half of it."""
    plain = desk(display)
    for k, knob in enumerate(plain.knobs):
        level, size = plain.level_of(k), (knob.high - knob.low) / knob.step / 8.0
        best = plain.error(level)
        while size >= 0.5 and not plain.spent:
            for way in (1.0, -1.0):
                if not plain.turn(k, way * max(size, 1.0)):
                    continue
                now = plain.error(level)
                if now < best:
                    best = now
                    break
                plain.turn(k, -way * max(size, 1.0))
            size /= 2.0


def proportional(display: RandomDisplay, desk: type[Plain] = Plain) -> None:
    """One point at a time: what a level is off by, over what a step usually does; each level three times."""
    plain = desk(display)
    for _ in range(3):
        for level in dict.fromkeys(plain.level_of(k) for k in range(len(plain.knobs))):
            if plain.spent:
                return
            off = plain.drives(level) - level / 100.0
            for k, knob in enumerate(plain.knobs):
                if plain.level_of(k) == level:
                    share = {"gain": level / 100.0, "offset": 1.0 - level / 100.0}.get(knob.kind, 1.0)
                    plain.turn(k, -off[knob.channel] / (plain.units[k] * share))


def one(seed: int) -> dict[str, Any]:
    """Run everything on one display; each begins from the same sample as found."""
    display = RandomDisplay(seed)
    kind = "points" if display.at else "two-point" if display.has_offsets else "gains"
    told: dict[str, Any] = {"kind": kind, "cms": display.cms != "none" and display.kind != "wrgb-oled", "found": display.truth(TARGET)}
    desk = Desk(display.controls, budget=BUDGET)
    job = Job(desk, TARGET)
    perform(job.run(), display)
    told |= {"left": display.truth(TARGET), "readings": display.readings, "moves": display.moves, "restored": job.restored}
    told["grey_limit"] = limit(display, GREYS, ("white.",), slice(0, 19))
    told["colour_limit"] = limit(display, np.vstack([GREYS, COLOURS]), ("colour.",), slice(21, None))
    for name, strategy in (("halving", halving), ("proportional", proportional)):
        again = RandomDisplay(seed)
        strategy(again)
        told[name] = (*again.truth(TARGET)[:2], again.readings, again.moves)
    return told


def line(name: str, rows: list[tuple[float, ...]], readings: list[int] | None, moves: list[int] | None) -> None:
    """Print one row of the table: the middle and the 90th percentile."""
    mean, worst = np.array([r[0] for r in rows]), np.array([r[1] for r in rows])
    counts = "" if readings is None else f"{np.median(readings):.0f} / {np.quantile(readings, 0.9):.0f}"
    turned = "" if moves is None else f"{np.median(moves):.0f} / {np.quantile(moves, 0.9):.0f}"
    print(
        f"| {name} | {np.median(mean):.2f} / {np.quantile(mean, 0.9):.2f} | {np.median(worst):.2f} / {np.quantile(worst, 0.9):.2f} "
        f"| {counts} | {turned} |",
        flush=True,
    )


def main() -> None:
    """Run all displays and print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    with ProcessPoolExecutor() as pool:
        told = list(pool.map(one, range(START, START + count), chunksize=4))
    print(f"{count} displays; restored: {sum(t['restored'] for t in told)}; worse than found: "
          f"{sum(t['left'][0] > t['found'][0] + 0.02 for t in told)}")  # fmt: skip
    for kind in ("points", "two-point", "gains"):
        rows = [t for t in told if t["kind"] == kind]
        if not rows:
            continue
        print(f"\ngreys, {kind}, {len(rows)} displays: mean | worst | readings | moves (middle / 90 of 100)")
        line("as found", [t["found"] for t in rows], None, None)
        line("hands-free, the whole job", [t["left"] for t in rows], [t["readings"] for t in rows], [t["moves"] for t in rows])
        line("what whole steps allow", [t["grey_limit"] for t in rows], None, None)
        for name in ("halving", "proportional"):
            line(name, [t[name] for t in rows], [t[name][2] for t in rows], [t[name][3] for t in rows])
        reached = np.mean([t["left"][0] <= 0.5 and t["left"][1] <= 1.0 for t in rows])
        can = np.mean([t["grey_limit"][0] <= 0.4 and t["grey_limit"][1] <= 0.8 for t in rows])
        print(f"0.5 and 1.0 reached by {100 * reached:.0f} %; whole steps allow 0.4 and 0.8 on {100 * can:.0f} %")
    rows = [t for t in told if t["cms"]]
    print(f"\ncolours, {len(rows)} displays with colour management and no white sub-pixel")
    line("as found", [t["found"][2:] for t in rows], None, None)
    line("hands-free", [t["left"][2:] for t in rows], None, None)
    line("what whole steps allow", [t["colour_limit"] for t in rows], None, None)
    print(f"1.0 reached by {100 * np.mean([t['left'][2] <= 1.0 for t in rows]):.0f} %")


if __name__ == "__main__":
    main()
