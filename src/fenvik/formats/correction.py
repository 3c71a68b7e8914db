"""A correction as an open file, CGATS (ISO 28178): what both meters read of each patch, and where it comes from.

One table. The reference's readings are XYZ_X, XYZ_Y, XYZ_Z, so any reader of CGATS sees them; the field meter's are METER_X,
METER_Y, METER_Z, declared by KEYWORD as the standard asks of what is not its own. The matrix is there to be used as it is; with
the readings beside it anybody can make another one.
"""

import math
from dataclasses import dataclass, field

import numpy as np

from fenvik.core.types import Floats
from fenvik.formats.readings import BITS, ReadingsError, lines_of, printable, tokens_of

KEYS = (
    "SIGNAL_BITS", "SIGNAL_RANGE", "CORRECTION_METHOD", "CORRECTION_MATRIX", "REFERENCE_METER", "REFERENCE_SERIAL", "FIELD_METER",
    "FIELD_SERIAL", "FIELD_EFFORT", "FIELD_AVERAGE", "DISPLAY_MAKER", "DISPLAY_MODEL", "DISPLAY_SERIAL", "DISPLAY_TECHNOLOGY",
    "PICTURE_MODE", "NOTE",
)  # fmt: skip
FIELDS = ("SAMPLE_NAME", "RGB_R", "RGB_G", "RGB_B", "XYZ_X", "XYZ_Y", "XYZ_Z", "METER_X", "METER_Y", "METER_Z")
METHODS = ("primaries", "four-colour", "weighted", "least-squares")
MOST_PATCHES = 2000


@dataclass(frozen=True)
class CorrectionFile:
    """``facts`` are the keywords by name; ``matrix`` (3, 3), or None where the file leaves it out; XYZ (n, 3) in cd/m²."""

    labels: tuple[str, ...]
    rgb: tuple[tuple[int, int, int], ...]
    reference: Floats
    meter: Floats
    bits: int
    range: str
    method: str
    matrix: Floats | None = None
    facts: dict[str, str] = field(default_factory=dict)
    created: str = ""


def _quoted(text: str) -> str:
    plain = "".join(c if c.isprintable() else " " for c in text)
    return '"' + plain.replace('"', '""') + '"'


def write(file: CorrectionFile) -> bytes:
    """Return the file, numbers with 9 significant digits."""
    facts = dict(file.facts) | {
        "SIGNAL_BITS": str(file.bits),
        "SIGNAL_RANGE": file.range,
        "CORRECTION_METHOD": file.method,
    }
    if file.matrix is not None:
        facts["CORRECTION_MATRIX"] = " ".join(f"{v:.9g}" for v in np.asarray(file.matrix).ravel())
    lines = ["CGATS.17", 'ORIGINATOR "Fenvik"', 'DESCRIPTOR "correction of a field meter by a reference meter"']
    if file.created:
        lines.append(f"CREATED {_quoted(file.created)}")
    lines += [f'KEYWORD "{name}"' for name in (*KEYS, *FIELDS[-3:]) if name in facts or name in FIELDS]
    lines += [f"{name} {_quoted(facts[name])}" for name in KEYS if facts.get(name)]
    lines += [f"NUMBER_OF_FIELDS {len(FIELDS)}", "BEGIN_DATA_FORMAT", " ".join(FIELDS), "END_DATA_FORMAT"]
    lines += [f"NUMBER_OF_SETS {len(file.labels)}", "BEGIN_DATA"]
    for label, rgb, reference, meter in zip(file.labels, file.rgb, file.reference, file.meter, strict=True):
        numbers = [*map(str, rgb), *(f"{v:.9g}" for v in (*reference, *meter))]
        lines.append(" ".join([_quoted(label), *numbers]))
    return ("\r\n".join([*lines, "END_DATA"]) + "\r\n").encode()


def read(data: bytes) -> CorrectionFile:
    """Return the correction of a file. Raises ReadingsError with line and column for whatever is not one."""
    lines = lines_of(data)
    head = next((i for i, line in enumerate(lines) if line.strip()), 0)
    if not lines[head].startswith("CGATS"):
        raise ReadingsError(head + 1, "-", "it does not begin with CGATS, so it is no correction")
    facts, fields, rows, created = _tables(lines, head + 1)
    last = rows[-1][0] if rows else len(lines)
    missing = next((name for name in FIELDS if name not in fields), None)
    if missing is not None:
        raise ReadingsError(last, missing, "the field is missing")
    bits = facts.get("SIGNAL_BITS", "8")
    if not bits.isdigit() or int(bits) not in BITS:
        raise ReadingsError(last, "SIGNAL_BITS", f"{printable(bits)} is none of 8, 10, 12 and 16")
    range_ = facts.get("SIGNAL_RANGE", "limited")
    if range_ not in ("limited", "full"):
        raise ReadingsError(last, "SIGNAL_RANGE", f"{printable(range_)} is neither limited nor full")
    method = facts.get("CORRECTION_METHOD", "")
    if method not in METHODS:
        raise ReadingsError(
            last, "CORRECTION_METHOD", f"{printable(method) or 'nothing'} is none of {', '.join(METHODS)}"
        )
    if not rows:
        raise ReadingsError(last, "-", "there is no patch in it")
    labels, rgb, reference, meter = [], [], [], []
    for number, cells in rows:
        labels.append(cells["SAMPLE_NAME"][:80])
        red, green, blue = (_code(number, name, cells[name], int(bits)) for name in FIELDS[1:4])
        rgb.append((red, green, blue))
        reference.append([_light(number, name, cells[name]) for name in FIELDS[4:7]])
        meter.append([_light(number, name, cells[name]) for name in FIELDS[7:]])
    return CorrectionFile(
        tuple(labels), tuple(rgb), np.array(reference), np.array(meter), int(bits), range_, method,
        _matrix(facts.get("CORRECTION_MATRIX"), last), facts, created,
    )  # fmt: skip


def _tables(lines: list[str], first: int) -> tuple[dict[str, str], list[str], list[tuple[int, dict[str, str]]], str]:
    facts: dict[str, str] = {}
    fields: list[str] = []
    rows: list[tuple[int, dict[str, str]]] = []
    state, created = "head", ""
    for number, line in enumerate(lines[first:], first + 1):
        tokens = tokens_of(number, line) if not line.lstrip().startswith("#") else []
        if not tokens:
            continue
        word = tokens[0]
        if state == "head":
            if word in ("BEGIN_DATA_FORMAT", "BEGIN_DATA"):
                state = "format" if word == "BEGIN_DATA_FORMAT" else "data"
            elif word == "CREATED" and len(tokens) > 1:
                created = tokens[1]
            elif word in KEYS and len(tokens) > 1:
                facts[word] = tokens[1]
        elif state == "format":
            if word == "END_DATA_FORMAT":
                state = "head"
            else:
                fields += tokens
        elif word == "END_DATA":
            return facts, fields, rows, created
        else:
            if len(tokens) != len(fields):
                raise ReadingsError(number, "-", f"the set has {len(tokens)} values and should have {len(fields)}")
            if len(rows) == MOST_PATCHES:
                raise ReadingsError(number, "-", f"there are more than {MOST_PATCHES:,} patches")
            rows.append((number, dict(zip(fields, tokens, strict=True))))
    raise ReadingsError(len(lines), "-", "END_DATA is missing")


def _matrix(text: str | None, line: int) -> Floats | None:
    if text is None:
        return None
    parts = text.split()
    if len(parts) != 9:
        raise ReadingsError(line, "CORRECTION_MATRIX", "it has not nine numbers")
    values = np.array([_number(line, "CORRECTION_MATRIX", part) for part in parts]).reshape(3, 3)
    if abs(np.linalg.det(values)) < 1e-9:
        raise ReadingsError(line, "CORRECTION_MATRIX", "it cannot be turned round, so it mixes up colours")
    return values


def _number(line: int, column: str, text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise ReadingsError(line, column, f"{printable(text)} is no number")
    return value


def _light(line: int, column: str, text: str) -> float:
    value = _number(line, column, text)
    if not 0 <= value <= 1e6:
        raise ReadingsError(line, column, f"{printable(text)} is no luminance")
    return value


def _code(line: int, column: str, text: str, bits: int) -> int:
    if not (text.isdigit() and text.isascii() and len(text) < 8 and int(text) < 2**bits):
        raise ReadingsError(line, column, f"{printable(text)} is no code of {bits} bits")
    return int(text)
