"""Making a handover: a frozen copy of what was found and left, behind a private link."""

from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import F

from fenvik.core.analysis import Analysis, Readings, analyse
from fenvik.core.errors import FenvikError
from fenvik.core.target import TARGETS
from fenvik.web.corrections.judging import systematic_of
from fenvik.web.handovers.models import Handover
from fenvik.web.kit.notify import notify
from fenvik.web.menus.models import Moment, SettingsSheet
from fenvik.web.menus.values import values_of
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.people.models import User
from fenvik.web.results.assemble import core_readings, latest_pass, newest_of_each
from fenvik.web.visits.models import Tuning, Visit

KEPT_FOR = timedelta(days=730)


class NothingToHandOverError(FenvikError):
    """No tuning of the visit was measured both as found and as left."""

    code = "nothing_to_hand_over"

    def __init__(self) -> None:
        super().__init__("A handover needs a tuning that was measured as found and as left; this visit has none yet.")


def _frozen_pass(pass_: Pass) -> dict[str, Any]:
    rows = newest_of_each(pass_.readings.order_by("id"))
    taken = core_readings(pass_, rows)
    return {
        "at": (rows[-1].at if rows else pass_.created_at).isoformat(),
        "bits": pass_.bits,
        "range": pass_.range,
        "average": pass_.average,
        "window": pass_.window,
        "meter": {
            key: pass_.meter_facts[key] for key in ("maker", "model", "serial", "kind", "floor", "repeatability")
        },
        "correction": _frozen_correction(pass_),
        "readings": [
            {
                "label": row.label,
                "rgb": [row.r, row.g, row.b],
                "xyz": [float(v) for v in xyz],
                "average": float(average),
            }
            for row, xyz, average in zip(rows, taken.xyz, taken.average, strict=True)
        ],
    }


def _frozen_correction(pass_: Pass) -> dict[str, Any] | None:
    """Return what the readings were looked at through: they are frozen as they were seen."""
    made = pass_.correction
    if made is None:
        return None
    return {
        "reference": made.reference_name, "reference_serial": made.reference_serial, "made_at": made.made_at.isoformat(),
        "method": made.method, "matrix": made.matrix, "systematic": list(systematic_of(made)),
    }  # fmt: skip


def frozen_analysis(tuning: dict[str, Any], which: str) -> Analysis:
    """Return the analysis of a frozen pass, ``found`` or ``left``."""
    kept = tuning[which]
    shell = Pass(bits=kept["bits"], range=kept["range"], average=kept["average"], meter_facts=kept["meter"], patches=[])
    readings: Readings = core_readings(shell, [_row(i, row, kept["average"]) for i, row in enumerate(kept["readings"])])
    systematic = (kept.get("correction") or {}).get("systematic")
    if systematic is not None:
        readings = replace(readings, systematic=(systematic[0], systematic[1], systematic[2]))
    return analyse(readings, replace(TARGETS[tuning["target"]], tolerance=tuning["tolerance"]))


def _row(index: int, row: dict[str, Any], average: float) -> Any:
    from fenvik.web.passes.models import Reading

    red, green, blue = row["rgb"]
    x, y, z = row["xyz"]
    return Reading(
        index=index, label=row["label"], r=red, g=green, b=blue, x=x, y=y, z=z, average=row.get("average", average)
    )


def _frozen_tuning(tuning: Tuning) -> dict[str, Any] | None:
    found, left = latest_pass(tuning, PassPurpose.FOUND), latest_pass(tuning, PassPurpose.LEFT)
    if found is None or left is None:
        return None
    values = values_of(tuning)
    return {
        "id": tuning.pk,
        "name": tuning.name,
        "room": tuning.display.room.name,
        "display": tuning.display.name,
        "serial": tuning.display.serial,
        "mode": tuning.picture_mode,
        "signal": tuning.get_signal_display(),
        "target": tuning.target_name,
        "target_label": tuning.target_label,
        "tolerance": tuning.tolerance,
        "found": _frozen_pass(found),
        "left": _frozen_pass(left),
        "settings": [
            {"id": row["id"], "group": row["group"], "label": row["label"], "found": row["found"], "left": row["now"]}
            for row in values.rows
            if row["now"] is not None
        ],
    }


@transaction.atomic
def make_handover(*, visit_id: int, actor: User, now: datetime) -> Handover:
    """Freeze what the visit's tunings have to show; an earlier handover of the visit stays as it is.

    Raises NothingToHandOverError.
    """
    visit = Visit.objects.of_firm(actor.firm_id).select_related("client", "firm").get(pk=visit_id)
    tunings = visit.tunings.select_related("display__room", "display__menu_map").order_by("pk")
    frozen = [kept for tuning in tunings if (kept := _frozen_tuning(tuning)) is not None]
    if not frozen:
        raise NothingToHandOverError
    for kept in frozen:
        sheet = {row["id"]: row["left"] for row in kept["settings"]}
        SettingsSheet.objects.create(tuning_id=kept["id"], moment=Moment.LEFT, values=sheet, at=now, by=actor)
    content = {
        "firm": visit.firm.name,
        "client": visit.client.name,
        "on": visit.on.isoformat(),
        "by": actor.get_full_name() or actor.username,
        "tunings": frozen,
    }
    made = Handover.objects.create(
        visit=visit,
        content=content,
        tuning_ids=[kept["id"] for kept in frozen],
        created_at=now,
        created_by=actor,
        expires_at=now + KEPT_FOR,
    )
    for kept in frozen:
        notify(kept["id"])
    return made


@transaction.atomic
def withdraw(*, handover_id: int, actor: User, now: datetime) -> Handover:
    """Close a private link; closing it again changes nothing."""
    handover = Handover.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=handover_id)
    if handover.withdrawn_at is None:
        handover.withdrawn_at = now
        handover.save(update_fields=["withdrawn_at"])
    return handover


def opened(handover: Handover) -> None:
    """Count a look at the page."""
    Handover.objects.filter(pk=handover.pk).update(opened=F("opened") + 1)
