"""Meters, sources and directories as typed objects: every answer is checked before anything believes it."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from fenvik.link.connection import DEADLINE_S, Connection
from fenvik.link.sane import MOST_ENTRIES, named

USED = ("meter", "source", "display", "directory")  # a directory may list others, a processor among them
READ_SLACK_S = 20.0  # added to the time that a meter itself expects
LONGEST_NAME, LONGEST_LIST = 60, 200  # characters of a maker, model, serial; rows of a table, names in a list
MOST_CHARTS = 10_000  # a source may keep a library of every picture that somebody ever needed
SLOWEST_S = 3600.0  # of one reading
READ_TIMES = 6.0  # slower efforts and dark patches take several times the middle effort
REFRESH_S, MOST_HZ = 30.0, 100_000.0
MOST_SAMPLES = 5000  # of a spectrum
MOST_VALUES, LARGEST_CUBE = 65_536, 65  # of a curve; points along an edge, of which more would not fit into a line of the link


@dataclass(frozen=True)
class Entry:
    """One line of a directory."""

    role: str
    name: str
    serial: str
    host: str
    port: int


@dataclass(frozen=True)
class Description:
    """What every device says of itself; ``facts`` is the whole answer."""

    role: str
    maker: str
    model: str
    serial: str
    firmware: str
    features: tuple[str, ...]
    facts: dict[str, Any]


@dataclass(frozen=True)
class MeterReading:
    """One result: XYZ in cd/m², the integration's length and the meter's clock at its end, in seconds."""

    xyz: tuple[float, float, float]
    seconds: float
    clock: float
    spectrum: tuple[float, float, tuple[float, ...]] | None = None  # start and step in nm, W/(sr·m²·nm)


def _number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def _table(value: object, width: int) -> bool:
    return (
        isinstance(value, list)
        and 0 < len(value) <= LONGEST_LIST
        and all(isinstance(row, list) and len(row) == width and all(map(_number, row)) for row in value)
    )


def _texts(value: object, most: int = LONGEST_LIST) -> bool:
    return isinstance(value, list) and len(value) <= most and all(isinstance(item, str) for item in value)


class Device:
    """Any device of the link."""

    def __init__(self, connection: Connection) -> None:
        self.connection = connection

    def close(self) -> None:
        """Let go of the connection."""
        self.connection.close()

    def describe(self) -> Description:
        """Return what the device says of itself. Raises LinkFault where a required member is missing."""
        facts = self.connection.call("describe", {})
        if not isinstance(facts, dict) or facts.get("link") != 1 or isinstance(facts.get("link"), bool):
            raise self.connection.fault("no description of link version 1")
        if not facts.get("role") or not named(facts, ("role",), LONGEST_NAME):
            raise self.connection.fault("no role")
        for member in ("maker", "model", "serial", "firmware"):
            if not named(facts, (member,), LONGEST_NAME):
                raise self.connection.fault(f"no {member}, or one of more than {LONGEST_NAME} characters")
        if not _texts(facts.get("features")):
            raise self.connection.fault("no list of features")
        _check_role(self.connection, facts)
        return Description(
            facts["role"],
            facts["maker"],
            facts["model"],
            facts["serial"],
            facts["firmware"],
            tuple(facts["features"]),
            facts,
        )


def _check_role(connection: Connection, facts: dict[str, Any]) -> None:
    wanted: dict[str, bool] = {}
    if facts["role"] == "meter":
        wanted = {
            "kind": facts.get("kind") in ("spectroradiometer", "colorimeter"),
            "floor": _number(facts.get("floor")) and facts["floor"] >= 0,
            "ceiling": _number(facts.get("ceiling")) and facts["ceiling"] > 0,
            "efforts": _texts(facts.get("efforts")) and bool(facts.get("efforts")),
            "typical": _table(facts.get("typical"), 2) and all(0 < row[1] <= SLOWEST_S and row[0] >= 0 for row in facts["typical"]),
            "repeatability": _table(facts.get("repeatability"), 4) and all(min(row) >= 0 for row in facts["repeatability"]),
        }
    elif facts["role"] == "source":
        rates, bits = facts.get("frame_rates"), facts.get("bits")
        wanted = {
            "formats": _texts(facts.get("formats")) and bool(facts.get("formats")),
            "bits": isinstance(bits, list) and bool(bits) and all(n in (8, 10, 12) for n in bits),
            "frame_rates": isinstance(rates, list) and bool(rates) and all(_number(rate) and 0 < rate <= 1000 for rate in rates),
            "charts": _texts(facts.get("charts"), MOST_CHARTS),
        }
    elif facts["role"] == "display":
        wanted = {
            "technology": isinstance(facts.get("technology"), str),
            "installs": isinstance(facts.get("installs"), dict),
        }
    for member, there in wanted.items():
        if not there:
            raise connection.fault(f"{member} missing or of the wrong kind")
    if facts["role"] == "display":
        facts["installs"] = _installable(facts["installs"])


def _installable(told: dict[str, Any]) -> dict[str, Any]:
    """Return what of that a display says that it takes can be given to it: sizes that are some, and that fit into a line."""
    made: dict[str, Any] = {what: True for what in ("matrix", "tone", "panel") if told.get(what)}
    size = _member(told.get("curves"), "size")
    if _size(size, MOST_VALUES):
        made["curves"] = {"size": size}
    sizes = _member(told.get("cube"), "sizes")
    fit = [size for size in sizes if _size(size, LARGEST_CUBE)] if isinstance(sizes, list) else []
    return made | ({"cube": {"sizes": fit}} if fit else {})


def _member(value: object, name: str) -> object:
    return value.get(name) if isinstance(value, dict) else None


def _size(value: object, most: int) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and 2 <= value <= most


class Directory(Device):
    """A list of the devices that can be reached."""

    def list(self) -> list[Entry]:
        """Return the devices of the directory, those of a role that Fenvik does not use among them."""
        rows = self.connection.call("list", {})
        if not isinstance(rows, list) or len(rows) > MOST_ENTRIES:
            raise self.connection.fault(f"no list of devices, or one of more than {MOST_ENTRIES}")
        entries = []
        for row in rows:
            port = row.get("port") if isinstance(row, dict) else None
            if (
                not isinstance(row, dict)
                or not row.get("role")
                or not named(row, ("role",), LONGEST_NAME)
                or not named(row, ("name", "serial", "host"), 2 * LONGEST_NAME)
                or not isinstance(port, int)
                or isinstance(port, bool)
                or not 0 < port < 65536
            ):
                raise self.connection.fault("a device without role, name, serial, host and port")
            entries.append(Entry(row["role"], row["name"], row["serial"], row["host"], port))
        return entries


class Meter(Device):
    """A spectroradiometer or a colorimeter."""

    def read(
        self, *, effort: str | None = None, average: int = 1, expected_s: float = 5.0, slack_s: float = READ_SLACK_S,
        spectrum: bool = False,
    ) -> MeterReading:  # fmt: skip
        """Read the light, with its spectrum where that is asked for. ``expected_s``: what the meter itself expects; the deadline is
        well beyond it.

        Raises DeviceError (6 too dark, 7 too bright, 5 busy …) and LinkFault.
        """
        params: dict[str, Any] = {"average": average}
        if effort is not None:
            params["effort"] = effort
        if spectrum:
            params["spectrum"] = True
        answer = self.connection.call("read", params, slack_s + READ_TIMES * expected_s)
        xyz = answer.get("xyz") if isinstance(answer, dict) else None
        if not isinstance(xyz, list) or len(xyz) != 3 or not all(map(_number, xyz)):
            raise self.connection.fault("a reading without three numbers")
        seconds, clock = answer.get("seconds"), answer.get("clock")
        if not _number(seconds) or not _number(clock) or seconds < 0:
            raise self.connection.fault("a reading without its time")
        told = self._spectrum(answer.get("spectrum")) if spectrum else None
        return MeterReading((float(xyz[0]), float(xyz[1]), float(xyz[2])), float(seconds), float(clock), told)

    def _spectrum(self, told: Any) -> tuple[float, float, tuple[float, ...]]:
        values = told.get("values") if isinstance(told, dict) else None
        if not isinstance(values, list) or not 8 <= len(values) <= MOST_SAMPLES or not all(map(_number, values)):
            raise self.connection.fault("no spectrum, though one was asked for")
        if not _number(told.get("start_nm")) or not _number(told.get("step_nm")) or not 0 < told["step_nm"] <= 20:
            raise self.connection.fault("a spectrum without its wavelengths")
        return float(told["start_nm"]), float(told["step_nm"]), tuple(float(v) for v in values)


    def refresh(self) -> float:
        """Return how often the light comes and goes, in hertz. Raises DeviceError 8 without the feature."""
        answer = self.connection.call("refresh", {}, REFRESH_S)
        hertz = answer.get("hz") if isinstance(answer, dict) else None
        if not isinstance(hertz, int | float) or isinstance(hertz, bool) or not 0.0 < hertz < MOST_HZ:
            raise self.connection.fault("no frequency, or one that no light has")
        return float(hertz)


class Source(Device):
    """A pattern source."""

    def signal(
        self, *, format_: str, colorimetry: str, bits: int, range_: str, frame_rate: float,
        mastering: dict[str, float] | None = None,
    ) -> None:  # fmt: skip
        """Set the signal and what the picture was mastered on. Raises DeviceError 10 where the source does not have it."""
        params: dict[str, Any] = {
            "format": format_, "colorimetry": colorimetry, "bits": bits, "range": range_, "frame_rate": frame_rate,
        }  # fmt: skip
        if mastering is not None:
            params["mastering"] = mastering
        self._done("signal", params)

    def patch(
        self,
        rgb: Sequence[int],
        *,
        window: float,
        surround: Sequence[int] | None = None,
        at: tuple[float, float] | None = None,
        frame: tuple[float, float, float] | None = None,
    ) -> None:
        """Show a patch of code values in a window of so many percent of the screen's area.

        ``frame``: dynamic metadata to go with it, least, average and most in PQ signal; that of the picture itself without.
        """
        params: dict[str, Any] = {"rgb": list(rgb), "window": window}
        if surround is not None:
            params["surround"] = list(surround)
        if at is not None:
            params["at"] = list(at)
        if frame is not None:
            params["frame"] = dict(zip(("min", "average", "max"), frame, strict=True))
        self._done("patch", params)

    def chart(self, name: str, options: dict[str, Any] | None = None) -> None:
        """Show one of the source's own charts. Raises DeviceError 4 where it has none of that name."""
        self._done("chart", {"name": name, "options": options} if options else {"name": name})

    def blank(self) -> None:
        """Show black; the signal stays."""
        self._done("blank", {})

    def _done(self, method: str, params: dict[str, Any]) -> None:
        if not isinstance(self.connection.call(method, params, DEADLINE_S), dict):
            raise self.connection.fault(f"{method} without an answer")
