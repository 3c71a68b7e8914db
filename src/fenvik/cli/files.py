"""What the commands on files of readings have in common: reading, refusing in one line, writing JSON."""

import gc
import json
import math
import sys
from pathlib import Path
from typing import Any

from fenvik.formats.readings import ReadingsError, ReadingsFile, printable, read

REFUSED = 2
PIECE = 2000  # rows of a long list that are written at once
MOST_BYTES = 256 * 1024 * 1024


class RefusedError(Exception):
    """The command ends with one line on standard error and exit status 2."""


def load(path: str) -> ReadingsFile:
    """Return the readings of a file. Raises RefusedError with the one line that says what is wrong."""
    gc.disable()  # a command that ends soon makes millions of values and throws none away
    try:
        file = Path(path)
        if file.stat().st_size > MOST_BYTES:
            raise RefusedError(
                f"{printable(path)}: line 1, column -: the file is larger than {MOST_BYTES // 2**20} MiB"
            )
        return read(file.read_bytes())
    except OSError as error:
        raise RefusedError(f"{printable(path)}: line 0, column -: {error.strerror or 'it cannot be read'}") from error
    except ValueError as error:
        why = str(error) if isinstance(error, ReadingsError) else "line 0, column -: it cannot be read"
        raise RefusedError(f"{printable(path)}: {why}") from error


def plain(value: Any) -> Any:
    """Return a value as JSON has it: numbers that are none become null."""
    if isinstance(value, dict):
        return {key: plain(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [plain(inner) for inner in value]
    if hasattr(value, "tolist"):
        return plain(value.tolist())
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


def _texts(column: list[Any]) -> list[str]:
    """Return the values of a member of many rows as JSON: several times quicker than the library's encoder one by one."""
    first = next((value for value in column if value is not None), None)
    if isinstance(first, list):
        return [f"[{', '.join(map(repr, v))}]" if v is not None and None not in v else json.dumps(v) for v in column]
    if isinstance(first, float | int):
        return ["null" if v is None else repr(v) for v in column]
    return [json.dumps(v, ensure_ascii=False) for v in column]


def _rows(rows: list[dict[str, Any]]) -> str:
    names = list(rows[0])
    columns = [_texts([row[name] for row in rows]) for name in names]
    template = "{" + ", ".join(f'"{name}": %s' for name in names) + "}"
    return ", ".join([template % values for values in zip(*columns, strict=True)])


def write_json(value: dict[str, Any], rows: str = "") -> None:
    """Write JSON to standard output; the member ``rows`` is a long list of plain values and is written in pieces."""
    out = sys.stdout
    for number, (key, inner) in enumerate(value.items()):
        out.write(("{" if number == 0 else ", ") + json.dumps(key) + ": ")
        if key != rows:
            out.write(json.dumps(plain(inner), ensure_ascii=False, allow_nan=False))
            continue
        out.write("[")
        for start in range(0, len(inner), PIECE):
            out.write((", " if start else "") + _rows(inner[start : start + PIECE]))
        out.write("]")
    out.write("}\n")


def refuse(error: RefusedError) -> int:
    """Say the one line and return the exit status."""
    print(str(error).replace("\n", " "), file=sys.stderr)
    return REFUSED
