"""Settings sheets as open files: JSON and CSV, written and read."""

import csv
import io
import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from fenvik.core.errors import FenvikError

FORMAT, VERSION = "settings-sheet", 1
MOST_BYTES = 1_000_000
MOST_ROWS = 2000
COLUMNS = ("control", "label", "group", "role", "value")
RANGE = ("min", "max", "step")  # of a control: between two models the same number is another setting
FACTS = ("maker", "model", "mode", "signal")
FORMULA = ("=", "+", "-", "@", "\t", "\r")  # what a spreadsheet would take for one


class SheetFileError(FenvikError, ValueError):
    """A file that is no settings sheet; ``line`` and ``column`` say where, from 1."""

    code = "sheet_file"

    def __init__(self, message: str, line: int = 0, column: int = 0) -> None:
        where = f" Line {line}, column {column}." if line else ""
        super().__init__(f"{message}{where} Nothing was stored.")
        self.line, self.column = line, column


@dataclass(frozen=True)
class SheetFile:
    """A sheet as it was read: rows of texts, line and column of each from 1, and where it comes from as far as it says.

    A row has control, label, role and value; ``ranges`` has the range of each control that the file tells, by control.
    """

    rows: list[dict[str, str]]
    places: list[tuple[int, int]]
    facts: dict[str, str]
    ranges: dict[str, tuple[float, float, float]]


def harmless(text: str) -> str:
    """Return a cell that no spreadsheet takes for a formula; numbers stay numbers."""
    if text.startswith(FORMULA):
        try:
            float(text)
        except ValueError:
            return "'" + text
    return text


def write_json(facts: Mapping[str, Any], controls: Iterable[Mapping[str, Any]], values: Mapping[str, Any]) -> bytes:
    """Return a sheet as JSON; ``facts`` (display, mode and the like) are kept as they are."""
    rows = [
        {"control": c["id"], "label": c["label"], "group": c["group"], "role": c["role"], "value": values[c["id"]]}
        | {key: c[key] for key in RANGE if c.get(key) is not None}
        for c in controls
        if c["id"] in values
    ]
    whole = {"format": FORMAT, "version": VERSION, **facts, "settings": rows}
    return json.dumps(whole, ensure_ascii=False, indent=1).encode() + b"\n"


def write_csv(controls: Iterable[Mapping[str, Any]], values: Mapping[str, Any]) -> bytes:
    """Return a sheet as CSV with a header."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(COLUMNS)
    for c in controls:
        if c["id"] in values:
            value = values[c["id"]]
            text = ("on" if value else "off") if isinstance(value, bool) else str(value)
            writer.writerow([harmless(str(cell)) for cell in (c["id"], c["label"], c["group"], c["role"] or "", text)])
    return out.getvalue().encode()


def decoded(data: bytes) -> str:
    """Return the text of a file: UTF-8 or UTF-16 with their marks, else Latin-1. Raises SheetFileError."""
    if len(data) > MOST_BYTES:
        raise SheetFileError(f"The file has {len(data):,} bytes; a settings sheet has at most {MOST_BYTES:,}.")
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            return data.decode("utf-16")
        except UnicodeDecodeError as error:
            raise SheetFileError("The file begins as UTF-16 and does not go on so.") from error
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def read(data: bytes) -> SheetFile:
    """Return a sheet from JSON or CSV. Raises SheetFileError."""
    text = decoded(data)
    if "\0" in text:
        raise SheetFileError("The file is no text.")
    if not text.strip():
        raise SheetFileError("The file is empty.")
    return _read_json(text) if text.lstrip().startswith(("{", "[")) else _read_csv(text)


def _places(text: str) -> list[tuple[int, int]]:
    """Return line and column of each setting of a JSON sheet."""
    found = []
    for at in (match.start() for match in re.finditer(r'"control"\s*:', text)):
        begin = text.rfind("\n", 0, at)
        found.append((text.count("\n", 0, at) + 1, at - begin))
    return found


def _range_of(row: dict[str, Any]) -> tuple[float, float, float] | None:
    told = [row.get(key) for key in RANGE]
    if not all(isinstance(v, int | float) and not isinstance(v, bool) for v in told):
        return None
    low, high, step = (float(v) for v in told)  # type: ignore[arg-type]
    return low, high, step


def _read_json(text: str) -> SheetFile:
    try:
        whole = json.loads(text)
    except json.JSONDecodeError as error:
        raise SheetFileError("The file begins as JSON and does not go on so.", error.lineno, error.colno) from error
    except (RecursionError, ValueError) as error:  # too deep, or a number of thousands of digits
        raise SheetFileError("The file is JSON that no settings sheet has.") from error
    if not isinstance(whole, dict) or whole.get("format") != FORMAT or not isinstance(whole.get("settings"), list):
        raise SheetFileError("The file is JSON but no settings sheet.")
    if len(whole["settings"]) > MOST_ROWS:
        raise SheetFileError(f"The file has more than {MOST_ROWS} settings.")
    rows = []
    for number, row in enumerate(whole["settings"], 1):
        if (
            not isinstance(row, dict)
            or not isinstance(row.get("control"), str)
            or not isinstance(row.get("value"), str | int | float)
        ):
            raise SheetFileError(f"Setting {number} has no control and value.")
        value = row["value"]
        rows.append(
            {
                "control": row["control"], "label": str(row.get("label", "")), "role": str(row.get("role") or ""),
                "value": ("on" if value else "off") if isinstance(value, bool) else str(value),
            }
        )  # fmt: skip
    facts = {key: str(whole[key]) for key in FACTS if isinstance(whole.get(key), str)}
    ranges = {row["control"]: told for row in whole["settings"] if (told := _range_of(row)) is not None}
    places = _places(text)
    places += [(1, 1)] * (len(rows) - len(places))
    return SheetFile(rows, places[: len(rows)], facts, ranges)


def _read_csv(text: str) -> SheetFile:
    first = text.splitlines()[0]
    separator = ";" if first.count(";") > first.count(",") else "\t" if "\t" in first else ","
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    try:
        head = [name.strip().lower() for name in next(reader)]
        for wanted in ("control", "value"):
            if wanted not in head:
                raise SheetFileError(
                    f"The first line of a settings sheet names its columns, and {wanted} is not among them.", 1, 1
                )
        rows, places = [], []
        for cells in reader:
            if not any(cell.strip() for cell in cells):
                continue
            if len(cells) < len(head):
                raise SheetFileError(
                    f"The line has {len(cells)} cells and should have {len(head)}.", reader.line_num, len(cells) + 1
                )
            named = {name: cell.strip().removeprefix("'") for name, cell in zip(head, cells, strict=False)}
            rows.append({key: named.get(key, "") for key in ("control", "label", "role", "value")})
            places.append((reader.line_num, head.index("value") + 1))
            if len(rows) > MOST_ROWS:
                raise SheetFileError(f"The file has more than {MOST_ROWS} settings.")
    except csv.Error as error:
        raise SheetFileError("The file is no CSV.", reader.line_num, 1) from error
    return SheetFile(rows, places, {}, {})
