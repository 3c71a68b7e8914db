"""The rig of a procedure over the device link: faults are waited out, and every reading is counted."""

import time
from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np

from fenvik.core.colour.curves import pq
from fenvik.core.measure.averaging import USUAL, steady_average
from fenvik.core.measure.settling import has_settled, next_start, settling_s
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.procedures.correcting import AVERAGE
from fenvik.core.procedures.steps import AwayError, Standing
from fenvik.core.signal.decoding import decode, encode
from fenvik.core.types import Floats
from fenvik.link.display import find_mode
from fenvik.link.faults import DeviceError
from fenvik.session.lines import GoneError, Lines, Wanted, WrongSerialError
from fenvik.session.reading import read_once
from fenvik.session.refusing import refusal_of, too_bright
from fenvik.session.showing import standing

DARK_PERCENT, DARK_AVERAGE = 12.0, 4  # dark patches are read longer
WAYS = ((0.0, 100.0), (100.0, 30.0))  # percent: from and to
SURE_S, LONGEST_S = 2.0, 5.0
CAME = 0.35  # logarithm of light: less of a change, and the picture has not come yet
T = TypeVar("T")


class LinkRig(Lines):
    """Reads and sets over the link. ``matrix`` corrects the meter once a correction has been made."""

    def __init__(self, wanted: Wanted) -> None:
        super().__init__(wanted)
        self.matrix: Floats = np.eye(3)
        self.meter_serial = wanted.meter
        self.device_seconds, self.readings = 0.0, 0
        self._brightest = 0.0  # cd/m² that was read at most
        self.settle_s = USUAL["other"].settle_s if wanted.settle_s is None else wanted.settle_s
        self.controls: list[dict[str, Any]] = []
        self.calls: Callable[[str], bool | None] = lambda words: None  # whoever stands by, if anybody does
        self._input = ""  # that the display shows
        self._begun = 0.0  # when the last reading was begun
        self._asking = ""  # the device that something was last asked of for a reading

    def ask(self, words: str) -> bool | None:
        """Say what only a person can set right; return whether somebody did, None where nobody is there."""
        return self.calls(words)

    def wait(self, seconds: float) -> None:
        """Let so many seconds pass."""
        time.sleep(seconds)

    def clock(self) -> float:
        """Return when the reading before was begun, in seconds."""
        return self._begun

    def _asked(self, act: Callable[[Any], T]) -> T:
        """Do something with the display. Raises RefusedError for what it refuses whenever it is asked, and GoneError."""
        try:
            return self.patiently(lambda: act(self._device(self.wanted.display, "display")))
        except DeviceError as problem:
            raise refusal_of(problem) or problem from problem

    def begin(self) -> None:
        """Pair, choose the mode, let the signal arrive, and read the menu. Raises what the devices refuse."""

        self.patiently(self._pair)
        self.patiently(lambda: self._device(self.wanted.source, "source").blank())
        for serial in filter(None, (self.wanted.meter, self.wanted.reference)):
            self.patiently(lambda s=serial: self._device(s, "meter").describe())  # type: ignore[misc]
        modes = self.patiently(lambda: self._device(self.wanted.display, "display").modes())
        found = find_mode(modes, self.wanted.mode, self.wanted.signal)
        if found is None:
            raise WrongSerialError(
                f"The display has no mode {self.wanted.mode}: it has {', '.join(m.id for m in modes)}."
            )
        if self.wanted.signal not in found.signals:
            takes = ", ".join(found.signals)
            raise WrongSerialError(f"The mode {found.label} is for {takes}, and this target is for {self.wanted.signal}.")
        self.mode = found.id
        self.patiently(lambda: self._device(self.wanted.display, "display").choose(found.id))
        self._input = self.patiently(lambda: self._device(self.wanted.display, "display").state().input)
        self.controls = self.patiently(lambda: self._device(self.wanted.display, "display").controls(found.id))

    def learn_settling(self) -> None:
        """Learn how long the light takes to follow the picture, upwards and downwards, unless that was given.

        A display that does not come to stand within a few seconds is given what is usual for its technology.
        """
        if self.wanted.settle_s is not None:
            return
        kind = str(self.facts.get(self.wanted.display, {}).get("technology", "other"))
        usual = USUAL.get(kind, USUAL["other"]).settle_s
        learned = [self.patiently(lambda way=way: self._followed(*way)) for way in WAYS]  # type: ignore[misc]
        known = [seconds for seconds in learned if seconds is not None]
        self.settle_s = max(known) if len(known) == len(learned) else usual

    def _followed(self, before: float, after: float) -> float | None:
        """Return the seconds that a change from one grey to another takes to be seen; None where it does not come to stand."""
        source = self._device(self.wanted.source, "source")
        self._shown = None
        source.patch(self.codes((before,) * 3), window=self.wanted.window)
        time.sleep(SURE_S)
        was = self._light()
        source.patch(self.codes((after,) * 3), window=self.wanted.window)
        begun = time.monotonic()
        starts: list[float] = []
        seen: list[float] = []
        while not starts or starts[-1] < LONGEST_S:
            starts.append(time.monotonic() - begun)
            seen.append(self._light())
            # A picture that is late must not be taken for one that stands.
            if has_settled(seen) and abs(np.log(max(seen[-1], 1e-6) / max(was, 1e-6))) > CAME:
                return settling_s(starts, seen)
            time.sleep(max(begun + next_start(starts[-1]) - time.monotonic(), 0.0))
        return None

    def _light(self) -> float:
        """Return the luminance in cd/m² of what is shown, 0 where it is too dark to read."""
        self.readings += 1
        meter = self._device(self.meter_serial, "meter")
        return read_once(meter, typical=self.facts[self.meter_serial]["typical"]).xyz[1]

    def codes(self, percent: tuple[float, float, float]) -> tuple[int, int, int]:
        """Return the code values of percentages of signal."""
        red, green, blue = (int(c) for c in encode(percent, self.bits, "limited"))
        return red, green, blue

    def read(self, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Return what percentages were sent as, and XYZ through the correction; zeros where it is too dark to read."""
        xyz = self._read(self.meter_serial, percent)
        return decode(self.codes(percent), self.bits, "limited"), self.matrix @ xyz

    def read_by(self, meter: str, percent: tuple[float, float, float]) -> tuple[Floats, Floats]:
        """Return what percentages were sent as, and XYZ as "meter" or "reference" reads it, uncorrected and averaged.

        Raises AwayError where it is the reference that does not answer.
        """
        serial = self.wanted.reference if meter == "reference" else self.meter_serial
        try:
            xyz = self._read(serial, percent, average=AVERAGE)
        except GoneError as problem:
            if meter == "reference" and self._asking == serial:
                raise AwayError(str(problem)) from problem
            raise
        return decode(self.codes(percent), self.bits, "limited"), xyz

    def _read(self, serial: str, percent: tuple[float, float, float], *, average: int = 0) -> Floats:
        codes = self.codes(percent)
        times = average or self.averages(serial, percent)

        def act() -> Floats:
            self._asking = self.wanted.source
            source = self._device(self.wanted.source, "source")
            if self._shown != codes:
                source.patch(codes, window=self.wanted.window)
                self._shown = codes
                time.sleep(self.settle_s)
            self._begun, self._asking = time.monotonic(), serial
            meter = self._device(serial, "meter")
            try:
                got = read_once(meter, typical=self.facts[serial]["typical"], average=times)
            except DeviceError as problem:
                raise too_bright(problem) or problem from problem
            self.device_seconds += got.seconds
            self._brightest = max(self._brightest, got.xyz[1])
            return np.array(got.xyz)

        made = self.patiently(act)
        self.readings += 1
        return made

    def averages(self, serial: str, percent: tuple[float, float, float]) -> int:
        """Return how many averages a patch is read with: dark ones, and those of a meter that is noisy and quick, more than one."""
        if serial not in self.facts:
            return 1
        if self.signal == "hdr10":
            luminance = min(float(pq(max(percent) / 100.0)), max(self._brightest, 30.0))
        else:
            luminance = max(self._brightest, 30.0) * (max(percent) / 100.0) ** 2.3
        facts = self.facts[serial]
        steady = steady_average(
            Repeatability.of(facts["repeatability"]), facts["typical"], max(luminance, 0.01), grey=len(set(percent)) == 1
        )
        return max(steady, DARK_AVERAGE if max(percent) < DARK_PERCENT else 1)

    def correct(self, matrix: Floats, made: Any = None) -> None:
        """Look at what the meter reads through a matrix (3, 3) from now on."""
        self.matrix = matrix

    def look(self) -> Standing:
        """Return how the display stands; one that has left its mode is put back into it."""

        def act() -> Standing:
            display = self._device(self.wanted.display, "display")
            seen = standing(display, self.mode, signal=self.signal, on=self._input, send_again=self._send_again)
            if seen.left_mode:
                self._shown = None
            return seen

        return self.patiently(act)

    def _send_again(self) -> None:
        """Send the signal anew: opening the source does."""
        source = self._open.pop(self.wanted.source, None)
        if source is not None:
            source.close()
        self._device(self.wanted.source, "source").blank()

    def install(self, what: str, data: dict[str, Any]) -> None:
        """Install something in the mode; the light is given time to follow."""
        self._asked(lambda display: display.install(self.mode, what, data))
        self._shown = None

    def uninstall(self, what: str) -> None:
        """Take it away."""
        self.patiently(lambda: self._device(self.wanted.display, "display").uninstall(self.mode, what))
        self._shown = None

    def set(self, control: str, value: Any) -> Any:
        """Set a control and return what it now is; the light is given time to follow."""
        was = next((c["value"] for c in self.controls if c["id"] == control), None)
        now = self._asked(lambda display: display.set(self.mode, control, value, was=was))
        self._shown = None  # the picture is sent anew after a change, and settles anew
        return now
