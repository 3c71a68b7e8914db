"""Hands-free on random displays whose points are not three lights at the same levels, by the true light.

`./fenvik bench menus [COUNT]` prints what is left in SDR and HDR10. The menus: points of red, blue and luminance; of all lights at
every second level and of luminance at each; of no light in the darkest third; all of both.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay, _range
from bench.faults import made
from bench.handsfree import BUDGET
from bench.hdr import BUDGET as IN_HDR
from bench.hdr import HdrDisplay
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform
from fenvik.core.types import Floats

MENUS = ("red, blue", "every second", "not in the dark", "all")
SPAN, STEP = 25.0, (0.04, 0.09)  # of a point of luminance: half of its range, and what its end does, of signal


def with_luminance(base: type[RandomDisplay], menu: str) -> type[RandomDisplay]:
    """Return displays with points of luminance beside such points of the lights as a menu has."""

    class Toned(base):  # type: ignore[misc, valid-type]
        def _menu(self, draw: np.random.Generator) -> None:
            super()._menu(draw)
            own = np.random.default_rng(int(1000 * self.peak))
            self.tone_step = own.uniform(*STEP) / SPAN * own.uniform(0.75, 1.3, len(self.at))
            lacks = {"every second": self.at[::2], "not in the dark": self.at[: len(self.at) // 3]}.get(menu, [])
            gone = {f"white.at.{level:g}.{light}" for level in lacks for light in ("red", "green", "blue")}
            self.controls = [
                c for c in self.controls
                if c["role"] not in gone and not (menu == "red, blue" and c["role"].startswith("white.") and "green" in c["role"])
            ]  # fmt: skip
            self.controls += [_range(f"luminance-{level:g}", f"gamma.at.{level:g}", -SPAN, SPAN, 1) for level in self.at]
            self._by = {c["role"]: c for c in self.controls}

        def _bends(self) -> Floats:
            tones = np.array([float(self._value(f"gamma.at.{level:g}")) for level in self.at])
            return np.asarray(super()._bends() + (tones * self.tone_step)[:, None])

    return Toned


def one(task: tuple[str, str, int]) -> tuple[str, str, float, float, int] | None:
    """Return signal, menu, the mean grey error found and left, and the readings; None of a display without points."""
    kind, menu, seed = task
    display: Any = with_luminance(RandomDisplay if kind == "sdr" else HdrDisplay, menu)(seed)
    if not display.at:
        return None
    _, target, more, _ = made(kind, seed)

    def error() -> float:
        if kind == "sdr":
            return float(display.truth(target)[0])
        told = display.hdr_truth()
        return float(told.get("follows_mean", told["mean"]))

    found = error()
    perform(Job(Desk(display.controls, budget=BUDGET if kind == "sdr" else IN_HDR), target, **more).run(), display)
    return kind, menu, found, error(), display.readings


def main() -> None:
    """Print a row for each menu in each signal."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    tasks = [(kind, menu, 70_000 + i) for kind in ("sdr", "hdr") for menu in MENUS for i in range(count)]
    with ProcessPoolExecutor() as pool:
        rows = [row for row in pool.map(one, tasks, chunksize=2) if row is not None]
    for kind, menu in dict.fromkeys(row[:2] for row in rows):
        mine = np.array([row[2:] for row in rows if row[:2] == (kind, menu)])
        found, left, readings = mine.T
        print(
            f"{kind}, {menu}: {len(mine)} displays, {np.median(found):.2f} to {left.mean():.2f}, {np.quantile(left, 0.9):.2f} at 90 of "
            f"100, {left.max():.2f} at worst; {int((left > found).sum())} worse than found; {np.median(readings):.0f} readings",
            flush=True,
        )


if __name__ == "__main__":
    main()
