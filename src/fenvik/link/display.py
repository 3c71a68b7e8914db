"""A display with a network control as a typed object: pairing, modes, controls, settings."""

import math
import re
import time
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from fenvik.core.labels import told_apart
from fenvik.link.connection import Connection
from fenvik.link.devices import Device
from fenvik.link.faults import DeviceError
from fenvik.link.sane import MOST_CONTROLS, MOST_MODES, MOST_OPTIONS, named

LONGEST_LABEL = 80  # characters
LONGEST_MODE, LONGEST_SIGNAL, LONGEST_INPUT = 60, 40, 120  # of what is shown of each, and typed by people
KINDS = ("range", "choice", "switch")
SEPARATORS = re.compile("[,;]")  # of names that are typed in one line
NOT_THERE = (DeviceError.UNKNOWN, DeviceError.UNSUPPORTED, -32602)  # the last: a parameter that cannot be
SIGNALS = {"sdr": "SDR", "hdr10": "HDR10", "hlg": "HLG", "dynamic": "dynamic metadata"}
LATE_S = 5.0  # so long a display may tell what was before something was set or chosen
CHOSEN = ("", "")  # the mode, among what was set
MOVES_S, PROVEN = (0.2, 0.4, 0.6, 1.2), 2  # between looks at what may move after its answer; times that tell that nothing does
ASKED_AGAIN_S = 0.4  # after that; then after half as long as it is since
Value = float | str | bool
Told = TypeVar("Told")


@dataclass(frozen=True)
class DisplayState:
    """What a display shows now; ``mode`` is None where no mode takes the signal."""

    mode: str | None
    signal: str | None
    input: str
    on_minutes: float
    notices: tuple[str, ...]


@dataclass(frozen=True)
class PictureMode:
    """A picture mode and the signals that it takes."""

    id: str
    label: str
    signals: tuple[str, ...]


def find_mode(modes: Sequence[PictureMode], named: str, signal: str) -> PictureMode | None:
    """Return the mode of an id, or else of a label in any case; None where there is none.

    Many displays call those for SDR, HDR10 and HLG alike: of several of one label it is that which takes the signal.
    """
    called = [mode for mode in modes if mode.label.strip().lower() == named.strip().lower()]
    taking = (mode for mode in called if signal in mode.signals)
    return next((mode for mode in modes if mode.id == named.strip()), None) or next(taking, next(iter(called), None))


def modes_told_apart(modes: Sequence[PictureMode]) -> dict[str, str]:
    """Return what modes are called by their ids; where several are called alike, with the signals that each takes, or its id."""
    shared = Counter(mode.label.strip().lower() for mode in modes)
    alike = Counter((mode.label.strip().lower(), mode.signals) for mode in modes)
    made = {}
    for mode in modes:
        name = mode.label.strip().lower()
        apart = mode.id if alike[name, mode.signals] > 1 else ", ".join(SIGNALS[s] for s in mode.signals if s in SIGNALS)
        made[mode.id] = f"{mode.label} ({apart or mode.id})" if shared[name] > 1 else mode.label
    return made


def modes_moved(before: Sequence[PictureMode], now: Sequence[PictureMode]) -> dict[str, str]:
    """Return the new ids, by the old ones, of modes that a display calls as before and has given another id.

    A mode that is only called otherwise keeps its id, and stays what it was.
    """
    def by_name(modes: Sequence[PictureMode]) -> dict[tuple[str, tuple[str, ...]], list[str]]:
        # Some list the modes of what arrives just now: one that takes another signal is another, whatever it is called.
        made: dict[tuple[str, tuple[str, ...]], list[str]] = {}
        for mode in modes:
            made.setdefault((_plainly(mode.label), mode.signals), []).append(mode.id)
        return made

    then, ids = by_name(before), by_name(now)
    both = [(then[name], ids[name]) for name in then if name in ids]
    return {old[0]: new[0] for old, new in both if len(old) == len(new) == 1 and old != new}


def modes_named(modes: Sequence[PictureMode], named: str) -> tuple[list[PictureMode], list[str]]:
    """Return the modes that are named by label, id or what they are called apart, with commas between; and the names of none.

    All of them where nothing is named. Where a name has commas of its own, the longest that a mode has counts.
    """
    apart = modes_told_apart(modes)
    names = {mode.id: _spoken(mode.label) | _spoken(mode.id) | _spoken(apart[mode.id]) for mode in modes}
    known = set().union(*names.values())
    parts = [part for part in SEPARATORS.split(named) if part.strip()]
    wanted: set[str] = set()
    nameless = []
    while parts:
        joined = (_plainly(",".join(parts[:count])) for count in range(len(parts), 0, -1))
        count, name = next(((len(parts) - i, name) for i, name in enumerate(joined) if name in known), (1, ""))
        if name:
            wanted.add(name)
        else:
            nameless.append(parts[0].strip())
        parts = parts[count:]
    return [mode for mode in modes if names[mode.id] & wanted or not wanted | set(nameless)], nameless


def _spoken(name: str) -> set[str]:
    """Return how a name may be typed: whole, or as far as it is shown."""
    return {_plainly(name), _plainly(name[:LONGEST_MODE])}


def _plainly(name: str) -> str:
    return ",".join(part.strip() for part in SEPARATORS.split(name.lower())).strip(",")


def _number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def _fits(kind: str, row: dict[str, Any], value: object) -> bool:
    if kind == "switch":
        return isinstance(value, bool)
    if kind == "choice":
        return isinstance(value, str) and value in row["options"]
    return _number(value)


def checked_control(connection: Connection, row: object) -> dict[str, Any]:
    """Return a control as the link promises it; raises LinkFault for any other shape."""
    if not isinstance(row, dict) or not named(row, ("id", "label", "group"), LONGEST_LABEL):
        raise connection.fault(f"a control without id, label and group, or with one of more than {LONGEST_LABEL} characters")
    if not row["id"]:
        raise connection.fault("a control whose id is empty")
    kind = row.get("kind")
    if kind not in KINDS:
        raise connection.fault(f"a control of an unknown kind: {row['id'][:40]}")
    if kind == "range" and not (
        all(_number(row.get(m)) for m in ("min", "max", "step")) and row["min"] < row["max"] and row["step"] > 0
    ):
        raise connection.fault(f"a range without min, max and step: {row['id'][:40]}")
    options = row.get("options")
    listed = isinstance(options, list) and 0 < len(options) <= MOST_OPTIONS
    if kind == "choice" and not (listed and all(isinstance(o, str) for o in options or ())):
        raise connection.fault(f"a choice without options: {row['id'][:40]}")
    role = row.get("role")
    if role is not None and not isinstance(role, str):
        raise connection.fault(f"a role that is none: {row['id'][:40]}")
    for member in ("value", "default"):
        if not _fits(kind, row, row.get(member)):
            raise connection.fault(f"{member} of {row['id'][:40]} does not fit its kind")
    if (role or "").startswith("process.") and not _fits(kind, row, row.get("off")):
        raise connection.fault(f"{row['id'][:40]} does not say what off is")
    wanted = ("id", "label", "group", "kind", "role", "min", "max", "step", "options", "off", "value", "default")
    return {member: _plain(row[member]) for member in wanted if member in row}


def _plain(value: Any) -> Any:
    """Return a number without what arithmetic left at its end: 0.30000000000000004 is where 0.3 is, and nobody turned it."""
    return round(value, 9) if isinstance(value, float) else value


class LinkedDisplay(Device):
    """A display; all but pairing wants the token that pairing gave."""

    def __init__(self, connection: Connection, token: str = "") -> None:
        super().__init__(connection)
        self.token = token
        # What was set or chosen may be at, and since when: where it was answered to be, or where it was asked to go.
        self._lately: dict[tuple[str, str], tuple[tuple[Value, ...], float]] = {}
        self._moves_late, self._stayed = False, 0  # whether controls move after their answer; how often that was waited for in vain
        self._in_vain: set[tuple[str, str]] = set()  # what was waited for that stood otherwise all the same

    def _call(self, method: str, **params: Any) -> Any:
        return self.connection.call(method, {"token": self.token, **params})

    def show_code(self) -> None:
        """Let the display show a code on its screen."""
        answer = self.connection.call("pair", {})
        if not isinstance(answer, dict) or answer.get("shown") is not True:
            raise self.connection.fault("pair without a code being shown")

    def answer_code(self, code: str) -> str:
        """Answer the code and return the token. Raises DeviceError 2 for a wrong one."""
        answer = self.connection.call("pair", {"code": code})
        if not isinstance(answer, dict) or not isinstance(answer.get("token"), str) or not answer["token"]:
            raise self.connection.fault("pairing without a token")
        self.token = answer["token"]
        return self.token

    def was_set(self, mode: str, settings: Iterable[tuple[str, Value]]) -> None:
        """Take it that controls were set just now, over another line: a display that tells them late is asked again here, too."""
        self._lately.update({(mode, control): ((value,), time.monotonic()) for control, value in settings})

    def _told(self, ask: Callable[[], Told], values: Callable[[Told], dict[tuple[str, str], Value]]) -> Told:
        """Return what is told, asked again while it is otherwise than what was just set. What stays so really stands so."""
        while True:
            made = ask()
            told = values(made)
            late = [name for name, (at, _) in self._lately.items() if told.get(name, at[0]) not in at]
            age = time.monotonic() - max((self._lately[name][1] for name in late if name not in self._in_vain), default=-math.inf)
            if age > LATE_S:
                self._in_vain |= set(late)
                return made
            time.sleep(max(ASKED_AGAIN_S, age / 2))

    def state(self) -> DisplayState:
        """Return what the display shows now; one that still tells the mode before the one it was just put in is asked again."""
        return self._told(self._state, lambda state: {} if state.mode is None else {CHOSEN: state.mode})

    def _state(self) -> DisplayState:
        answer = self._call("state")
        if not isinstance(answer, dict):
            raise self.connection.fault("no state")
        mode, signal, minutes = answer.get("mode"), answer.get("signal"), answer.get("on_minutes")
        if isinstance(mode, str) and len(mode) > LONGEST_LABEL:
            raise self.connection.fault(f"a mode whose id has more than {LONGEST_LABEL} characters")
        notices = answer.get("notices")
        if (mode is not None and not isinstance(mode, str)) or (signal is not None and not isinstance(signal, str)):
            raise self.connection.fault("a state with a mode or a signal that is none")
        if not _number(minutes) or not isinstance(notices, list) or not all(isinstance(n, str) for n in notices):
            raise self.connection.fault("a state without minutes or notices")
        signal = signal if signal is None else signal[:LONGEST_SIGNAL]
        return DisplayState(mode, signal, str(answer.get("input") or "")[:LONGEST_INPUT], float(minutes), tuple(notices))  # type: ignore[arg-type]

    def modes(self) -> list[PictureMode]:
        """Return the picture modes."""
        rows = self._call("modes")
        if not isinstance(rows, list) or len(rows) > MOST_MODES:
            raise self.connection.fault(f"no list of modes, or one of more than {MOST_MODES}")
        made = []
        for row in rows:
            signals = row.get("signals") if isinstance(row, dict) else None
            if not isinstance(signals, list) or not all(isinstance(row.get(m), str) for m in ("id", "label")):
                raise self.connection.fault("a mode without id, label and signals")
            if len(row["id"]) > LONGEST_LABEL:
                raise self.connection.fault(f"a mode whose id has more than {LONGEST_LABEL} characters")
            made.append(PictureMode(row["id"], row["label"][:LONGEST_MODE].strip(), tuple(str(s) for s in signals)))
        return made

    def choose(self, mode: str) -> None:
        """Choose a picture mode."""
        self._done("choose", mode=mode)
        self._lately[CHOSEN] = (mode,), time.monotonic()

    def controls(self, mode: str) -> list[dict[str, Any]]:
        """Return the controls of a mode, each with its value, its default and a label of its own, in the menu's own order.

        A display that still tells what they were before they were set is asked again, until it tells that or some seconds are over.
        """
        return self._told(lambda: self._controls(mode), lambda rows: {(mode, row["id"]): row["value"] for row in rows})

    def _controls(self, mode: str) -> list[dict[str, Any]]:
        rows = self._call("controls", mode=mode)
        if not isinstance(rows, list) or len(rows) > MOST_CONTROLS:
            raise self.connection.fault(f"no list of controls, or one of more than {MOST_CONTROLS}")
        made = [checked_control(self.connection, row) for row in rows]
        if len({row["id"] for row in made}) != len(made):
            raise self.connection.fault("two controls with one id")
        return told_apart(made)

    def set(self, mode: str, control: str, value: Value, *, was: Value | None = None) -> Value:
        """Set a control and return what it now is. Raises DeviceError 3 outside its range.

        ``was``: what it was, where that is known. Some displays answer that, and move the control a moment later: the one that
        answers so is asked again for as long as ``MOVES_S``, twice, and always once it has shown that it does.
        """
        answer = self._call("set", mode=mode, control=control, value=value)
        if not isinstance(answer, dict) or not isinstance(answer.get("value"), int | float | str):
            raise self.connection.fault("set without a value")
        now: Value = _plain(answer["value"])
        if was is not None and now == was != value and (self._moves_late or self._stayed < PROVEN):
            now = self._moved_late(mode, control, now)
        self._lately[mode, control] = (now, value), time.monotonic()
        return now

    def _moved_late(self, mode: str, control: str, was: Value) -> Value:
        for pause in MOVES_S:
            time.sleep(pause)
            now = next((row["value"] for row in self._controls(mode) if row["id"] == control), was)
            if now != was:
                self._moves_late = True
                return now
        self._stayed += 1
        return was

    def install(self, mode: str, what: str, data: dict[str, Any]) -> None:
        """Install curves, a cube, a matrix, a tone or panel facts in a mode. Raises DeviceError −32602 for what it cannot be."""
        self._done("install", mode=mode, what=what, data=data)

    def uninstall(self, mode: str, what: str) -> None:
        """Take away what is installed in a mode, also where nothing was.

        A display is to accept that; one that refuses what it does not have, as unknown or unsupported, has nothing installed.
        """
        try:
            self._done("uninstall", mode=mode, what=what)
        except DeviceError as refused:
            if refused.number not in NOT_THERE:
                raise

    def reset(self, mode: str) -> None:
        """Put a mode back to its factory values."""
        self._done("reset", mode=mode)
        self._lately = {name: each for name, each in self._lately.items() if name[0] != mode}

    def _done(self, method: str, **params: Any) -> None:
        if not isinstance(self._call(method, **params), dict):
            raise self.connection.fault(f"{method} without an answer")
