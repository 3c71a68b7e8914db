"""Making a correction: the pass that reads with both meters, what it says, and keeping it."""

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any, cast

import numpy as np
from django.db import transaction
from django.utils import timezone
from django.utils.timezone import localdate

from fenvik.core.errors import FenvikError
from fenvik.core.measure.correction import PROPOSED, CorrectionError, Method
from fenvik.core.measure.correction import Correction as Made
from fenvik.core.measure.correction_patches import AGAIN, correction_list, rows_for
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.procedures.comparing import Sum, compare
from fenvik.core.procedures.correcting import Corrected
from fenvik.core.procedures.steps import Procedure, readings_of
from fenvik.core.signal.decoding import Range
from fenvik.core.signal.patches import Patch, patch
from fenvik.core.types import Floats
from fenvik.web.controls.values import values_of
from fenvik.web.corrections.choosing import renew, renew_all
from fenvik.web.corrections.judging import believed, blind_to, holds_although_less, make, repeatability_at, white_of
from fenvik.web.corrections.models import METHODS, Comparison, Correction
from fenvik.web.corrections.sides import Sides
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.services import How, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

FEW = 4  # patches of which a weighted fit would say nothing beyond the four-colour method
MEND = "Turn off what limits the light or follows the picture in this mode, then begin again."
ALL_THE_SAME = "White was {0:.0f} % less than red, green and blue together; both meters saw the same light of each."
MOVING = {
    "process.energy": "energy saving",
    "process.ambient": "the ambient sensor",
    "process.dynamic-contrast": "dynamic contrast",
}


class SameMeterError(FenvikError):
    """A correction needs two meters."""

    code = "same_meter"

    def __init__(self) -> None:
        super().__init__(
            "A correction makes one meter agree with another: choose a reference that is not the field meter itself."
        )


class NotReadError(FenvikError):
    """A pass of which no correction can be made yet."""

    code = "not_read"


CHANGE_OVER = "Take {0} away and put {1} in its place, aimed at the same spot. Then go on."


def comparison(pass_: Pass) -> Procedure[dict[str, Floats]]:
    """Return what a correction's pass does."""
    kept, reference = pass_.comparison, pass_.reference
    assert reference is not None  # a correction's pass has both
    return _compare(
        kept.method, reference, pass_.meter, at_once=kept.at_once, bits=pass_.bits,
        range_="full" if pass_.range == "full" else "limited", average=pass_.average,
    )  # fmt: skip


def _compare(
    method: str, reference: Device, meter: Device, *, at_once: bool, bits: int, range_: Range, average: int
) -> Procedure[dict[str, Floats]]:
    return compare(
        correction_list(cast(Method, method or "four-colour"), bits, range_),
        change_over="" if at_once else CHANGE_OVER.format(reference, meter),
        reference=Repeatability.of(reference.facts["repeatability"]),
        average=average,
    )


def _rows(procedure: Procedure[Any], patches: list[Patch]) -> list[dict[str, Any]]:
    """Return what a comparison of patches reads, as a pass keeps it."""
    rows: list[dict[str, Any]] = []
    for step, asked in readings_of(procedure):
        so_far = sum(row["by"] == step.by for row in rows)
        rows.append(patches[so_far].as_json() | {"by": step.by} | ({"hold": asked} if asked else {}))
    return rows


@needs(Right.MEASURE)
def start(
    *, tuning_id: int, actor: User, reference_id: int, at_once: bool, method: str, average: int, now: datetime
) -> Pass:
    """Start reading for a correction of the tuning's meter. Raises SameMeterError and what ``start_pass`` raises.

    ``method``: one of METHODS, or "" to let the readings decide between four-colour and the weighted fit.
    """
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("meter", "source").get(pk=tuning_id)
    reference = (
        Device.objects.of_firm(actor.firm_id)
        .filter(pk=reference_id, role=DeviceRole.METER, removed_at__isnull=True)
        .first()
    )
    if reference is None or reference.pk == tuning.meter_id:
        raise SameMeterError
    method = method if method in METHODS else ""
    average = min(max(average, 1), 64)
    range_: Range = "full" if tuning.range == "full" else "limited"
    patches = correction_list(cast(Method, method or "four-colour"), tuning.bits, range_)
    planned = _compare(
        method, reference, tuning.meter or reference, at_once=at_once, bits=tuning.bits, range_=range_, average=average
    )
    how = How(
        rows=_rows(planned, patches), reference=reference, effort=tuning.meter.slowest if tuning.meter is not None else "",
        average=average, reference_effort=reference.slowest,
    )  # fmt: skip
    with transaction.atomic():
        started = start_pass(tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.CORRECTION, how=how)
        Comparison.objects.create(pass_of=started, method=method, at_once=at_once)
    return started


def keep_sum(pass_id: int, told: Sum, _: datetime) -> None:
    """Keep what the reference says of white beside the sum of red, green and blue, and by which method one is made then."""
    Comparison.objects.filter(pass_of=pass_id).update(additivity=told.off, not_the_sum=told.is_more, proposed=PROPOSED)
    notify(Pass.objects.values_list("tuning_id", flat=True).get(pk=pass_id), pass_id=pass_id)


@dataclass(frozen=True)
class Draft:
    """What a correction pass says so far: what both meters read, and by the method asked for what would come of it."""

    pass_: Pass
    sides: Sides
    method: str
    proposed: str
    additivity: float | None
    not_the_sum: bool
    less: float  # by which share of its parts together white has less light than they; 0 where that is not known, or it has not
    made: Made | None
    problem: str
    all_the_same: Made | None  # what a person may keep although white is less, where both meters saw the same light of each patch
    warnings: tuple[str, ...]

    @property
    def method_label(self) -> str:
        """The method as it is written."""
        return METHODS[self.method]

    @property
    def is_complete(self) -> bool:
        """Whether both meters have read white a second time."""
        return AGAIN in self.sides.labels


def sides_read(pass_: Pass, readings: list[Reading]) -> Sides:
    """Return the patches that both meters have read; what was too dark counts as no light."""
    by: dict[str, dict[str, Reading]] = {"reference": {}, "meter": {}}
    for row in readings:
        if row.index < len(pass_.patches):
            by[pass_.patches[row.index].get("by", "meter")][row.label] = row
    labels = [label for label in by["reference"] if label in by["meter"]]

    def xyz(who: str) -> np.ndarray:
        return np.array([[by[who][n].x, by[who][n].y, by[who][n].z] for n in labels], dtype=np.float64).reshape(-1, 3)

    return Sides(
        tuple(labels),
        tuple((by["meter"][n].r, by["meter"][n].g, by["meter"][n].b) for n in labels),
        xyz("reference"),
        xyz("meter"),
    )


def moving_controls(tuning: Tuning) -> tuple[str, ...]:
    """Return warnings for processing that is known to be on and moves the light while two meters read it."""
    values = values_of(tuning)
    said = []
    for control in values.controls:
        name = MOVING.get(control.get("role") or "")
        known = control.get("off") is not None
        if name and known and values.now.get(control["id"]) not in (None, control["off"]):
            said.append(f"{name[0].upper()}{name[1:]} is on: the light moves between the two meters.")
    return tuple(said)


def draft_of(pass_: Pass, method: str = "", readings: list[Reading] | None = None) -> Draft:
    """Return what a correction pass says so far; ``method`` overrules what was asked for or decided."""
    rows = list(pass_.readings.order_by("id")) if readings is None else readings
    sides = sides_read(pass_, rows)
    kept = getattr(pass_, "comparison", None) or Comparison()
    wanted = method if method in METHODS else kept.method or kept.proposed or "four-colour"
    made, problem, all_the_same = None, "", None
    white, less, against = white_of(sides), *believed(sides, is_hdr=pass_.tuning.target.is_hdr)
    if white is not None:
        try:
            made = make(wanted, sides, repeatability_at(pass_.meter_facts, float(white[1]), pass_.average))
        except CorrectionError as refusal:
            problem = str(refusal)
    moving = moving_controls(pass_.tuning)
    if against:
        if made is not None and not moving and holds_although_less(sides, made):
            all_the_same = replace(made, warnings=(*made.warnings, ALL_THE_SAME.format(100 * less)))
        made, problem = None, f"No correction can be made of this: {against} {MEND}"
    if blind := blind_to(sides):
        made, all_the_same = None, None
        problem = f"No correction can be made of this: {blind} Aim it at the patch, look at the screen, then begin again."
    warnings = (() if made is None else made.warnings) + moving
    told = kept.proposed, kept.additivity, kept.not_the_sum
    return Draft(pass_, sides, wanted, *told, less, made, problem, all_the_same, warnings)


@needs(Right.MEASURE, "kept a correction")
@transaction.atomic
def keep(*, pass_id: int, actor: User, method: str, note: str, now: datetime, all_the_same: bool = False) -> Correction:
    """Keep what a finished correction pass says; asking twice gives the same one. Raises NotReadError, CorrectionError.

    ``all_the_same``: also one that was refused because white is less than its parts, where both meters saw the same light.
    """
    pass_ = (
        Pass.objects.of_firm(actor.firm_id)
        .select_for_update(of=("self",))
        .select_related("tuning__display", "tuning__visit", "meter", "reference")
        .get(pk=pass_id, purpose=PassPurpose.CORRECTION)
    )
    kept = Correction.objects.filter(from_pass=pass_, withdrawn_at__isnull=True).first()
    if kept is not None and kept.method == method:
        return kept
    draft = draft_of(pass_, method)
    if all_the_same and draft.all_the_same is not None:
        draft = replace(draft, made=draft.all_the_same, warnings=draft.all_the_same.warnings)
    if draft.made is None or pass_.is_open:
        raise NotReadError(draft.problem or "Both meters must have read every patch before a correction can be kept.")
    if draft.method == "weighted" and len(rows_for("weighted", draft.sides.labels)) <= FEW:
        raise NotReadError("The weighted fit needs mixtures too; this pass has read red, green, blue and white alone.")
    return _store(pass_, kept, Told(draft.method, draft.made.matrix, draft.sides, list(draft.warnings), pass_.average, note), now)


@dataclass(frozen=True)
class Told:
    """What is kept of a comparison: ``matrix`` (3, 3), the method it was made by, and what it was made of."""

    method: str
    matrix: Floats
    sides: Sides
    warnings: list[str]
    average: int
    note: str = ""


def _store(pass_: Pass, before: Correction | None, told: Told, now: datetime) -> Correction:
    """Keep a correction of a pass in the place of what the pass had said ``before``, and let it be in force where it fits best."""
    tuning, display, white = pass_.tuning, pass_.tuning.display, white_of(told.sides)
    assert white is not None
    assert pass_.reference is not None  # a pass that compares has both
    firm_id = tuning.visit.firm_id
    facts = {
        "firm_id": firm_id, "meter": pass_.meter, "meter_name": pass_.meter.name, "meter_serial": pass_.meter.serial,
        "reference_name": pass_.reference.name, "reference_serial": pass_.reference.serial, "display": display,
        "maker": display.maker, "model": display.model, "serial": display.serial, "technology": display.technology,
        "picture_mode": tuning.picture_mode, "signal": tuning.signal, "method": told.method,
        "matrix": told.matrix.tolist(), "rows": told.sides.rows(), "bits": pass_.bits, "range": pass_.range,
        "effort": pass_.effort, "average": told.average, "warnings": told.warnings, "note": told.note[:2000],
        "repeatability": repeatability_at(pass_.meter_facts, float(white[1]), told.average), "made_at": now,
        "made_by": pass_.created_by,
    }  # fmt: skip
    if before is not None:
        # Another one takes the place of the first: passes that were read through it keep it.
        before.from_pass, before.withdrawn_at = None, now
        before.save(update_fields=["from_pass", "withdrawn_at"])
    made = Correction.objects.create(from_pass=pass_, **facts)
    tuning.correction_choice = "auto"
    tuning.save(update_fields=["correction_choice"])
    renew(tuning, now)
    renew_all(firm_id, pass_.meter_id, now)
    return made


@transaction.atomic
def keep_of_run(pass_id: int, corrected: Corrected) -> None:
    """Keep the correction that a hands-free run has made, and look at all of the run through it. It has a matrix."""
    pass_ = (
        Pass.objects.select_for_update(of=("self",))
        .select_related("tuning__display", "tuning__visit", "meter", "reference", "created_by")
        .get(pk=pass_id, purpose=PassPurpose.HANDS_FREE)
    )
    assert corrected.matrix is not None
    shown = [patch(label, each.percent, pass_.bits, pass_.range) for label, (each, _) in corrected.sides.items()]  # type: ignore[arg-type]
    both = np.array([xyz for _, xyz in corrected.sides.values()])
    sides = Sides(tuple(corrected.sides), tuple(one.rgb for one in shown), both[:, 0], both[:, 1])
    told = Told(corrected.method, corrected.matrix, sides, list(corrected.warnings), corrected.average, "made hands-free")
    before = Correction.objects.filter(from_pass=pass_, withdrawn_at__isnull=True).first()
    pass_.correction = _store(pass_, before, told, timezone.now())
    pass_.save(update_fields=["correction"])
    notify(pass_.tuning_id, pass_id=pass_id)


@needs(Right.MEASURE)
@transaction.atomic
def set_aside(*, pass_id: int, actor: User) -> None:
    """Make nothing of what a correction pass has read; its readings stay with the tuning."""
    pass_ = Pass.objects.of_firm(actor.firm_id).get(pk=pass_id, purpose=PassPurpose.CORRECTION)
    Comparison.objects.filter(pass_of=pass_).update(set_aside=True)
    notify(pass_.tuning_id, pass_id=pass_.pk)


@needs(Right.MEASURE, "withdrew a correction")
@transaction.atomic
def withdraw(*, correction_id: int, actor: User, now: datetime) -> Correction:
    """Use a correction no longer; passes that were read through it keep it. Doing so twice changes nothing."""
    found = Correction.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=correction_id)
    if found.withdrawn_at is None:
        found.withdrawn_at = now
        found.save(update_fields=["withdrawn_at"])
        held = Tuning.objects.of_firm(actor.firm_id).filter(correction=found, visit__on__gte=localdate(now))
        for tuning in held.select_related("meter", "display", "visit", "correction"):
            tuning.correction_choice = "auto"
            tuning.correction = None
            tuning.save(update_fields=["correction", "correction_choice"])
            renew(tuning, now)
    return found
