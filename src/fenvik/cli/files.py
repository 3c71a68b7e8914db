"""What the commands on files of readings have in common: reading, refusing in one line, writing JSON."""

import json
import math
import sys
from pathlib import Path
from typing import Any

from fenvik.formats.readings import ReadingsError, ReadingsFile, printable, read

REFUSED = 2
MOST_BYTES = 256 * 1024 * 1024


class RefusedError(Exception):
    """The command ends with one line on standard error and exit status 2."""


def load(path: str) -> ReadingsFile:
    """Return the readings of a file. Raises RefusedError with the one line that says what is wrong."""
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


def write_json(value: Any) -> None:
    """Write JSON to standard output."""
    sys.stdout.write(json.dumps(plain(value), ensure_ascii=False, allow_nan=False) + "\n")


def refuse(error: RefusedError) -> int:
    """Say the one line and return the exit status."""
    print(str(error).replace("\n", " "), file=sys.stderr)
    return REFUSED
