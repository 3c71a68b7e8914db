"""Hands-free on displays that lock some controls by another: gains in one white preset alone, points behind a switch.

`./fenvik bench locked [COUNT] [sdr|hdr]` prints, for each way, what was found and left of the greys by the true light, in HDR up
to the roll-off, and in SDR of the colours.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import _choice
from bench.faults import IN_HDR, made
from bench.faulty import Faulty
from bench.handsfree import BUDGET
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import RefusedError, perform

WAYS = (
    "none", "white balance refused", "white balance does nothing", "white balance stays", "white balance chooses its preset",
    "it chooses its preset, and does nothing elsewhere", "each preset has its own", "points refused", "points do nothing",
    "points stay", "colours refused", "colours do nothing", "colours stay", "colours choose their space",
)  # fmt: skip
START = 62_000
SWITCHED = ("2 levels", "all levels")


class Locked(Faulty):
    """A display of which some controls are locked, in one of the ways above, until something else is chosen."""

    def __init__(self, seed: int, way: str, rig: Any = None, *, is_attended: bool = False) -> None:
        super().__init__(seed, "none", rig)
        self.way, self.is_attended = way, is_attended
        self.presets = next((c for c in self.controls if c.get("role") == "white-preset"), None)
        if way.startswith("points"):
            self._add(_choice("levels", "", [*SWITCHED], SWITCHED[0]) | {"label": "Levels", "role": None})
        if way.startswith("colours"):
            self._add(_choice("space", "gamut", ["A", "B", "C"], "A"))
        self.roles = {c["id"]: str(c.get("role") or "") for c in self.controls}
        self.own = {option: self._white() for option in self.presets["options"]} if self.presets else {}
        value = self.rig._value
        self.rig._value = lambda role, default=0.0: default if self._does_nothing(role) else value(role, default)

    def _add(self, control: dict[str, Any]) -> None:
        self.controls.append(control)
        self.rig.controls.append(dict(control))
        self.rig._by = {c["role"]: c for c in self.rig.controls}

    def _now(self, name: str) -> Any:
        return next(c["value"] for c in self.rig.controls if c["id"] == name)

    def _white(self) -> dict[str, Any]:
        return {c["id"]: c["value"] for c in self.rig.controls if str(c.get("role")).startswith("white.")}

    def is_locked(self, role: str) -> bool:
        """Return whether a role is locked, as its menu now stands."""
        if role.startswith("white.") and self.presets and self.way.startswith(("white", "it")):
            return bool(self._now(self.presets["id"]) != self.presets["options"][-1])
        if role.startswith("white.at.") and self.way.startswith("points"):
            return bool(self._now("levels") != SWITCHED[-1])
        return role.startswith("colour.") and self.way.startswith("colours") and bool(self._now("space") != "C")

    def _does_nothing(self, role: Any) -> bool:
        return isinstance(role, str) and "nothing" in self.way and self.is_locked(role)

    def set(self, control: str, value: Any) -> Any:
        """Set, or refuse, or choose first what lets it be set."""
        if self.is_locked(self.roles[control]):
            if "refused" in self.way:
                raise RefusedError("Choose another first.")
            if "stay" in self.way:
                return self._now(control)
            if "choose" in self.way:
                where = ("space", "C") if self.way.startswith("colours") else (self.presets["id"], self.presets["options"][-1])
                self.rig.set(*where)
        if self.way.startswith("each") and self.roles[control] == "white-preset":
            self.own[self._now(control)] = self._white()
            self.rig.set(control, value)
            for name, stands in self.own[value].items():
                self.rig.set(name, stands)
            return value
        return super().set(control, value)

    def ask(self, words: str) -> bool | None:
        """Turn the switch of the points, where somebody is there."""
        if self.is_attended and self.way.startswith("points"):
            self.rig.set("levels", SWITCHED[-1])
        return True if self.is_attended else None


def one(task: tuple[int, str, bool, str]) -> tuple[float, ...] | None:
    """Return greys and colours as found and as left, and the readings; None of a display that has nothing to lock."""
    seed, way, is_attended, kind = task
    rig, target, more, error = made(kind, seed)
    display = Locked(seed, way, rig, is_attended=is_attended)
    if not display.presets or not rig.at:
        return None

    def told() -> tuple[float, float]:
        return error(), rig.truth(target)[2] if kind == "sdr" else np.nan

    found = told()
    job = Job(Desk(display.controls, budget=BUDGET if kind == "sdr" else IN_HDR), target, **more)
    perform(job.run(), display)
    left = told()
    return found[0], left[0], found[1], left[1], float(display.readings), float(job.restored)


def main() -> None:
    """Run all ways and print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    kind = sys.argv[2] if len(sys.argv) > 2 else "sdr"
    with ProcessPoolExecutor() as pool:
        for way, is_attended in [(way, False) for way in WAYS] + [(way, True) for way in WAYS if way.startswith("points")]:
            tasks = [(START + i, way, is_attended, kind) for i in range(count)]
            told = np.array([row for row in pool.map(one, tasks) if row])
            middle, most = np.percentile(told, 50, axis=0), np.percentile(told, 90, axis=0)
            colours = f"colours {middle[2]:.2f} → {middle[3]:.2f} / {most[3]:.2f}, " if kind == "sdr" else ""
            print(f"{way}{', somebody there' if is_attended else ''}: {len(told)} displays, greys {middle[0]:.2f} → {middle[1]:.2f} / "
                  f"{most[1]:.2f}, {colours}{middle[4]:.0f} readings, put back "
                  f"{told[:, 5].sum():.0f}, worse {(told[:, 1] > told[:, 0] + 0.05).sum()}", flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
