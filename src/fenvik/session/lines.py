"""The lines of a rig: devices found by their serials, faults waited out, a pairing that was withdrawn asked for again."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

from fenvik.core.errors import FenvikError
from fenvik.link.connection import Connection
from fenvik.link.devices import Device, Directory, Entry, Meter, Source
from fenvik.link.display import LinkedDisplay
from fenvik.link.faults import DeviceError, LinkFault
from fenvik.session.patience import Patience, passes_by_itself

PATIENCE_S, RETRY_S = 60.0, 1.0
PAIRING_PATIENCE_S = 10.0
T = TypeVar("T")


class GoneError(FenvikError):
    """A device that failed for good."""

    code = "gone"


class WrongSerialError(FenvikError):
    """A serial that the directory does not have."""

    code = "wrong_serial"


@dataclass(frozen=True)
class Wanted:
    """Which devices, and how they are used."""

    directory: tuple[str, int]
    display: str
    code: str
    mode: str
    source: str
    meter: str
    window: float
    settle_s: float | None  # None: learned from the display
    reference: str = ""  # a meter to correct the other one by
    signal: str = "sdr"  # the format that the source sends
    mastering: dict[str, float] | None = None  # of an HDR signal, in cd/m²


class Lines:
    """Open lines to the devices of a rig, by their serials."""

    def __init__(self, wanted: Wanted) -> None:
        self.wanted = wanted
        self.signal = wanted.signal
        self.facts: dict[str, dict[str, Any]] = {}
        self.bits = 8
        self.token = ""
        self._open: dict[str, Any] = {}
        self._shown: tuple[int, ...] | None = None

    def _entry(self, serial: str) -> Entry:
        with Connection(*self.wanted.directory, "The directory") as line:
            entries = Directory(line).list()
        for entry in entries:
            if entry.serial == serial:
                return entry
        if serial in self.facts:  # it was there: it may be starting again
            raise LinkFault("absent", serial, line.where)
        raise WrongSerialError(
            f"The directory has no device {serial}: it has {', '.join(e.serial for e in entries) or 'none'}."
        )

    def _device(self, serial: str, role: str) -> Any:
        if serial in self._open:
            return self._open[serial]
        entry = self._entry(serial)
        connection = Connection(entry.host, entry.port, entry.name)
        described = Device(connection).describe()
        if described.serial != serial:  # what answers there has come in its place
            connection.close()
            raise LinkFault("absent", serial, connection.where)
        if described.role != role:
            connection.close()
            raise WrongSerialError(f"{serial} is a {described.role} and not a {role}.")
        self.facts[serial] = described.facts
        made: Any = {"meter": Meter, "source": Source, "display": LinkedDisplay}[role](connection)
        if role == "display":
            made.token = self.token
        self._open[serial] = made
        if role == "source":
            rates = described.facts["frame_rates"]
            bits = described.facts["bits"]
            self.bits = 10 if 10 in bits else min(bits)
            if self.signal not in described.facts["formats"]:
                has = ", ".join(described.facts["formats"])
                raise WrongSerialError(f"{serial} does not send {self.signal.upper()}: it sends {has}.")
            made.signal(
                format_=self.signal,
                colorimetry="bt709" if self.signal == "sdr" else "bt2020",
                mastering=self.wanted.mastering,
                bits=self.bits,
                range_="limited",
                frame_rate=60 if 60 in rates else rates[-1],
            )
            self._shown = None
        return made

    def patiently(self, act: Callable[[], T]) -> T:
        """Do something over the link; what passes is waited for, up to a minute. Raises GoneError.

        A pairing that was withdrawn is asked for again with the code that was given, for as long as a display may need for it.
        """
        line, pairing = Patience(PATIENCE_S), Patience(PAIRING_PATIENCE_S)
        while True:
            try:
                return act()
            except (LinkFault, DeviceError) as problem:
                withdrawn = isinstance(problem, DeviceError) and problem.number == DeviceError.NOT_PAIRED
                if not (withdrawn or passes_by_itself(problem)):
                    raise
                self.close()
                line.failed()
                pairing.failed()
                if (pairing if withdrawn else line).is_over:
                    raise GoneError(str(problem)) from problem
                time.sleep(RETRY_S)
                if withdrawn:
                    self._pair_again()

    def _pair(self) -> None:
        display = self._device(self.wanted.display, "display")
        display.show_code()
        self.token = str(display.answer_code(self.wanted.code))
        self.close()

    def _pair_again(self) -> None:
        """Pair with the same code; a display that does not take it any more is gone. Raises GoneError."""
        try:
            self._pair()
        except DeviceError as refusal:
            if refusal.number == DeviceError.WRONG_CODE:
                words = f"{refusal} The pairing was withdrawn, and the code that was given is no longer taken."
                raise GoneError(words) from refusal
        except LinkFault:
            pass  # whatever is wrong now, the next try meets it

    def close(self) -> None:
        """Let go of every connection; the next use makes new ones."""
        for device in self._open.values():
            device.close()
        self._open, self._shown = {}, None
