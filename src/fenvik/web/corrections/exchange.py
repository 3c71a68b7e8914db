"""Corrections as files: out as CGATS, and in from such a file or from two files of readings."""

from datetime import datetime
from typing import Any

import numpy as np
from django.db import transaction

from fenvik.core.measure.correction import CorrectionError
from fenvik.core.measure.pairing import match
from fenvik.formats import correction as files
from fenvik.formats.numbers import whole
from fenvik.formats.readings import read as read_readings
from fenvik.formats.readings import side_of
from fenvik.web.corrections.choosing import renew_all
from fenvik.web.corrections.judging import make
from fenvik.web.corrections.models import Correction
from fenvik.web.corrections.sides import Sides, sides_of
from fenvik.web.devices.models import Device
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs

NAMED = {
    (1.0, 1.0, 1.0): "white",
    (1.0, 0.0, 0.0): "red",
    (0.0, 1.0, 0.0): "green",
    (0.0, 0.0, 1.0): "blue",
    (0.0, 0.0, 0.0): "black",
}


def as_file(made: Correction) -> bytes:
    """Return a correction as CGATS."""
    sides = sides_of(made.rows)
    facts = {
        "REFERENCE_METER": made.reference_name, "REFERENCE_SERIAL": made.reference_serial,
        "FIELD_METER": made.meter_name,
        "FIELD_SERIAL": made.meter_serial, "FIELD_EFFORT": made.effort, "FIELD_AVERAGE": str(made.average),
        "DISPLAY_MAKER": made.maker, "DISPLAY_MODEL": made.model, "DISPLAY_SERIAL": made.serial,
        "DISPLAY_TECHNOLOGY": made.technology, "PICTURE_MODE": made.picture_mode, "NOTE": made.note,
    }  # fmt: skip
    return files.write(
        files.CorrectionFile(
            sides.labels, sides.rgb, sides.reference, sides.meter, made.bits, made.range, made.method, np.array(made.matrix),
            {name: value for name, value in facts.items() if value}, made.made_at.isoformat(timespec="seconds"),
        )
    )  # fmt: skip


@needs(Right.MEASURE, "took a correction from a file")
@transaction.atomic
def from_file(*, data: bytes, meter: Device, actor: User, now: datetime) -> Correction:
    """Take a correction up from a file, for a meter of the firm. Raises ReadingsError, CorrectionError.

    The matrix of the file is used as it is; without one it is made of the readings by the file's method. It keeps the date
    that the file gives, so an old one is known as old.
    """
    file = files.read(data)
    sides = Sides(file.labels, file.rgb, file.reference, file.meter)
    facts = file.facts
    serial = facts.get("FIELD_SERIAL", "")
    warnings = []
    if serial and serial != meter.serial:
        warnings.append(
            f"It was made with {facts.get('FIELD_METER', 'a meter')} {serial}, another sample than this meter."
        )
    average = facts.get("FIELD_AVERAGE", "1")
    return _keep(
        sides, file.method, file.matrix, meter, actor, now,
        bits=file.bits, range=file.range, reference_name=facts.get("REFERENCE_METER", "") or "a reference",
        reference_serial=facts.get("REFERENCE_SERIAL", ""),
        maker=facts.get("DISPLAY_MAKER", ""), model=facts.get("DISPLAY_MODEL", ""),
        serial=facts.get("DISPLAY_SERIAL", ""), technology=facts.get("DISPLAY_TECHNOLOGY", "") or "other",
        picture_mode=facts.get("PICTURE_MODE", ""), effort=facts.get("FIELD_EFFORT", ""),
        average=whole(average, 1, 64) or 1, note=facts.get("NOTE", ""),
        warnings=warnings, made_at=_moment(file.created) or now,
    )  # fmt: skip


def _moment(text: str) -> datetime | None:
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    return moment if moment.tzinfo is not None else None


@needs(Right.MEASURE, "made a correction of files")
@transaction.atomic
def from_readings(
    *, reference: bytes, field: bytes, method: str, meter: Device, actor: User, now: datetime, facts: dict[str, str]
) -> Correction:
    """Make a correction of two files of readings of the same patches. Raises ReadingsError, CorrectionError."""
    first = read_readings(reference)
    matched = match(side_of(first), side_of(read_readings(field)))
    labels = [
        NAMED.get((float(s[0]), float(s[1]), float(s[2])), label or f"patch {i + 1}")
        for i, (s, label) in enumerate(zip(matched.signal, matched.labels, strict=True))
    ]
    bits, range_ = int(first.bits[0]), "limited" if bool(first.limited[0]) else "full"
    scale = 2.0 ** (bits - 8)
    codes = 16.0 * scale + matched.signal * 219.0 * scale if range_ == "limited" else matched.signal * (2.0**bits - 1)
    rgb = tuple((int(r), int(g), int(b)) for r, g, b in np.round(codes).astype(int))
    sides = Sides(tuple(labels), rgb, matched.reference, matched.meter)
    return _keep(
        sides, method, None, meter, actor, now, bits=bits, range=range_, reference_name=facts.get("reference", "") or "a reference",
        reference_serial="", maker=facts.get("maker", ""), model=facts.get("model", ""), serial="",
        technology=facts.get("technology", "") or "other", picture_mode="", effort="", average=1, note=facts.get("note", ""),
        warnings=[], made_at=now,
    )  # fmt: skip


def _keep(
    sides: Sides,
    method: str,
    matrix: Any,
    meter: Device,
    actor: User,
    now: datetime,
    *,
    warnings: list[str],
    **facts: Any,
) -> Correction:
    try:
        made = make(method, sides, 0.001)
        matrix = made.matrix if matrix is None else matrix
        warnings = [*warnings, *made.warnings]
    except CorrectionError:
        if matrix is None:
            raise
    lengths = {
        "maker": 60,
        "model": 60,
        "serial": 60,
        "technology": 24,
        "picture_mode": 60,
        "reference_name": 120,
        "reference_serial": 120,
        "effort": 40,
        "note": 2000,
    }
    cut = {name: value[: lengths[name]] if name in lengths else value for name, value in facts.items()}
    kept = Correction.objects.create(
        firm_id=actor.firm_id, meter=meter, meter_name=meter.name, meter_serial=meter.serial, method=method,
        matrix=np.asarray(matrix).tolist(), rows=sides.rows(), warnings=warnings, made_by=actor, **cut,
    )  # fmt: skip
    renew_all(actor.firm_id, meter.pk, now)
    return kept
