"""Making a handover: a frozen copy of what was found and left, behind a private link."""

from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import F

from fenvik.core.errors import FenvikError
from fenvik.web.adjusting.given import told_of
from fenvik.web.adjusting.models import ChangeList, ListKind, Trial
from fenvik.web.controls.models import Moment, SettingsSheet
from fenvik.web.controls.values import values_of
from fenvik.web.handovers.freezing import frozen_pass, frozen_target
from fenvik.web.handovers.models import Handover
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import PassPurpose
from fenvik.web.patterns.models import AFTERWARDS, Screen
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import analysis_of
from fenvik.web.results.proof import counted, proof, short_of, unfinished
from fenvik.web.results.verdict import verdict_of
from fenvik.web.visits.models import Tuning, Visit
from fenvik.web.whites.told import of_tuning

KEPT_FOR = timedelta(days=730)


class NothingToHandOverError(FenvikError):
    """No tuning of the visit was measured both as found and as left."""

    code = "nothing_to_hand_over"

    def __init__(self) -> None:
        super().__init__("A handover needs a tuning that was measured as found and as left; this visit has none yet.")


class TryingError(FenvikError):
    """Something is being tried in a mode: neither what was before it nor what is now has been decided on."""

    code = "trying"

    def __init__(self, name: str) -> None:
        super().__init__(f"Something is still being tried in {name} (Arrival). Keep it or undo it, and hand over then.")


class PuttingBackError(FenvikError):
    """Controls are being put back: what the settings sheet would say is not how the display ends."""

    code = "putting_back"

    def __init__(self, name: str) -> None:
        super().__init__(f"Controls of {name} are being put back. Finish that list, or give it up, and hand over then.")


def lacking(tuning: Tuning) -> str:
    """Return why a tuning cannot be handed over, in words; empty where it can."""
    passes = list(counted(tuning.passes.all()))
    for purpose, words in ((PassPurpose.FOUND, "as found"), (PassPurpose.LEFT, "as left")):
        if proof(passes, purpose) is None:
            begun = unfinished(passes, purpose)
            return f"{words} is not complete: {short_of(begun)}" if begun is not None else f"not measured {words}"
    return ""


def _frozen_tuning(tuning: Tuning) -> dict[str, Any] | None:
    passes = list(counted(tuning.passes.select_related("correction")))
    proven = proof(passes, PassPurpose.FOUND), proof(passes, PassPurpose.LEFT)
    if proven[0] is None or proven[1] is None:
        return None
    found, left = (frozen_pass(pass_, tuning) for pass_ in proven)
    if found is None or left is None:
        return None
    values = values_of(tuning)
    both = [analysis_of(pass_, tuning, pass_.last_reading) for pass_ in proven]
    verdict = verdict_of(both[0], both[1], values, tuning.luminance)
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
        "white_chain": tuning.white_chain if tuning.white_parts else [],
        "whites": of_tuning(tuning),
        "given": told_of(tuning),
        "aim": frozen_target(tuning.target),
        "tolerance": tuning.tolerance,
        "found": found,
        "left": left,
        "verdict": None if verdict is None else {"sentence": verdict.sentence, "unreached": verdict.unreached},
        "settings": [
            {"id": row["id"], "group": row["group"], "label": row["label"], "found": row["found"], "left": row["now"]}
            for row in values.rows
            if row["now"] is not None
        ],
    }


@needs(Right.HAND_OVER, "made a handover")
@transaction.atomic
def make_handover(*, visit_id: int, actor: User, now: datetime) -> Handover:
    """Freeze what the visit's tunings have to show; an earlier handover of the visit stays as it is.

    Raises NothingToHandOverError, PuttingBackError, TryingError.
    """
    visit = Visit.objects.of_firm(actor.firm_id).select_related("client", "firm").get(pk=visit_id)
    open_lists = ChangeList.objects.filter(tuning__visit=visit, kind=ListKind.BACK, closed_at__isnull=True)
    going = open_lists.select_related("tuning").first()
    if going is not None:
        raise PuttingBackError(going.tuning.name)
    tried = Trial.objects.filter(tuning__visit=visit, ended_at__isnull=True).select_related("tuning").first()
    if tried is not None:
        raise TryingError(tried.tuning.name)
    tunings = visit.tunings.select_related("display__room", "display__menu_map").order_by("pk")
    frozen, missing = [], []
    for tuning in tunings:
        kept = _frozen_tuning(tuning)
        if kept is None:
            missing.append({"name": tuning.name, "why": lacking(tuning) or "nothing that could be analysed"})
        else:
            frozen.append(kept)
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
        "missing": missing,
    }
    made = Handover.objects.create(
        visit=visit,
        content=content,
        tuning_ids=[kept["id"] for kept in frozen],
        created_at=now,
        created_by=actor,
        expires_at=now + KEPT_FOR,
    )
    # What was handed over is done: the pattern screen of the visit lasts for what may be left of the day.
    Screen.objects.of_firm(actor.firm_id).filter(visit=visit, until__gt=now + AFTERWARDS).update(until=now + AFTERWARDS)
    for kept in frozen:
        notify(kept["id"])
    return made


@needs(Right.HAND_OVER, "withdrew a handover")
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
