"""Readings as open files, CSV and CGATS (ISO 28178): bytes in, arrays out, and one line about whatever is wrong."""

import csv
import math
import re
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fenvik.core.errors import FenvikError
from fenvik.core.measure.pairing import Side
from fenvik.core.types import Floats, Ints

MOST_READINGS = 100_000
MOST_LINE_BYTES = 64 * 1024
MOST_LINES = 1_000_000
NEEDED = ("r", "g", "b", "bits", "range", "X", "Y", "Z")
BITS = (8, 10, 12, 16)
WHOLE = re.compile(r"[+-]?[0-9]{1,12}$")
NUMBER = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$")
CGATS_FIELDS = {
    "RGB_R": "r",
    "RGB_G": "g",
    "RGB_B": "b",
    "XYZ_X": "X",
    "XYZ_Y": "Y",
    "XYZ_Z": "Z",
    "SAMPLE_NAME": "label",
    # Fenvik's own, each declared with KEYWORD: what a reading was part of, how it was shown, and whether it was too dark.
    "FENVIK_PART": "part",
    "FENVIK_WINDOW": "window",
    "FENVIK_SURROUND": "surround",
    "FENVIK_DARK": "dark",
}
OPTIONAL = ("window", "label", "part", "surround", "dark")
PARTS = ("main", "beside", "drift", "window", "checkerboard", "uniformity", "stability")


class ReadingsError(FenvikError, ValueError):
    """A file that is refused; ``line`` counts from 1, ``column`` is the name of one."""

    code = "readings_file"

    def __init__(self, line: int, column: str, why: str) -> None:
        super().__init__(f"line {line}, column {printable(column)}: {why}")
        self.line, self.column, self.why = line, column, why


@dataclass(frozen=True)
class ReadingsFile:
    """The readings of a file, in its order: codes (n, 3), XYZ (n, 3) in cd/m², and what belongs to each."""

    codes: Ints
    bits: Ints
    limited: np.ndarray  # (n,) of bool: the range is limited
    xyz: Floats
    window: Floats  # percent, NaN where the file does not say
    labels: list[str | None]
    lines: list[int]
    parts: list[str]  # "main" where the file does not say
    surround: Floats  # percent of signal, NaN where the file does not say
    dark: np.ndarray  # (n,) of bool: too dark to read

    @cached_property
    def signal(self) -> Floats:
        """Return signal fractions (n, 3), unclipped."""
        scale = 2.0 ** (self.bits - 8.0)[:, None]
        limited = (self.codes - 16.0 * scale) / (219.0 * scale)
        full = self.codes / (2.0 ** self.bits.astype(np.float64)[:, None] - 1.0)
        result: Floats = np.where(self.limited[:, None], limited, full)
        return result


def printable(text: str) -> str:
    """Return a text that fits one line of a terminal."""
    return "".join(c if c.isprintable() else "?" for c in text)[:60]


def lines_of(data: bytes) -> list[str]:
    """Return the lines of a text file. Raises ReadingsError for what is no UTF-8 text, or has a line too long."""
    # Counted and measured as bytes, before anything is made of them: a hostile file costs no more memory than its own size.
    if data.count(b"\n") > MOST_LINES:
        raise ReadingsError(MOST_LINES, "-", f"there are more than {MOST_LINES:,} lines")
    start, number = 0, 1
    while start < len(data):
        end = data.find(b"\n", start)
        end = len(data) if end < 0 else end
        if end - start > MOST_LINE_BYTES:
            raise ReadingsError(number, "-", f"the line is longer than {MOST_LINE_BYTES // 1024} KiB")
        start, number = end + 1, number + 1
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise ReadingsError(data[: error.start].count(b"\n") + 1, "-", "it is not UTF-8") from error
    at = text.find("\0")
    if at >= 0:
        raise ReadingsError(text.count("\n", 0, at) + 1, "-", "there is a NUL byte in it")
    return [line.removesuffix("\r") for line in text.split("\n")]


class _Rows:
    """Collects readings and checks each value where it stands."""

    def __init__(self) -> None:
        self.codes: list[tuple[int, int, int]] = []
        self.bits: list[int] = []
        self.limited: list[bool] = []
        self.xyz: list[tuple[float, float, float]] = []
        self.window: list[float] = []
        self.labels: list[str | None] = []
        self.lines: list[int] = []
        self.parts: list[str] = []
        self.surround: list[float] = []
        self.dark: list[bool] = []

    def add(self, line: int, cells: dict[str, str]) -> None:
        if len(self.lines) == MOST_READINGS:
            raise ReadingsError(line, "-", f"there are more than {MOST_READINGS:,} readings")
        bits = _whole(line, "bits", cells["bits"])
        if bits not in BITS:
            raise ReadingsError(line, "bits", f"{printable(cells['bits'])} is none of 8, 10, 12 and 16")
        if cells["range"] not in ("limited", "full"):
            raise ReadingsError(line, "range", f"{printable(cells['range'])} is neither limited nor full")
        codes = []
        for name in ("r", "g", "b"):
            code = _whole(line, name, cells[name])
            if not 0 <= code < 2**bits:
                raise ReadingsError(line, name, f"{code} is no code of {bits} bits")
            codes.append(code)
        x, y, z = (_number(line, name, cells[name]) for name in ("X", "Y", "Z"))
        if y < 0:
            raise ReadingsError(line, "Y", f"{printable(cells['Y'])} is below 0")
        for name, kept in (("window", self.window), ("surround", self.surround)):
            told = cells.get(name, "").strip()
            kept.append(_number(line, name, told) if told else math.nan)
        part = cells.get("part", "").strip()
        self.parts.append(part if part in PARTS else "main")
        self.dark.append(cells.get("dark", "").strip() in ("1", "yes"))
        self.codes.append((codes[0], codes[1], codes[2]))
        self.bits.append(bits)
        self.limited.append(cells["range"] == "limited")
        self.xyz.append((x, y, z))
        self.labels.append(cells.get("label") or None)
        self.lines.append(line)

    def made(self, line: int) -> ReadingsFile:
        if not self.lines:
            raise ReadingsError(line, "-", "there is no reading in it")
        return ReadingsFile(
            np.array(self.codes, dtype=np.int64), np.array(self.bits, dtype=np.int64), np.array(self.limited),
            np.array(self.xyz, dtype=np.float64), np.array(self.window, dtype=np.float64), self.labels, self.lines,
            self.parts, np.array(self.surround, dtype=np.float64), np.array(self.dark, dtype=bool),
        )  # fmt: skip


def _whole(line: int, column: str, text: str) -> int:
    if text.isdigit() and text.isascii() and len(text) < 12:
        return int(text)  # the quick way for what nearly every value is
    text = text.strip()
    if not WHOLE.match(text):
        raise ReadingsError(line, column, f"{printable(text) or 'nothing'} is no whole number")
    return int(text)


def _number(line: int, column: str, text: str) -> float:
    text = text.strip()
    value = float(text) if NUMBER.match(text) else math.nan
    if not math.isfinite(value):
        raise ReadingsError(line, column, f"{printable(text) or 'nothing'} is no finite number")
    return value


def _cells(number: int, line: str) -> list[str]:
    if '"' not in line:
        return line.split(",")  # what nearly every line is
    try:
        rows = list(csv.reader([line], strict=True))
    except csv.Error as error:
        raise ReadingsError(number, "-", "a quote is not closed, or stands where none may") from error
    return rows[0] if rows else []


def _read_csv(lines: list[str]) -> ReadingsFile:
    numbered = [(n, line) for n, line in enumerate(lines, 1) if line.strip()]
    if not numbered:
        raise ReadingsError(1, "-", "there is nothing in it")
    first, head_line = numbered[0]
    head = [name.strip() for name in _cells(first, head_line)]
    for name in NEEDED:
        if name not in head:
            raise ReadingsError(first, name, "the column is missing")
    for name in (*NEEDED, *OPTIONAL):
        if head.count(name) > 1:
            raise ReadingsError(first, name, "the column is there twice")
    at = {name: head.index(name) for name in (*NEEDED, *OPTIONAL) if name in head}
    rows = _Rows()
    for number, line in numbered[1:]:
        cells = _cells(number, line)
        if len(cells) != len(head):
            missing = head[len(cells)] if len(cells) < len(head) else head[-1]
            raise ReadingsError(number, missing, f"the line has {len(cells)} values and should have {len(head)}")
        rows.add(number, {name: cells[i] for name, i in at.items()})
    return rows.made(numbered[-1][0])


_TOKEN = re.compile(r'"((?:[^"]|"")*)"(?=\s|$)|([^\s"]+)|(\s+)|(.)')


def tokens_of(number: int, line: str) -> list[str]:
    """Return the words of a line of CGATS, quotes taken off. Raises ReadingsError."""
    found = []
    for quoted, plain, blank, wrong in _TOKEN.findall(line):
        if wrong:
            raise ReadingsError(number, "-", "a quote is not closed, or stands where none may")
        if plain:
            found.append(plain)
        elif not blank:
            found.append(quoted.replace('""', '"'))
    return found


def _read_cgats(lines: list[str], head: int) -> ReadingsFile:
    keywords: dict[str, str] = {}
    declared: set[str] = set()
    fields: list[str] = []
    rows, state, last, begun = _Rows(), "head", head, False
    said_at = head
    for number, line in enumerate(lines[head:], head + 1):
        tokens = tokens_of(number, line) if not line.lstrip().startswith("#") else []
        if not tokens:
            continue
        last = number
        word = tokens[0]
        if state == "head":
            if word == "BEGIN_DATA_FORMAT":
                state = "format"
            elif word == "BEGIN_DATA":
                _check_cgats(number, fields, keywords, declared)
                state, begun = "data", True
            elif word == "KEYWORD" and len(tokens) > 1:
                declared.add(tokens[1])
            elif len(tokens) > 1:
                keywords[word] = tokens[1]
                if word == "NUMBER_OF_SETS":
                    said_at = number
        elif state == "format":
            if word == "END_DATA_FORMAT":
                state = "head"
            else:
                fields += tokens
        elif word == "END_DATA":
            state = "end"
            break
        else:
            if len(tokens) != len(fields):
                raise ReadingsError(number, "-", f"the set has {len(tokens)} values and should have {len(fields)}")
            cells = {
                CGATS_FIELDS[name]: value for name, value in zip(fields, tokens, strict=True) if name in CGATS_FIELDS
            }
            rows.add(number, cells | {"bits": keywords["SIGNAL_BITS"], "range": keywords["SIGNAL_RANGE"]})
    if state != "end":
        raise ReadingsError(last, "-", "END_DATA is missing" if begun else "BEGIN_DATA is missing")
    count = keywords.get("NUMBER_OF_SETS")
    if count is not None and _whole(said_at, "NUMBER_OF_SETS", count) != len(rows.lines):
        raise ReadingsError(said_at, "NUMBER_OF_SETS", f"it says {printable(count)}, and there are {len(rows.lines)}")
    return rows.made(last)


def _check_cgats(number: int, fields: list[str], keywords: dict[str, str], declared: set[str]) -> None:
    for name, short in CGATS_FIELDS.items():
        if name not in fields and short not in OPTIONAL:
            raise ReadingsError(number, name, "the field is missing")
        if fields.count(name) > 1:
            raise ReadingsError(number, name, "the field is there twice")
    for name in ("SIGNAL_BITS", "SIGNAL_RANGE"):
        if name not in keywords or name not in declared:
            raise ReadingsError(number, name, "the keyword is missing, or not declared with KEYWORD")


def read(data: bytes) -> ReadingsFile:
    """Return the readings of a file; its form is told by what is in it. Raises ReadingsError."""
    lines = lines_of(data)
    first = next((line for line in lines if line.strip()), "")
    if first.startswith("CGATS"):
        return _read_cgats(lines, lines.index(first) + 1)
    return _read_csv(lines)


def side_of(file: ReadingsFile) -> Side:
    """Return a file as one side of a correction."""
    shown = [
        (int(r), int(g), int(b), int(bits), bool(limited))
        for (r, g, b), bits, limited in zip(file.codes, file.bits, file.limited, strict=True)
    ]
    return Side(shown, file.xyz, file.labels, file.signal)
