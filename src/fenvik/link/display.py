"""A display with a network control as a typed object: pairing, modes, controls, settings."""

import math
from dataclasses import dataclass
from typing import Any

from fenvik.link.connection import Connection
from fenvik.link.devices import Device
from fenvik.link.faults import DeviceError
from fenvik.link.sane import MOST_CONTROLS, MOST_MODES, MOST_OPTIONS, named

LONGEST_LABEL = 80  # characters
KINDS = ("range", "choice", "switch")
NOT_THERE = (DeviceError.UNKNOWN, DeviceError.UNSUPPORTED, -32602)  # the last: a parameter that cannot be
SIGNALS = ("sdr", "hdr10", "hlg", "dynamic")
Value = float | str | bool


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
    return {member: row[member] for member in wanted if member in row}


class LinkedDisplay(Device):
    """A display; all but pairing wants the token that pairing gave."""

    def __init__(self, connection: Connection, token: str = "") -> None:
        super().__init__(connection)
        self.token = token

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

    def state(self) -> DisplayState:
        """Return what the display shows now."""
        answer = self._call("state")
        if not isinstance(answer, dict):
            raise self.connection.fault("no state")
        mode, signal, minutes = answer.get("mode"), answer.get("signal"), answer.get("on_minutes")
        notices = answer.get("notices")
        if (mode is not None and not isinstance(mode, str)) or (signal is not None and not isinstance(signal, str)):
            raise self.connection.fault("a state with a mode or a signal that is none")
        if not _number(minutes) or not isinstance(notices, list) or not all(isinstance(n, str) for n in notices):
            raise self.connection.fault("a state without minutes or notices")
        return DisplayState(mode, signal, str(answer.get("input", "")), float(minutes), tuple(notices))  # type: ignore[arg-type]

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
            made.append(PictureMode(row["id"], row["label"], tuple(str(s) for s in signals)))
        return made

    def choose(self, mode: str) -> None:
        """Choose a picture mode."""
        self._done("choose", mode=mode)

    def controls(self, mode: str) -> list[dict[str, Any]]:
        """Return the controls of a mode, each with its value and default, in the menu's own order."""
        rows = self._call("controls", mode=mode)
        if not isinstance(rows, list) or len(rows) > MOST_CONTROLS:
            raise self.connection.fault(f"no list of controls, or one of more than {MOST_CONTROLS}")
        made = [checked_control(self.connection, row) for row in rows]
        if len({row["id"] for row in made}) != len(made):
            raise self.connection.fault("two controls with one id")
        return made

    def set(self, mode: str, control: str, value: Value) -> Value:
        """Set a control and return what it now is. Raises DeviceError 3 outside its range."""
        answer = self._call("set", mode=mode, control=control, value=value)
        if not isinstance(answer, dict) or not isinstance(answer.get("value"), int | float | str):
            raise self.connection.fault("set without a value")
        now: Value = answer["value"]
        return now

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

    def _done(self, method: str, **params: Any) -> None:
        if not isinstance(self._call(method, **params), dict):
            raise self.connection.fault(f"{method} without an answer")
