"""Patch lists as open files: CSV with label,r,g,b in percent of signal, or CGATS with RGB_R RGB_G RGB_B from 0 to 100."""

import csv
import io

from fenvik.formats.readings import ReadingsError, lines_of, printable, tokens_of
from fenvik.formats.sheet import harmless

MOST_PATCHES = 5000
LOW, HIGH = -7.3, 109.5  # percent of signal that limited range has codes for
Row = tuple[str, tuple[float, float, float]]


class PatchesError(ReadingsError):
    """A file that is no patch list."""

    code = "patches_file"


def _percent(line: int, column: str, text: str) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        raise PatchesError(line, column, f"{printable(text)} is no number") from None
    if not LOW <= value <= HIGH:
        raise PatchesError(line, column, f"{printable(text)} is no percentage of signal from {LOW:g} to {HIGH:g}")
    return value


def read_patches(data: bytes) -> list[Row]:
    """Return the patches of a file in its order. Raises PatchesError with line and column."""
    try:
        lines = lines_of(data)
    except ReadingsError as error:
        raise PatchesError(error.line, error.column, error.why) from error
    first = next((i for i, line in enumerate(lines) if line.strip()), None)
    if first is None:
        raise PatchesError(1, "-", "the file is empty")
    rows = _cgats(lines, first + 1) if lines[first].startswith("CGATS") else _csv(lines, first)
    if not rows:
        raise PatchesError(len(lines), "-", "there is no patch in it")
    if len(rows) > MOST_PATCHES:
        raise PatchesError(len(lines), "-", f"there are more than {MOST_PATCHES:,} patches")
    return rows


def _csv(lines: list[str], head: int) -> list[Row]:
    separator = ";" if lines[head].count(";") > lines[head].count(",") else ","
    try:
        names = [name.strip().lower() for name in next(csv.reader([lines[head]], delimiter=separator))]
        missing = next((name for name in ("r", "g", "b") if name not in names), None)
        if missing is not None:
            raise PatchesError(head + 1, missing, "the column is missing: the first line is label,r,g,b")
        rows: list[Row] = []
        for number, line in enumerate(lines[head + 1 :], head + 2):
            if not line.strip():
                continue
            cells = next(csv.reader([line], delimiter=separator), [])
            if len(cells) != len(names):
                raise PatchesError(number, "-", f"the line has {len(cells)} values and should have {len(names)}")
            row = dict(zip(names, cells, strict=True))
            red, green, blue = (_percent(number, name, row[name].strip()) for name in ("r", "g", "b"))
            label = row.get("label", "").strip()[:80] or f"{red:g} {green:g} {blue:g}"
            rows.append((label, (red, green, blue)))
    except csv.Error as error:
        raise PatchesError(head + 1, "-", str(error)) from error
    return rows


def _cgats(lines: list[str], first: int) -> list[Row]:
    fields: list[str] = []
    rows: list[Row] = []
    state = "head"
    for number, line in enumerate(lines[first:], first + 1):
        try:
            tokens = tokens_of(number, line) if not line.lstrip().startswith("#") else []
        except ReadingsError as error:
            raise PatchesError(error.line, error.column, error.why) from error
        if not tokens:
            continue
        if tokens[0] == "BEGIN_DATA_FORMAT":
            state = "format"
        elif tokens[0] == "END_DATA_FORMAT":
            state = "head"
        elif tokens[0] == "BEGIN_DATA":
            missing = next((name for name in ("RGB_R", "RGB_G", "RGB_B") if name not in fields), None)
            if missing is not None:
                raise PatchesError(number, missing, "the field is missing")
            state = "data"
        elif tokens[0] == "END_DATA":
            return rows
        elif state == "format":
            fields += tokens
        elif state == "data":
            if len(tokens) != len(fields):
                raise PatchesError(number, "-", f"the set has {len(tokens)} values and should have {len(fields)}")
            row = dict(zip(fields, tokens, strict=True))
            red, green, blue = (_percent(number, name, row[name]) for name in ("RGB_R", "RGB_G", "RGB_B"))
            rows.append((row.get("SAMPLE_NAME", "")[:80] or f"{red:g} {green:g} {blue:g}", (red, green, blue)))
    raise PatchesError(len(lines), "-", "END_DATA is missing")


def write_csv(rows: list[Row]) -> bytes:
    """Return a list as CSV."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["label", "r", "g", "b"])
    writer.writerows([harmless(label), *(f"{v:g}" for v in percent)] for label, percent in rows)
    return out.getvalue().encode()


def write_cgats(rows: list[Row]) -> bytes:
    """Return a list as CGATS, percentages in the fields of RGB."""
    lines = ["CGATS.17", 'ORIGINATOR "Fenvik"', 'DESCRIPTOR "patch list, percent of signal"', "NUMBER_OF_FIELDS 4"]
    lines += ["BEGIN_DATA_FORMAT", "SAMPLE_NAME RGB_R RGB_G RGB_B", "END_DATA_FORMAT", f"NUMBER_OF_SETS {len(rows)}", "BEGIN_DATA"]
    for label, percent in rows:
        quoted = '"' + "".join(c if c.isprintable() else " " for c in label).replace('"', '""') + '"'
        lines.append(" ".join([quoted, *(f"{v:g}" for v in percent)]))
    return ("\r\n".join([*lines, "END_DATA"]) + "\r\n").encode()
