"""Displays on which something goes wrong while they are adjusted: each has one fault, at a moment of its own."""

import copy
from collections.abc import Callable
from typing import Any

import numpy as np

from bench.displays import RandomDisplay
from fenvik.core.colour.target import TARGETS
from fenvik.core.procedures.steps import Standing
from fenvik.core.types import Floats

TARGET = TARGETS["bt709-bt1886"]
OTHER_MODE = np.array([1.15, 1.2, 1.5])  # what another mode makes of the light
AS_FOUND = 17  # readings of what is found: what comes early comes while they are taken
BRIEF = 15  # readings that a hand or an open door lasts
LOOKS = 6  # at another input before it is the right one again, where nobody is called
TURNED_S, INSTALLED_S, ANSWERED_S = (0.0, 4.0), (0.0, 10.0), (0.1, 4.0)  # seconds until what is turned or installed is seen, or done
BRINGS, BROUGHT, AWAY = ("white-preset", "gamma"), ("white.", "gamma.at", "colour."), 4  # roles, roles, steps from the usual
SETTLES_S, READS_S, ASKED_S = 0.3, 0.7, 0.1
DIMS, DAYLIGHT = 0.0004, np.array([0.57, 0.6, 0.65])  # of a lamp, a reading; in cd/m², on the screen
OUT_OF_STEP, FOR_READINGS = 0.06, 25  # of the light, by a meter that is out of step with the picture, and for how long
FADES_BY, FADES_IN = 0.3, 40  # of the light that a display takes away from a picture that stands still, and in how many readings
DARK_S = (0.5, 4.0)  # seconds that the picture is black after a choice
KEEPS = 0.9  # of its brightest light: what a display gives at most once it guards its panel
DARK, RESTS_S = 5.0, 20.0  # percent of signal; seconds of a dark picture after which it has its light again
LACKS, GROWS_IN = 0.08, 60  # of blue light that is lacking at first, and in how many readings most of it comes


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


class OtherLevels(Faulty):
    """A source that comes back with other levels than are wanted: full range for limited, or the opposite."""

    def __init__(self, seed: int, fault: str, rig: Any = None) -> None:
        super().__init__(seed, fault, rig)
        self.is_wide = bool(self.chance.random() < 0.5)

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read what the display makes of the levels that it is sent."""
        if self.readings < self.at_reading:
            return super().read(percent)
        code = 255.0 * np.array(percent) / 100.0
        shown = (code - 16.0) / 219.0 if self.is_wide else (219.0 * code / 255.0 + 16.0) / 255.0
        red, green, blue = 100.0 * np.clip(shown, 0.0, 1.0)
        return np.array(percent) / 100.0, super().read((red, green, blue))[1]


class OutOfStep(Faulty):
    """A meter that is out of step with the picture for a while: what it gives is noise."""

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read, more or less."""
        fraction, xyz = super().read(percent)
        is_now = self.at_reading < self.readings < self.at_reading + FOR_READINGS
        return fraction, xyz * (1.0 + OUT_OF_STEP * self.chance.standard_normal()) if is_now else xyz


class Fades(Faulty):
    """A display that takes light away from a picture that stands still, and gives it back when something is turned."""

    still = 0  # readings since

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read what is left."""
        fraction, xyz = super().read(percent)
        self.still += 1
        return fraction, xyz * (1.0 - FADES_BY * min(max(self.still - self.at_reading / 3.0, 0.0) / FADES_IN, 1.0))

    def set(self, control: str, value: Any) -> Any:
        """Set, which wakes it."""
        self.still = 0
        return super().set(control, value)


class Blanks(Faulty):
    """A display that is black for a while after a choice."""

    def __init__(self, seed: int, fault: str, rig: Any = None) -> None:
        super().__init__(seed, fault, rig)
        self.lasts_s, self.dark_s = float(self.chance.uniform(*DARK_S)), 0.0
        self.choices = {c["id"] for c in self.controls if c["kind"] == "choice"}

    def wait(self, seconds: float) -> None:
        """Let so many seconds pass."""
        self.dark_s = max(self.dark_s - seconds, 0.0)

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read, or read nothing."""
        self.wait(SETTLES_S)
        fraction, xyz = super().read(percent)
        is_dark = self.dark_s > 0.0
        self.wait(READS_S)
        return fraction, 0.0 * xyz if is_dark else xyz

    def set(self, control: str, value: Any) -> Any:
        """Set, and be dark after a choice."""
        self.dark_s = self.lasts_s if control in self.choices else self.dark_s
        return super().set(control, value)


class AnswersLate(Faulty):
    """A display that answers what a control was, and moves it later."""

    def __init__(self, seed: int, fault: str, rig: Any = None) -> None:
        super().__init__(seed, fault, rig)
        self.late_s, self.clock = float(self.chance.uniform(*ANSWERED_S)), 0.0
        self.to_come: list[tuple[float, str, Any]] = []

    def wait(self, seconds: float) -> None:
        """Let so many seconds pass, and do what is due."""
        self.clock += seconds
        while self.to_come and self.to_come[0][0] <= self.clock:
            self.rig.set(*self.to_come.pop(0)[1:])

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Show a patch, wait, and read."""
        self.wait(SETTLES_S + READS_S)
        return super().read(percent)

    def set(self, control: str, value: Any) -> Any:
        """Say what it was."""
        now = self._real()[control]
        self.to_come.append((self.clock + self.late_s, control, value))
        return now

    def look(self) -> Standing:
        """Tell how it stands by now."""
        self.wait(ASKED_S)
        return super().look()


class PeakFalls(Faulty):
    """A display that gives less at most from some reading on, as one that guards its panel; what is darker stays as it was."""

    most = 0.0  # cd/m² by then

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read what is left of it."""
        fraction, xyz = super().read(percent)
        if self.readings <= self.at_reading:
            self.most = max(self.most, float(xyz[1]))
            return fraction, xyz
        return fraction, xyz * min(1.0, KEEPS * self.most / max(float(xyz[1]), 1e-9))


class PeakRests(PeakFalls):
    """One whose light is whole again once the picture was dark for some seconds."""

    dark_s = 0.0

    def wait(self, seconds: float) -> None:
        """Let so many seconds pass."""
        self.dark_s += seconds if self.last.max() < DARK else 0.0
        self.at_reading = 10**6 if self.dark_s > RESTS_S and self.readings > self.at_reading else self.at_reading

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Show a patch, wait, and read."""
        made = super().read(percent)
        self.wait(SETTLES_S + READS_S)
        return made


class LightGrows(Faulty):
    """A display whose blue light comes up by and by, as its panel warms up; its true light is that of a warm one."""

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Read what there is of it by now."""
        fraction, xyz = super().read(percent)
        there = np.array([1.0, 1.0, 1.0 - LACKS * np.exp(-self.readings / GROWS_IN)])
        return fraction, (there * (xyz @ TARGET.inverse_matrix.T)) @ TARGET.matrix.T


KINDS: dict[str, type[Faulty]] = {
    "follows late": Late, "gains follow late": GainsLate, "brings along": BringsAlong, "other levels": OtherLevels,
    "out of step": OutOfStep, "fades": Fades, "blanks": Blanks, "answers late": AnswersLate,
    "peak falls": PeakFalls, "peak rests": PeakRests, "light grows": LightGrows,
}  # fmt: skip


def broken(seed: int, fault: str, rig: Any) -> Faulty:
    """Return a rig with a fault."""
    return KINDS.get(fault, Faulty)(seed, fault, rig)
