"""What a person who is led by hand has to turn for the whole job: lists, entries and keys of a remote, in SDR and in HDR10.

Prints the table of docs/adjusting/order.md. `./fenvik bench led [COUNT]`: 100 displays each take some minutes. Beside it the order
that hands-free keeps by itself, if a person were to enter that.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay
from bench.handsfree import TARGET as SDR
from bench.hdr import TARGET as HDR10
from bench.hdr import HdrDisplay
from fenvik.core.models.points import WAY
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform

COUNT, START, BUDGET = 100, 7000, 150


class Counted:
    """A display by its menu: what is set between two readings is one list, and a person sees nothing but that."""

    def __init__(self, display: RandomDisplay) -> None:
        self.display, self.controls = display, display.controls
        self.lists = self.entries = self.keys = 0
        self.listed: dict[str, Any] = {}
        self.found = {c["id"]: c["value"] for c in self.controls}

    def read(self, percent: tuple[float, float, float]) -> Any:
        """Enter what was listed, then read."""
        if self.listed:
            self.lists += 1
            self.entries += len(self.listed)
            self.keys += self.keys_from(self.listed)
            self.listed = {}
        return self.display.read(percent)

    def keys_from(self, before: dict[str, Any]) -> int:
        """Return the keys that lead from some values to where the controls stand: a step is one, and the way to a control three."""
        keys = 0
        for control in (c for c in self.controls if c["value"] != before.get(c["id"], c["value"])):
            is_range = control["kind"] == "range"
            steps = abs(float(control["value"]) - float(before[control["id"]])) / float(control["step"]) if is_range else 1.0
            keys += WAY + round(steps)
        return keys

    def set(self, control: str, value: Any) -> Any:
        """Put a control on the list; the last value counts."""
        before = next(c for c in self.controls if c["id"] == control)["value"]
        self.listed.setdefault(control, before)
        return self.display.set(control, value)


def one(seed: int, *, is_hdr: bool, by_hand: bool) -> dict[str, Any]:
    """Return what a whole job on one display took and left."""
    display = HdrDisplay(seed) if is_hdr else RandomDisplay(seed)
    rig = Counted(display)
    perform(Job(Desk(display.controls, budget=BUDGET, by_hand=by_hand), HDR10 if is_hdr else SDR).run(), rig)
    left = display.hdr_truth().get("follows_mean", np.nan) if isinstance(display, HdrDisplay) else display.truth(SDR)[0]
    return {"points": bool(display.at), "left": left, "lists": rig.lists, "entries": rig.entries, "keys": rig.keys,
            "least": rig.keys_from(rig.found), "readings": display.readings}  # fmt: skip


def main() -> None:
    """Run all displays both ways and print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    print("| | lists | entries | keys | of them for the end alone | readings | greys left |\n|---|---|---|---|---|---|---|")
    for is_hdr in (False, True):
        for by_hand in (True, False):
            with ProcessPoolExecutor() as pool:
                told = list(pool.map(partial(one, is_hdr=is_hdr, by_hand=by_hand), range(START, START + count), chunksize=4))
            for has_points in (True, False):
                rows = [t for t in told if t["points"] == has_points]
                name = f"{'HDR10' if is_hdr else 'SDR'}, {'points' if has_points else 'two-point'}, {len(rows)} displays, "
                cells = [
                    f"{np.nanmedian(told):.{digits}f} / {np.nanquantile(told, 0.9):.{digits}f}"
                    for key, digits in (("lists", 0), ("entries", 0), ("keys", 0), ("least", 0), ("readings", 0), ("left", 2))
                    for told in [[t[key] for t in rows]]
                ]
                print(f"| {name}{'led' if by_hand else 'as hands-free'} | " + " | ".join(cells) + " |", flush=True)


if __name__ == "__main__":
    main()
