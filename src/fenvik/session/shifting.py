"""Reading a mode's own shift over the device link: two modes, one preset, turn about; everything is left as it stood."""

import time
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.colour.curves import pq_inverse
from fenvik.core.measure.settling import has_settled
from fenvik.core.measure.shift import Shift, shift_of
from fenvik.core.types import Floats
from fenvik.link.display import LinkedDisplay, PictureMode, find_mode
from fenvik.session.lines import WrongSerialError
from fenvik.session.reading import read_once
from fenvik.session.rig import LinkRig

ROUNDS = 3
LEVELS = (100.0, 70.0)  # percent of signal
LEVELS_NITS = (120.0, 50.0)  # cd/m² of a PQ signal, below what the mode's own end bends
AVERAGE = 8
CHANGES_IN_S = 20.0
STILL = 6  # readings of white at most until it stands
PREFERRED = ("sdr", "hdr10", "hlg", "dynamic")


@dataclass
class _Stand:
    """One of the two modes, with the value of the preset that it had."""

    mode: PictureMode
    signal: str
    preset: dict[str, Any] | None = None
    had: Any = None


class ShiftRig(LinkRig):
    """A rig that stands in two modes, one after the other."""

    def find(self, beside: str, mode: str, preset: str) -> tuple[_Stand, _Stand]:
        """Pair, and find both modes and their preset. Raises WrongSerialError where one is not there."""
        self.patiently(self._pair)
        modes = self.patiently(lambda: self._device(self.wanted.display, "display").modes())
        made = []
        for name in (beside, mode):
            found = find_mode(modes, name, self.wanted.signal)
            if found is None:
                raise WrongSerialError(f"The display has no mode {name}: it has {', '.join(m.id for m in modes)}.")
            made.append(_Stand(found, next((s for s in PREFERRED if s in found.signals), "sdr")))
        for stand in made if preset else ():
            controls = self.patiently(lambda s=stand: self._device(self.wanted.display, "display").controls(s.mode.id))  # type: ignore[misc]
            choice = next((c for c in controls if c.get("role") == "white-preset" and c["kind"] == "choice"), None)
            if choice is None or preset not in choice["options"]:
                has = "none" if choice is None else ", ".join(choice["options"])
                raise WrongSerialError(f"{stand.mode.label} has no white preset {preset}: it has {has}.")
            stand.preset, stand.had = choice, choice["value"]
        return made[0], made[1]

    def _line(self) -> LinkedDisplay:
        line: LinkedDisplay = self._device(self.wanted.display, "display")
        return line

    def stand_in(self, stand: _Stand, preset: str) -> None:
        """Let the signal of a mode arrive, choose the mode and its preset, and wait until it is so and white stands still."""
        if self.signal != stand.signal:
            self.signal = stand.signal
            self.close()  # the source is told its signal when its line is opened
        self.patiently(lambda: self._device(self.wanted.source, "source").blank())
        self.patiently(lambda: self._line().choose(stand.mode.id))
        if stand.preset is not None:
            name = stand.preset["id"]
            self.patiently(lambda: self._line().set(stand.mode.id, name, preset))
        end = time.monotonic() + CHANGES_IN_S
        while self.patiently(lambda: self._line().state()).mode != stand.mode.id:
            if time.monotonic() > end:
                raise WrongSerialError(f"The display does not come to stand in {stand.mode.label} while {stand.signal} arrives.")
            time.sleep(0.2)
        self.mode, self._shown = stand.mode.id, None
        seen: list[float] = []
        while len(seen) < STILL and not has_settled(seen):
            seen.append(float(self._white(self.levels(stand)[0], 1)[1]))

    def levels(self, stand: _Stand) -> list[float]:
        """Return the percentages of signal of the whites that are read."""
        if stand.signal in ("hdr10", "dynamic"):
            return [round(100.0 * float(pq_inverse(nits)), 2) for nits in LEVELS_NITS]
        return list(LEVELS)

    def _white(self, level: float, average: int) -> Floats:
        percent = (level, level, level)
        codes = self.codes(percent)

        def act() -> Floats:
            source, meter = self._device(self.wanted.source, "source"), self._device(self.meter_serial, "meter")
            if self._shown != codes:
                source.patch(codes, window=self.wanted.window)
                self._shown = codes
                time.sleep(self.settle_s)
            got = read_once(meter, typical=self.facts[self.meter_serial]["typical"], average=average)
            self.device_seconds += got.seconds
            return np.array(got.xyz)

        made = self.patiently(act)
        self.readings += 1
        return made

    def whites(self, stand: _Stand, preset: str) -> Floats:
        """Return XYZ (levels, 3) of the whites of a mode."""
        self.stand_in(stand, preset)
        return np.array([self._white(level, AVERAGE) for level in self.levels(stand)])

    def measure(self, beside: _Stand, mode: _Stand, preset: str) -> Shift:
        """Read both modes turn about and return the shift; presets are put back, whatever ends it."""
        before, after = [], []
        try:
            for turn in range(ROUNDS):
                order = (beside, mode) if turn % 2 == 0 else (mode, beside)  # what drifts is not taken for a shift
                read = {id(stand): self.whites(stand, preset) for stand in order}
                before.append(read[id(beside)])
                after.append(read[id(mode)])
        finally:
            for stand in (mode, beside):
                if stand.preset is not None:
                    had, name, where = stand.had, stand.preset["id"], stand.mode.id
                    self.patiently(lambda w=where, n=name, h=had: self._device(self.wanted.display, "display").set(w, n, h))  # type: ignore[misc]
        return shift_of(before, after)
