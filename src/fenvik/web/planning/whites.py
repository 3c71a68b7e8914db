"""The white of a tuning: its parts, and the whites that a firm offers."""

from datetime import datetime

from django.db import transaction
from django.utils.timezone import localdate

from fenvik.core.colour.space import XY
from fenvik.core.errors import FenvikError
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import PICTURES
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.summary import summarise
from fenvik.web.visits.models import WHOLE, Tuning, WhiteCandidate
from fenvik.web.visits.white import KINDS, MOST, WhitePart, aim_of, apart, parts_of

MOST_PARTS = 6


class WhiteError(FenvikError):
    """A part of a white that cannot be."""

    code = "white"


def _locked(tuning_id: int, actor: User) -> Tuning:
    found: Tuning = Tuning.objects.of_firm(actor.firm_id).select_for_update(of=WHOLE).get(pk=tuning_id)
    return found


def _keep(tuning: Tuning, parts: list[WhitePart]) -> None:
    tuning.white_parts = [part.kept() for part in parts]
    tuning.save(update_fields=["white_parts"])
    # What was read before is held against the new white too, at once and everywhere.
    for pk in tuning.passes.filter(summary__isnull=False, purpose__in=PICTURES).values_list("pk", flat=True):
        summarise(pk)
    notify(tuning.pk)


@needs(Right.PLAN, "added to a white")
@transaction.atomic
def add_part(*, tuning_id: int, actor: User, kind: str, uv: tuple[float, float], why: str, now: datetime) -> Tuning:
    """Add a part to a tuning's white; one of the same kind takes the place of the one before. Raises WhiteError."""
    tuning = _locked(tuning_id, actor)
    if kind not in KINDS:
        raise WhiteError("A part of a white is an offset to another display, the client’s choice, or a mode’s shift.")
    if max(abs(v) for v in uv) > MOST:
        raise WhiteError(f"That is no offset of a white: it lies within ± {MOST:g} in u′v′, which is very much already.")
    part = WhitePart(kind, round(uv[0], 5), round(uv[1], 5), why.strip()[:80], actor.called, f"{localdate(now):%Y-%m-%d}")
    parts = [*(p for p in tuning.whites if p.kind != kind), part][:MOST_PARTS]
    x, y = aim_of(tuning.target.white_xy, [part])
    if not (0.2 < x < 0.5 and 0.2 < y < 0.5):
        raise WhiteError("With that the aim is no white any more.")
    _keep(tuning, parts)
    return tuning


@needs(Right.PLAN, "took a part out of a white")
@transaction.atomic
def drop_part(*, tuning_id: int, actor: User, kind: str) -> Tuning:
    """Take a part out of a tuning's white; one that is not there changes nothing."""
    tuning = _locked(tuning_id, actor)
    _keep(tuning, [p for p in parts_of(tuning.white_parts) if p.kind != kind])
    return tuning


def between(measured: XY, wanted: XY) -> tuple[float, float]:
    """Return what lies between two whites in u′v′, so that nobody has to work it out on paper. Raises WhiteError."""
    for x, y in (measured, wanted):
        if not (0.1 < x < 0.7 and 0.1 < y < 0.7 and x + y < 1.0):
            raise WhiteError("A white is two numbers, x and y, such as 0.3127 0.3290.")
    return apart(measured, wanted)


@needs(Right.PLAN, "kept a white to offer")
@transaction.atomic
def keep_candidate(*, actor: User, name: str, uv: tuple[float, float], why: str, technology: str = "") -> WhiteCandidate:
    """Keep a white that the firm offers; one of the same name is changed. Raises WhiteError."""
    if not name.strip():
        raise WhiteError("A white that is to be offered again needs a name.")
    if max(abs(v) for v in uv) > MOST:
        raise WhiteError(f"That is no offset of a white: it lies within ± {MOST:g} in u′v′.")
    made, _ = WhiteCandidate.objects.update_or_create(
        firm_id=actor.firm_id, name=name.strip()[:60],
        defaults={"du": round(uv[0], 5), "dv": round(uv[1], 5), "why": why.strip()[:120], "technology": technology[:24]},
    )  # fmt: skip
    return made


@needs(Right.PLAN, "no longer offers a white")
@transaction.atomic
def drop_candidate(*, actor: User, candidate_id: int) -> None:
    """Offer a white no longer; tunings that took it keep it."""
    WhiteCandidate.objects.of_firm(actor.firm_id).filter(pk=candidate_id).delete()
