"""Which correction a tuning is measured through: where one fits by itself, chosen, or none."""

from datetime import datetime

from django.db import transaction
from django.utils.timezone import localdate

from fenvik.core.errors import FenvikError
from fenvik.formats.numbers import whole
from fenvik.web.corrections.judging import Fit, best_of, fit_of
from fenvik.web.corrections.models import Correction
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.summary import summarise
from fenvik.web.visits.models import WHOLE, Tuning


class NoSuchCorrectionError(FenvikError):
    """A correction that the firm does not have, or that is of another meter."""

    code = "no_such_correction"


def candidates(tuning: Tuning) -> list[Correction]:
    """Return the corrections of a tuning's meter, newest first."""
    if tuning.meter_id is None:
        return []
    return list(
        Correction.objects.filter(
            firm_id=tuning.visit.firm_id, meter_id=tuning.meter_id, withdrawn_at__isnull=True
        ).order_by("-made_at")
    )


def fits(tuning: Tuning, now: datetime) -> list[Fit]:
    """Return the corrections that fit, the best first."""
    found = [fit for each in candidates(tuning) if (fit := fit_of(each, tuning, now)) is not None]
    return sorted(found, key=lambda fit: (fit.rank, -fit.correction.made_at.timestamp()))


def renew(tuning: Tuning, now: datetime) -> None:
    """Let the correction that fits best be in force, where nobody has chosen one. One of another meter never stays."""
    if (
        tuning.correction_choice == "chosen"
        and tuning.correction is not None
        and tuning.correction.meter_id == tuning.meter_id
    ):
        return
    wanted = None
    if tuning.correction_choice != "none":
        best = best_of(candidates(tuning), tuning, now)
        wanted = None if best is None else best.correction
    changed = (tuning.correction_id, tuning.correction_choice)
    tuning.correction = wanted
    if tuning.correction_choice == "chosen":
        tuning.correction_choice = "auto"
    if changed != (tuning.correction_id, tuning.correction_choice):
        tuning.save(update_fields=["correction", "correction_choice"])
        notify(tuning.pk)


def _loaded(tuning_id: int, actor: User) -> Tuning:
    return (
        Tuning.objects.of_firm(actor.firm_id)
        .select_for_update(of=WHOLE)
        .select_related("meter", "display", "visit", "correction")
        .get(pk=tuning_id)
    )


@needs(Right.MEASURE, "chose a correction")
@transaction.atomic
def choose(*, tuning_id: int, actor: User, wanted: str, now: datetime) -> Tuning:
    """Measure a tuning through a correction: "auto", "none" or a correction's number. Raises NoSuchCorrectionError."""
    tuning = _loaded(tuning_id, actor)
    if wanted in ("auto", "none"):
        tuning.correction_choice = wanted
        tuning.save(update_fields=["correction_choice"])
        renew(tuning, now)
        return tuning
    found = find(wanted, actor)
    if tuning.meter_id is None or found.meter_id != tuning.meter_id:
        raise NoSuchCorrectionError(
            f"That correction is of {found.meter_name} {found.meter_serial}, not of the meter of this tuning."
        )
    tuning.correction, tuning.correction_choice = found, "chosen"
    tuning.save(update_fields=["correction", "correction_choice"])
    notify(tuning.pk)
    return tuning


def find(wanted: str, actor: User) -> Correction:
    """Return a correction of the firm by its number. Raises NoSuchCorrectionError."""
    number = whole(wanted)
    found = Correction.objects.of_firm(actor.firm_id).filter(pk=number or 0, withdrawn_at__isnull=True).first()
    if found is None:
        raise NoSuchCorrectionError("There is no such correction any more. Choose another one.")
    return found


def renew_all(firm_id: int, meter_id: int, now: datetime) -> None:
    """Look anew at every tuning that is measured with a meter and has not been finished long ago."""
    open_ones = (
        Tuning.objects.of_firm(firm_id)
        .filter(meter_id=meter_id, correction_choice="auto", visit__on__gte=localdate(now))
        .select_related("meter", "display", "visit", "correction")
    )
    for tuning in open_ones:
        renew(tuning, now)


@needs(Right.MEASURE, "looked at a pass through another correction")
@transaction.atomic
def look_through(*, pass_id: int, actor: User, wanted: str) -> None:
    """Look at an old pass through another correction, or through none: its readings are stored as they were taken.

    Raises NoSuchCorrectionError for a correction of another meter than the one that read it.
    """
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    found = None if wanted == "none" else find(wanted, actor)
    if found is not None and found.meter_id != pass_.meter_id:
        raise NoSuchCorrectionError(f"That correction is of {found.meter_name}, and another meter read this pass.")
    pass_.correction = found
    pass_.save(update_fields=["correction"])
    if not pass_.is_open:
        summarise(pass_.pk)
    notify(pass_.tuning_id, pass_id=pass_.pk)
