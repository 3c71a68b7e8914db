"""Hands-free while something goes wrong: random displays on which controls move by themselves, stick, or lose the meter's aim.

`./fenvik bench faults [COUNT] [sdr|hdr|installed]` prints how many of each end worse than they were found, by the true light, and
what was reached. None may. Of HDR, greys up to the roll-off by a menu, or all of them by what is installed.
"""

import copy
import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from bench.displays import RandomDisplay
from bench.handsfree import BUDGET, TARGET
from bench.hdr import BUDGET as IN_HDR
from bench.hdr import TARGET as HDR
from bench.hdr import HdrDisplay
from bench.installed import drawn
from fenvik.core.colour.target import Target
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import Standing, perform
from fenvik.core.types import Floats

FAULTS = (
    "moves", "keeps moving", "sticks", "mode flips", "other input", "input for a while", "aim lost", "aim lost a little", "aim lost in colours", "outliers",
    "colour slips", "lamp", "curtain", "door", "hand", "early door", "early hand", "patch before", "follows late", "gains follow late", "brings along", "none",
)  # fmt: skip
CALLED = ("other input", "aim lost", "aim lost a little", "aim lost in colours", "curtain")  # what a person can set right
WORSE = 0.05  # of a mean error: less is what the display itself wanders
OTHER_MODE = np.array([1.15, 1.2, 1.5])  # what another mode makes of the light
AS_FOUND = 17  # readings of what is found: what comes early comes while they are taken
BRIEF = 15  # readings that a hand or an open door lasts
LOOKS = 6  # at another input before it is the right one again, where nobody is called
TURNED_S, INSTALLED_S = (0.0, 4.0), (0.0, 10.0)  # seconds until what is turned or installed is seen, where that is the fault
BRINGS, BROUGHT, AWAY = ("white-preset", "gamma"), ("white.", "gamma.at", "colour."), 4  # roles, roles, steps from the usual
SETTLES_S, READS_S, ALL_IN_S = 0.3, 0.7, 60.0
DIMS, DAYLIGHT = 0.0004, np.array([0.57, 0.6, 0.65])  # of a lamp, a reading; in cd/m², on the screen


class Faulty:
    """A rig with one fault, at a moment of its own: a random SDR display, unless another is given.

    Its controls stand as whoever adjusts it believes; those of the rig stand as they really do.
    """

    def __init__(self, seed: int, fault: str, rig: Any = None) -> None:
        self.rig = RandomDisplay(seed) if rig is None else rig
        self.controls = copy.deepcopy(self.rig.controls)
        self.fault, self.chance = fault.removeprefix("early "), np.random.default_rng(seed + 77)
        self.at_reading, self.at_set = int(self.chance.integers(20, 90)), int(self.chance.integers(10, 60))
        if self.fault != fault:
            self.at_reading = int(self.chance.integers(0, AS_FOUND))
        ranged = [c for c in self.controls if c["kind"] == "range" and str(c.get("role", "")).startswith(("white", "colour", "light"))]
        self.one = str(self.chance.choice([c["id"] for c in ranged]))
        self.is_elsewhere = False  # in another mode than its own
        self.left_input = 0  # looks until it is back on its input, where it shows another
        self.is_astray = False
        self.calls, self.is_attended = 0, False
        self.last = np.zeros(3)  # what was shown before
        self.readings = self.moves = 0

    def __getattr__(self, name: str) -> Any:
        return getattr(self.rig, name)

    def _real(self) -> dict[str, Any]:
        """Return what the rig has, whatever anybody believes."""
        return dict(self.rig.look().values) if hasattr(self.rig, "look") else {c["id"]: c["value"] for c in self.rig.controls}

    def _move(self) -> None:
        """Turn one control by itself."""
        control = next(c for c in self.controls if c["id"] == self.one)
        low, high = float(control["min"]), float(control["max"])
        self.rig.set(self.one, int(low + round(float(self.chance.uniform(0.1, 0.9)) * (high - low))))

    def _moved(self) -> None:
        """Let happen what happens by itself while things are set."""
        self.moves += 1
        if (self.fault == "moves" and self.moves == self.at_set) or (self.fault == "keeps moving" and self.moves % self.at_set == 0):
            self._move()
        self.is_elsewhere = self.is_elsewhere or (self.fault == "mode flips" and self.moves == self.at_set)

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read, or read what the fault leaves of it."""
        before = self.last
        shown: Any = percent
        self.last = np.array(percent)
        if self.fault == "patch before" and self.chance.random() < 0.04:
            shown = tuple(float(v) for v in before)
        fraction, xyz = self.rig.read(shown)
        self.readings += 1
        fraction = np.array(percent) / 100.0 if shown is not percent else fraction
        if "input" in self.fault and self.readings == self.at_reading:
            self.left_input = LOOKS if self.fault == "input for a while" else 10**6
        xyz = xyz * OTHER_MODE if self.is_elsewhere or self.left_input else xyz
        lost = self.readings > self.at_reading
        if self.fault == "outliers" and self.chance.random() < 0.04:
            xyz = xyz * self.chance.uniform(0.6, 1.5)
        elif self.fault == "colour slips" and xyz[1] > 0 and self.chance.random() < 0.04:
            x, y = xyz[:2] / xyz.sum() + self.chance.uniform(-0.04, 0.04, 2)
            xyz = xyz[1] * np.array([x / y, 1.0, (1.0 - x - y) / y])
        elif self.fault == "lamp":
            xyz = xyz * (1.0 - DIMS) ** self.readings
        elif self.fault == "hand" and lost and self.readings <= self.at_reading + BRIEF:
            xyz = xyz * 0.1
        elif lost and (self.fault == "curtain" or (self.fault == "door" and self.readings <= self.at_reading + BRIEF)):
            xyz = xyz + DAYLIGHT
        elif self.fault == "aim lost in colours" and lost:
            self.is_astray = self.is_astray or np.ptp(percent) > 0
            xyz = xyz * (0.1 if self.is_astray else 1.0)
        elif self.fault == "aim lost" and lost:
            xyz = xyz * 0.1
        elif self.fault == "aim lost a little" and lost:
            xyz = xyz * 0.7
        return fraction, xyz

    def set(self, control: str, value: Any) -> Any:
        """Set, or not."""
        if not (self.fault == "sticks" and control == self.one):
            self.rig.set(control, value)
        self._moved()
        return self._real()[control]

    def install(self, what: str, data: dict[str, Any]) -> None:
        """Install something."""
        self.rig.install(what, data)
        self._moved()

    def ask(self, words: str) -> bool | None:
        """Set right what a person can, where somebody is there."""
        self.calls += 1
        if self.is_attended:
            self.at_reading, self.is_astray, self.left_input = 10**6, False, 0
        return True if self.is_attended else None

    def look(self) -> Standing:
        """Tell what is really set, and put its own mode back."""
        left, self.is_elsewhere = self.is_elsewhere, False
        clash = "The display shows another input." if self.left_input else ""
        self.left_input = max(self.left_input - 1, 0)
        return Standing(self._real(), left_mode=left, clash=clash)


class Late(Faulty):
    """A display that says that something is set or installed, and shows it a while later: all of it, or its gains and offsets alone."""

    slow = ("",)  # what roles begin with that are shown late

    def __init__(self, seed: int, fault: str, rig: Any = None) -> None:
        super().__init__(seed, fault, rig)
        self.turned_s, self.installed_s = (float(self.chance.uniform(*span)) for span in (TURNED_S, INSTALLED_S))
        self.told = self._real()
        self.clock = 0.0
        self.to_come: list[tuple[float, Callable[[], Any]]] = []

    def wait(self, seconds: float) -> None:
        """Let so many seconds pass, and come into the light what is due."""
        self.clock += seconds
        for _, act in (due := [each for each in self.to_come if each[0] <= self.clock]):
            act()
        self.to_come = [each for each in self.to_come if each not in due]

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Show a patch, wait until that is seen, and read."""
        self.wait(SETTLES_S)
        made = super().read(percent)
        self.wait(READS_S)
        return made

    def set(self, control: str, value: Any) -> Any:
        """Say that it is set."""
        self.told[control] = value
        role = next(str(c.get("role")) for c in self.controls if c["id"] == control)
        if not role.startswith(self.slow):
            self.rig.set(control, value)
            return value
        self.to_come.append((self.clock + self.turned_s, lambda: self.rig.set(control, value)))
        return value

    def install(self, what: str, data: dict[str, Any]) -> None:
        """Say that it is installed."""
        self.to_come.append((self.clock + self.installed_s, lambda: self.rig.install(what, data)))

    def uninstall(self, what: str) -> None:
        """Say that it is gone."""
        self.to_come.append((self.clock + self.installed_s, lambda: self.rig.uninstall(what)))

    def look(self) -> Standing:
        """Tell what was said."""
        return Standing(dict(self.told))


class GainsLate(Late):
    """One whose choices are there at once: how soon these are seen tells nothing of the rest."""

    slow = ("white.gain", "white.offset")


class BringsAlong(Faulty):
    """A display on which a preset or a gamma that is chosen brings the factory's values of everything else along.

    It is found turned, so that these are others than were found. It may have another fault, too.
    """

    def __init__(self, seed: int, fault: str, rig: Any = None) -> None:
        super().__init__(seed, fault, rig)
        turned = [c for c in self.controls if c["kind"] == "range" and str(c.get("role", "")).startswith(BROUGHT)]
        self.usual = {c["id"]: c["value"] for c in turned}
        for c in turned:
            stands = c["value"] + int(self.chance.integers(-AWAY, AWAY + 1)) * c["step"]
            self.rig.set(c["id"], type(c["value"])(np.clip(stands, c["min"], c["max"])))
        for c in self.controls:
            c["value"] = self._real()[c["id"]]
        self.choices = [c["id"] for c in self.controls if c.get("role") in BRINGS]

    def set(self, control: str, value: Any) -> Any:
        """Set, and with a choice everything else."""
        brings = control in self.choices and self._real()[control] != value
        super().set(control, value)
        for other, stands in self.usual.items() if brings else ():
            self.rig.set(other, stands)
        return self._real()[control]


def broken(seed: int, fault: str, rig: Any) -> Faulty:
    """Return a rig with a fault."""
    kinds = {"follows late": Late, "gains follow late": GainsLate, "brings along": BringsAlong}
    return kinds.get(fault, Faulty)(seed, fault, rig)


def made(kind: str, seed: int) -> tuple[Any, Target, dict[str, Any], Callable[[], float]]:
    """Return a rig, its target, what its job is told beside that, and what tells the mean error of its greys by the true light."""
    if kind == "sdr":
        display = RandomDisplay(seed)
        return display, TARGET, {}, lambda: display.truth(TARGET)[0]
    if kind == "hdr":
        hdr = HdrDisplay(seed)
        return hdr, HDR, {}, lambda: (told := hdr.hdr_truth()).get("follows_mean", told["mean"])
    site = drawn(seed)
    return site, HDR, {"by": "install", "takes": site.display.optics.build.installs}, lambda: float(site.hdr_truth(HDR)[0].mean())


def one(task: tuple[str, int, str, bool]) -> tuple[str, bool, float, float, bool, int]:
    """Return the fault, whether somebody was there, the mean grey error before and after, whether all was put back, the readings."""
    kind, seed, fault, is_attended = task
    rig, target, more, error = made(kind, seed)
    display = broken(seed, fault, rig)
    display.is_attended = is_attended
    before = error()  # as the fault lets it be found
    job = Job(Desk(display.controls, budget=BUDGET if kind == "sdr" else IN_HDR), target, **more)
    perform(job.run(), display)
    if isinstance(display, Late):
        display.wait(ALL_IN_S)
    return fault, is_attended, before, np.inf if display.is_elsewhere else error(), job.restored, display.readings


def main() -> None:
    """Print a row for each fault."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 30
    ways = [(fault, is_attended) for fault in FAULTS for is_attended in ((False, True) if fault in CALLED else (False,))]
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
