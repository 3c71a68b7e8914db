"""Passes as files: readings out as CSV, CGATS and JSON, and in from any of them."""

import csv
import io
import json
from collections import Counter
from collections.abc import Callable
from datetime import datetime
from typing import Any

import numpy as np
from django.db import connection, transaction

from fenvik.core.signal.shown import OF_PICTURE
from fenvik.formats.readings import PARTS, ReadingsError, ReadingsFile, read
from fenvik.formats.sheet import harmless
from fenvik.web.devices.keyed import keyed_meter, keyed_source
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassState
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import main_rows, newest_of_each, undrifted
from fenvik.web.results.summary import summarise
from fenvik.web.visits.models import Tuning

FILE_SERIAL = "from files"
CHUNK = 5000  # readings between two looks at whether anybody still waits
COPY = """
COPY passes_reading (pass_id, index, label, part, r, g, b, x, y, z, too_dark, average, effort, seconds, clock, started_at, at)
FROM STDIN
"""
Heard = Callable[[int], None]


def rows_of(pass_: Pass) -> list[dict[str, Any]]:
    """Return the readings of a pass in its order, the newest of each patch, as they were taken and as they were seen."""
    made = []
    newest = newest_of_each(pass_.readings.order_by("id"))
    picture = main_rows(newest)
    # As As found and As left show them: through the correction, and the picture with the drift taken out unless it is kept.
    shown = dict(zip((row.pk for row in picture), undrifted(pass_, picture).xyz.tolist(), strict=True))
    for row in newest:
        row.pass_of = pass_
        step = pass_.patches[row.index] if row.index < len(pass_.patches) else {}
        made.append(
            {
                "label": row.label, "rgb": [row.r, row.g, row.b], "window": step.get("window", pass_.window),
                "part": row.part, "surround": pass_.surround, "place": step.get("place"),
                "xyz": None if row.too_dark else shown.get(row.pk, list(row.seen)),
                "uncorrected": None if row.too_dark else [row.x, row.y, row.z], "average": row.average, "effort": row.effort,
                "seconds": row.seconds, "at": row.at.isoformat(),
            }
        )  # fmt: skip
    return made


def write(pass_: Pass, kind: str) -> tuple[bytes, str, str]:
    """Return a pass's readings as a file, its type and its ending; XYZ as they are seen through the pass's correction."""
    rows = rows_of(pass_)
    if kind == "json":
        told = {
            "bits": pass_.bits, "range": pass_.range, "window": pass_.window, "purpose": pass_.purpose,
            "at": pass_.created_at.isoformat(),
            "meter": {k: pass_.meter_facts.get(k) for k in ("maker", "model", "serial", "kind")},
            "correction": None if pass_.correction is None else pass_.correction.matrix, "readings": rows,
        }  # fmt: skip
        return json.dumps(told, indent=1, ensure_ascii=False).encode(), "application/json", "json"
    for row in rows:
        row["dark"], row["xyz"] = row["xyz"] is None, row["xyz"] or [0.0, 0.0, 0.0]
    if kind == "cgats":
        return _cgats(pass_, rows), "text/plain; charset=utf-8", "txt"
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["label", "r", "g", "b", "bits", "range", "part", "window", "surround", "dark", "X", "Y", "Z"])
    for row in rows:
        xyz = [f"{v:.9g}" for v in row["xyz"]]
        shown = [row["part"], f"{row['window']:g}", f"{row['surround']:g}", int(row["dark"])]
        writer.writerow([harmless(row["label"]), *row["rgb"], pass_.bits, pass_.range, *shown, *xyz])
    return out.getvalue().encode(), "text/csv; charset=utf-8", "csv"


def _cgats(pass_: Pass, rows: list[dict[str, Any]]) -> bytes:
    lines = ["CGATS.17", 'ORIGINATOR "Fenvik"', f'CREATED "{pass_.created_at:%Y-%m-%dT%H:%M:%S%z}"']
    lines += ['KEYWORD "SIGNAL_BITS"', 'KEYWORD "SIGNAL_RANGE"', f'SIGNAL_BITS "{pass_.bits}"', f'SIGNAL_RANGE "{pass_.range}"']
    own = ("FENVIK_PART", "FENVIK_WINDOW", "FENVIK_SURROUND", "FENVIK_DARK")
    fields = ("SAMPLE_NAME", "RGB_R", "RGB_G", "RGB_B", "XYZ_X", "XYZ_Y", "XYZ_Z", *own)
    lines += [f'KEYWORD "{name}"' for name in own]
    lines += [f"NUMBER_OF_FIELDS {len(fields)}", "BEGIN_DATA_FORMAT", " ".join(fields), "END_DATA_FORMAT"]
    lines += [f"NUMBER_OF_SETS {len(rows)}", "BEGIN_DATA"]
    for row in rows:
        name = '"' + row["label"].replace('"', '""') + '"'
        shown = [row["part"], f"{row['window']:g}", f"{row['surround']:g}", str(int(row["dark"]))]
        lines.append(" ".join([name, *map(str, row["rgb"]), *(f"{v:.9g}" for v in row["xyz"]), *shown]))
    return ("\r\n".join([*lines, "END_DATA"]) + "\r\n").encode()


def _from_json(data: bytes) -> ReadingsFile:
    """Return the readings of a JSON file as Fenvik writes it. Raises ReadingsError."""
    try:
        told = json.loads(data)
        bits, limited = int(told["bits"]), told["range"] == "limited"
        rows = told["readings"]
        codes = np.array([[int(c) for c in row["rgb"]] for row in rows], dtype=np.int64).reshape(-1, 3)
        dark = np.array([row["xyz"] is None for row in rows], dtype=bool)
        xyz = np.array([[float(v) for v in row["xyz"] or (0, 0, 0)] for row in rows], dtype=np.float64).reshape(-1, 3)
        window, surround = (np.array([float(row.get(n) or np.nan) for row in rows]) for n in ("window", "surround"))
        labels = [str(row.get("label") or "")[:80] or None for row in rows]
        parts = [row.get("part") if row.get("part") in PARTS else "main" for row in rows]
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError) as error:
        raise ReadingsError(1, "-", "it is no JSON of readings: bits, range and readings with rgb and xyz are needed") from error
    if told["range"] not in ("limited", "full") or bits not in (8, 10, 12):
        raise ReadingsError(1, "bits", "bits are 8, 10 or 12, and the range limited or full")
    if not rows or not np.isfinite(xyz).all() or (xyz[:, 1] < 0).any() or (codes < 0).any() or (codes >= 2**bits).any():
        raise ReadingsError(1, "readings", "there is no reading in it, or one of codes or luminances that cannot be")
    many = np.full(len(rows), bits, dtype=np.int64)
    lines = list(range(1, len(rows) + 1))
    return ReadingsFile(codes, many, np.full(len(rows), limited), xyz, window, labels, lines, parts, surround, dark)


@needs(Right.MEASURE, "took up readings from a file")
@transaction.atomic
def take_up(
    *, tuning_id: int, actor: User, data: bytes, purpose: str, name: str, now: datetime, heard: Heard = lambda _: None
) -> Pass:
    """Make a pass of the readings of a file; it is a pass like any other. Raises ReadingsError, and what ``heard`` raises."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("meter", "source").get(pk=tuning_id)
    file = _from_json(data) if data.lstrip()[:1] == b"{" else read(data)
    if len(set(zip(file.bits.tolist(), file.limited.tolist(), strict=True))) > 1:
        raise ReadingsError(file.lines[0], "bits", "readings of more than one bit depth or range cannot be one pass")
    bits, range_ = int(file.bits[0]), "limited" if bool(file.limited[0]) else "full"
    if bits not in (8, 10, 12):
        raise ReadingsError(file.lines[0], "bits", "a pass has 8, 10 or 12 bits")
    main = _main_window(file, tuning.window)
    patches = [_patch(file, i, main) for i in range(len(file.lines))]
    meter = _file_device(actor, DeviceRole.METER, now)
    # What drifted is out of a file of ours already, and of another's nobody knows when its whites were read.
    made = Pass.objects.create(
        tuning=tuning, purpose=purpose, patches=patches, meter=meter, source=_file_device(actor, DeviceRole.SOURCE, now),
        meter_facts=meter.facts, bits=bits, range=range_, window=min(max(main, 1.0), 100.0), surround=_surround(file), settle_s=0.0,
        average=1,
        file_name=name[:120] or "a file", drift_kept=True, state=PassState.DONE,
        created_at=now, created_by=actor, started_at=now, finished_at=now,
    )  # fmt: skip
    _store(made, patches, file, now, heard)
    summarise(made.pk)
    notify(tuning.pk, pass_id=made.pk)
    return made


def _store(made: Pass, patches: list[dict[str, Any]], file: ReadingsFile, now: datetime, heard: Heard) -> None:
    """Store readings as PostgreSQL takes them fastest; ``heard`` is told how many there are after each chunk."""
    xyz, dark = file.xyz.tolist(), file.dark.tolist()
    connection.ensure_connection()
    with connection.connection.cursor() as cursor:
        for start in range(0, len(patches), CHUNK):
            with cursor.copy(COPY) as copy:
                for i in range(start, min(start + CHUNK, len(patches))):
                    row = patches[i]
                    copy.write_row((
                        made.pk, i, row["label"], row["part"], *row["rgb"], *xyz[i], dark[i], 1, "", 0.0, 0.0, now, now,
                    ))  # fmt: skip
            heard(min(start + CHUNK, len(patches)))


def _patch(file: ReadingsFile, i: int, main: float) -> dict[str, Any]:
    percent = [round(100.0 * v, 2) for v in file.signal[i].tolist()]
    grey = percent[0] == percent[1] == percent[2]
    label = file.labels[i] or (f"{percent[0]:g} %" if grey else " ".join(f"{v:g}" for v in percent))
    row: dict[str, Any] = {"label": label[:80], "rgb": [int(c) for c in file.codes[i]], "percent": percent, "part": file.parts[i]}
    window = float(file.window[i])
    if not np.isnan(window) and abs(window - main) > 0.01:
        # A file that does not say what its readings are part of has a ladder where windows differ.
        row |= {"part": "window" if file.parts[i] == "main" else file.parts[i], "window": window}
    elif file.parts[i] == "window":
        row["window"] = main
    return row


def _main_window(file: ReadingsFile, usual: float) -> float:
    """Return the window of the picture: the most frequent one, ladders left out, the first to appear among equals."""
    picture = [float(w) for w, part in zip(file.window, file.parts, strict=True) if part in OF_PICTURE and not np.isnan(w)]
    return Counter(picture).most_common(1)[0][0] if picture else usual


def _surround(file: ReadingsFile) -> float:
    known = file.surround[~np.isnan(file.surround)]
    return float(min(max(known[0], 0.0), 100.0)) if known.size else 0.0


def _file_device(actor: User, role: DeviceRole, now: datetime) -> Device:
    """Return the device that stands for files: what took them is not known, so a plain meter's noise is assumed."""
    serial = f"{role.value}s {FILE_SERIAL}"
    known = Device.objects.of_firm(actor.firm_id).filter(serial=serial).first()
    if known is not None:
        return known
    if role == DeviceRole.METER:
        made = keyed_meter(actor=actor, name="A file", serial=serial, kind="colorimeter", floor=0.003, order="XYZ", now=now)
    else:
        made = keyed_source(actor=actor, name="A file", range_="limited", now=now)
        made.serial = serial
    made.removed_at = now  # never offered as an instrument
    made.save(update_fields=["serial", "removed_at"])
    return made
