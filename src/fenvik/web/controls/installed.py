"""What is installed in the modes of displays, beside their settings."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.link.display import LinkedDisplay
from fenvik.link.faults import DeviceError
from fenvik.web.controls.models import Installed
from fenvik.web.devices.leases import Hold

Given = dict[str, dict[str, Any]]


def stands_in(display_id: int, mode: str) -> Given:
    """Return what is installed in a mode, with its data, by kind, in the order in which it came."""
    return told_by(list(rows_in(display_id, mode).values()))


def rows_in(display_id: int, mode: str) -> dict[str, int]:
    """Return the row that tells of it for each kind that is installed in a mode."""
    newest = Installed.objects.filter(display_id=display_id, mode=mode).order_by("what", "-id").distinct("what")
    there = Installed.objects.filter(pk__in=newest.values("pk"), data__isnull=False)
    return {what: pk for pk, what in there.order_by("pk").values_list("pk", "what")}


def told_by(rows: list[int]) -> Given:
    """Return what rows tell that was installed, by kind."""
    return {row.what: row.data for row in Installed.objects.filter(pk__in=rows).order_by("pk") if row.data is not None}


def was_given(display_id: int, mode: str, what: str, data: dict[str, Any] | None, now: datetime) -> None:
    """Keep that something was installed, or with no data that it was taken away."""
    Installed.objects.create(display_id=display_id, mode=mode, what=what, data=data, at=now)


def was_reset(display_id: int, mode: str, now: datetime) -> None:
    """Keep that nothing is installed in a mode any more."""
    for what in rows_in(display_id, mode):
        was_given(display_id, mode, what, None, now)


def bring(
    line: LinkedDisplay, held: Hold, display_id: int, mode: str, wanted: Given, now: datetime, *, also: Sequence[str] = ()
) -> None:
    """Let just that be installed in a mode, over the link; ``also``: kinds that may not stand as is known of them.

    Raises what the line and the hold raise.
    """
    stands = stands_in(display_id, mode)
    kinds = dict.fromkeys([*also, *stands, *wanted])
    for what in kinds:
        if what in also or stands.get(what) != wanted.get(what):
            with transaction.atomic():
                held.go_on()
            give(line, display_id, mode, what, wanted.get(what), now)


def give(line: LinkedDisplay, display_id: int, mode: str, what: str, data: dict[str, Any] | None, now: datetime) -> None:
    """Install something in a mode, or with no data take it away, and keep that. Raises LinkFault, DeviceError.

    Where the line breaks nobody knows whether it came: what is given counts as there, and what is taken away as well.
    """
    before = stands_in(display_id, mode).get(what)
    if data is None:
        line.uninstall(mode, what)
        was_given(display_id, mode, what, None, now)
        return
    was_given(display_id, mode, what, data, now)
    try:
        line.install(mode, what, data)
    except DeviceError:
        was_given(display_id, mode, what, before, now)
        raise
