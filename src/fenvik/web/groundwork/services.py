"""Answering checks, going through the levels, watching a display warm up."""

import uuid
from collections.abc import Mapping
from datetime import datetime

from django.conf import settings
from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.core.signal.patches import grey
from fenvik.web.controls.log import log_changes
from fenvik.web.controls.values import shown, values_of
from fenvik.web.groundwork.models import Answer, CheckAnswer
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.services import start_pass
from fenvik.web.patterns.models import LookedAt
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.aimed import SIGNALS
from fenvik.web.visits.models import WHOLE, Tuning


class AnswerError(FenvikError):
    """An answer that says too little."""

    code = "answer"


@needs(Right.MEASURE)
@transaction.atomic
def answer_check(
    *,
    tuning_id: int,
    actor: User,
    check_id: str,
    answer: str,
    now: datetime,
    before: str = "",
    after: str = "",
    because: str = "",
) -> CheckAnswer:
    """Keep an answer to a check; the newest counts. Raises AnswerError where left on comes without a reason."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_for_update(of=WHOLE).get(pk=tuning_id)
    if answer not in Answer.values:
        raise AnswerError("A check is as it should be, changed, left on, or to be looked at again.")
    because = because.strip()[:200]
    if answer == Answer.LEFT_ON and not because:
        raise AnswerError("Say why it is left on: whoever comes next wants to know. Nothing was stored.")
    if check_id == "signal" and answer != Answer.OPEN and after not in SIGNALS:
        raise AnswerError("Say which signal the display shows: SDR, HDR10, HLG or dynamic metadata.")
    made = CheckAnswer.objects.create(
        tuning=tuning, check_id=check_id[:60], answer=answer, before=before.strip()[:80], after=after.strip()[:80], because=because,
        at=now, by=actor,
    )  # fmt: skip
    notify(tuning_id)
    return made


@needs(Right.MEASURE)
@transaction.atomic
def go_through(
    *,
    tuning_id: int,
    actor: User,
    step: str,
    pattern: str,
    typed: Mapping[str, str],
    seen: int,
    now: datetime,
    group: uuid.UUID,
) -> None:
    """Log what a step of the levels was set to, with its old and new value. Raises SettingError for a wrong value."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("display__menu_map").get(pk=tuning_id)
    before = values_of(tuning)
    changed = {}
    for name, text in typed.items():
        control = before.control(name)
        if control is not None and text.strip() and text.strip() != shown(before.now.get(name)):
            changed[name] = text
    if changed:
        log_changes(tuning_id=tuning_id, actor=actor, typed=changed, seen=seen, now=now, group=group)
    after = values_of(tuning)
    rows = [
        LookedAt(
            tuning=tuning, pattern=pattern, step=step, control=name, label=str((before.control(name) or {}).get("label", name)),
            before=before.now.get(name), after=after.now.get(name, "as it was"), at=now, by=actor,
        )
        for name in typed
        if before.control(name) is not None
    ]  # fmt: skip
    LookedAt.objects.bulk_create(
        rows or [LookedAt(tuning=tuning, pattern=pattern, step=step, after="looked at", at=now, by=actor)]
    )
    notify(tuning_id)


@needs(Right.MEASURE)
def watch_warm_up(*, tuning_id: int, actor: User, now: datetime) -> Pass:
    """Start reading white every half minute until the display has settled or somebody stops it."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("source").get(pk=tuning_id)
    started: Pass = start_pass(
        tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.WARM_UP, repeat=True,
        patches=[grey(100.0, tuning.bits, tuning.range)], interval_s=settings.WARM_UP_INTERVAL_S,
    )  # fmt: skip
    return started
