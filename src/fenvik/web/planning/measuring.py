"""Keeping how a tuning is measured: with what, how it reads, what is shown."""

from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.web.corrections.choosing import renew
from fenvik.web.devices.keyed import keyed_meter, keyed_source
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.kit.notify import notify
from fenvik.web.patterns.services import screen_of
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.planning.services import as_usual, usual_bits
from fenvik.web.visits.models import WHOLE, Tuning


def _locked(tuning_id: int, actor: User) -> Tuning:
    return (
        Tuning.objects.of_firm(actor.firm_id)
        .select_for_update(of=WHOLE)
        .select_related("display", "visit", "meter", "source", "correction")
        .get(pk=tuning_id)
    )


def _keep(tuning: Tuning, fields: dict[str, Any], now: datetime | None = None) -> Tuning:
    """Keep fields, look anew which correction fits where ``now`` is given, and tell the pages."""
    for name, value in fields.items():
        setattr(tuning, name, value)
    tuning.save(update_fields=list(fields))
    if now is not None:
        renew(tuning, now)
    notify(tuning.pk)
    return tuning


@needs(Right.MEASURE)
@transaction.atomic
def keep_measuring(*, tuning_id: int, actor: User, cleaned: dict[str, Any], now: datetime) -> Tuning:
    """Keep how a tuning is measured, by the names of its fields."""
    return _keep(_locked(tuning_id, actor), cleaned, now)


@needs(Right.MEASURE)
@transaction.atomic
def measure_as_usual(*, tuning_id: int, actor: User) -> Tuning:
    """Measure as is usual for the display's technology."""
    tuning = _locked(tuning_id, actor)
    return _keep(tuning, as_usual(tuning.display.technology) | {"bits": max(tuning.bits, usual_bits(tuning.signal, tuning.source))})


@needs(Right.MEASURE)
@transaction.atomic
def choose_single(*, tuning_id: int, actor: User, now: datetime) -> Tuning:
    """Choose the meter and the source of the firm where a tuning has none and there is but one."""
    tuning = _locked(tuning_id, actor)
    chosen: dict[str, Any] = {}
    for role, name in ((DeviceRole.METER, "meter"), (DeviceRole.SOURCE, "source")):
        of_role = Device.objects.of_firm(actor.firm_id).filter(role=role, removed_at__isnull=True, screen__isnull=True)
        if getattr(tuning, f"{name}_id") is None and of_role.count() == 1:
            chosen[name] = of_role.get()
    if "source" in chosen and tuning.bits not in chosen["source"].facts["bits"]:
        chosen["bits"] = usual_bits(tuning.signal, chosen["source"])
    return _keep(tuning, chosen, now)


@needs(Right.MEASURE)
@transaction.atomic
def use_keyed_meter(*, tuning_id: int, actor: User, cleaned: dict[str, Any], now: datetime) -> Tuning:
    """Make a meter whose values are typed, and measure a tuning with it."""
    meter = keyed_meter(actor=actor, now=now, **cleaned)
    return _keep(_locked(tuning_id, actor), {"meter": meter, "effort": "", "low_effort": ""}, now)


@needs(Right.MEASURE)
@transaction.atomic
def use_keyed_source(*, tuning_id: int, actor: User, cleaned: dict[str, Any], now: datetime) -> Tuning:
    """Make a source whose patches a person shows, and measure a tuning with it."""
    tuning = _locked(tuning_id, actor)
    source = keyed_source(actor=actor, name=cleaned["name"], range_=cleaned["range"], now=now)
    return _keep(tuning, {"source": source, "bits": tuning.bits if tuning.bits in source.facts["bits"] else 8})


@needs(Right.MEASURE)
@transaction.atomic
def use_screen(*, tuning_id: int, actor: User) -> Tuning:
    """Let the pattern screen of the visit be the source of a tuning's passes: 8 bits of SDR."""
    tuning = _locked(tuning_id, actor)
    screen = screen_of(visit_id=tuning.visit_id, firm_id=actor.firm_id)
    return _keep(tuning, {"source": screen.device, "bits": 8})
