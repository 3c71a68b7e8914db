"""Instruments that are keyed in: a source whose patches a person shows, a meter whose values a person types."""

import uuid
from datetime import datetime

from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs

# What is assumed of a meter that says nothing of itself: that of a plain colorimeter, and of a plain spectroradiometer.
NOISE = {
    "colorimeter": (
        (0.003, 0.10, 0.025), (0.05, 0.03, 0.006), (1.0, 0.006, 0.0012), (10.0, 0.003, 0.0006), (100.0, 0.002, 0.0004),
    ),
    "spectroradiometer": (
        (0.01, 0.08, 0.015), (0.1, 0.02, 0.004), (1.0, 0.006, 0.0010), (10.0, 0.003, 0.0005), (100.0, 0.002, 0.0003),
    ),
}  # fmt: skip
TYPING_S = 12.0  # that a person takes to show a patch, read a display and type three numbers
EFFORT = "as it reads"


@needs(Right.MEASURE)
def keyed_meter(*, actor: User, name: str, serial: str, kind: str, floor: float, order: str, now: datetime) -> Device:
    """Make a meter whose values are typed. ``kind``: colorimeter or spectroradiometer; ``order``: what is typed."""
    rows = [[max(level, floor), y, xy, xy] for level, y, xy in NOISE[kind] if level >= floor] or [
        [floor, 0.01, 0.002, 0.002]
    ]
    facts = {
        "link": 1, "role": "meter", "keyed": True, "order": order, "kind": kind, "floor": floor, "ceiling": 100_000.0,
        "maker": "", "model": name, "serial": serial, "firmware": "", "features": [], "efforts": [EFFORT],
        "typical": [[1.0, TYPING_S]], "repeatability": rows,
    }  # fmt: skip
    return _made(actor, DeviceRole.METER, name, serial, facts, now)


@needs(Right.MEASURE)
def keyed_source(*, actor: User, name: str, range_: str, now: datetime) -> Device:
    """Make a source whose patches a person shows; ``range_`` is that of the code values of its patches."""
    facts = {
        "link": 1, "role": "source", "keyed": True, "maker": "", "model": name, "serial": "", "firmware": "", "features": [],
        "formats": ["sdr", "hdr10", "hlg", "dynamic"], "bits": [8, 10], "frame_rates": [60], "charts": [], "range": range_,
    }  # fmt: skip
    return _made(actor, DeviceRole.SOURCE, name, "", facts, now)


def _made(actor: User, role: DeviceRole, name: str, serial: str, facts: dict[str, object], now: datetime) -> Device:
    # Two meters without a serial are two meters: what each has read must not be mixed up.
    serial = serial or f"keyed {uuid.uuid4().hex[:8]}"
    made, _ = Device.objects.update_or_create(
        firm_id=actor.firm_id, serial=serial,
        defaults={"role": role, "name": name, "host": "", "port": 1, "facts": facts, "seen_at": now, "removed_at": None},
    )  # fmt: skip
    return made
