"""Starting, pausing, resuming and stopping passes."""

from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import IntegrityError, connection, transaction
from django.db.models import Q
from procrastinate.contrib.django import app as queue

from fenvik.core.signal.decoding import encode
from fenvik.core.signal.patches import Patch
from fenvik.web.devices.leases import HeldError, take_for_pass
from fenvik.web.devices.models import Device
from fenvik.web.kit.notify import notify
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PICTURES, Circumstance, Pass, PassPurpose, PassState, PatchMark
from fenvik.web.passes.refusals import (
    AnsweredError,
    NoInstrumentsError,
    NothingToReadError,
    NotMeasurableError,
    PassFinishedError,
    PassOpenError,
)
from fenvik.web.passes.sending import can_draw, fine_enough, planned, read_already, signal_of
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

# While these read, whoever adjusts may set the display.
BESIDE_A_PERSON = (PassPurpose.ADJUST, PassPurpose.WARM_UP, PassPurpose.AIM)
WARMTH_MATTERS = (*PICTURES, PassPurpose.CORRECTION)
UNANSWERED = (
    "Nobody typed a value for {minutes:.0f} minutes, so the pass waits. What was typed is kept; go on when you are back."
)
WARM_FOR = timedelta(hours=6)  # a warm-up that was watched longer ago says nothing of now


@dataclass(frozen=True)
class How:
    """What differs from a tuning's own way of measuring; None and 0 keep it."""

    rows: list[dict[str, Any]] | None = None  # patches as they are stored, where they say more than a patch
    reference: Device | None = None
    effort: str | None = None
    average: int = 0
    window: float = 0.0
    surround: float | None = None
    reference_effort: str = ""
    beside_a_person: bool = False  # who turns, logs and reads on while it is open


def is_held(pass_id: int, index: int) -> bool:
    """Whether the person has done what a patch of a pass waits for."""
    return PatchMark.objects.filter(pass_of=pass_id, index=index, held=True).exists()


def defer(pass_id: int) -> None:
    """Hand a pass to the workers, in the same transaction as the row that says so."""
    queue.configure_task("run_pass", queue="passes", lock=f"pass-{pass_id}").defer(pass_id=pass_id)


@needs(Right.MEASURE, "started a pass")
def start_pass(
    *,
    tuning_id: int,
    actor: User,
    now: datetime,
    purpose: str = PassPurpose.FOUND,
    patches: list[Patch] | None = None,
    repeat: bool = False,
    interval_s: float = 0.0,
    how: How | None = None,
) -> Pass:
    """Start a pass of a tuning; without patches it is the first list. A warm-up pass gives way to any other.

    ``how`` says what differs from the tuning's own way of measuring. Raises NoInstrumentsError, NotMeasurableError, PassOpenError.
    """
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("meter", "source", "display", "visit", "correction")
        .get(pk=tuning_id)
    )
    if tuning.meter is None or tuning.source is None:
        raise NoInstrumentsError
    signal, bits = signal_of(tuning), tuning.bits
    fine_enough(tuning)
    how = how or How()
    if how.rows is not None:
        rows = how.rows
    elif patches is not None:
        rows = [patch.as_json() for patch in patches]
    else:
        rows = [shown.as_row() for shown in planned(tuning)]
        if not rows:
            raise NothingToReadError
    if tuning.bits != bits and (patches is not None or how.rows is not None):
        # Whoever asked made codes of the bits before: they are the same picture in the bits that are sent.
        rows = [row | {"rgb": [int(c) for c in encode(row["percent"], tuning.bits, tuning.range)]} for row in rows]
    if any(row.get("chart") for row in rows) and not can_draw(tuning.source, "checkerboard"):
        raise NotMeasurableError(f"{tuning.source.name} draws no checkerboard. Take that list out, or use the pattern screen.")
    try:
        with transaction.atomic():
            kinds.starts(tuning, now)
            rule = tuning.low_light
            if purpose != PassPurpose.WARM_UP:
                _give_way(tuning, now)
            started = Pass.objects.create(
                tuning=tuning,
                purpose=purpose,
                patches=rows,
                repeat=repeat,
                interval_s=interval_s,
                signal_format=signal.format,
                colorimetry=signal.colorimetry,
                mastering=signal.mastering,
                settling=tuning.settles == "agree" and not repeat,
                range=tuning.range,
                meter=tuning.meter,
                source=tuning.source,
                reference=how.reference,
                reference_effort=how.reference_effort,
                meter_facts=tuning.meter.facts,
                correction=None if purpose == PassPurpose.CORRECTION else tuning.correction,
                bits=tuning.bits,
                window=how.window or tuning.window,
                surround=tuning.surround if how.surround is None else how.surround,
                frame_rate=tuning.frame_rate,
                settle_s=0.0 if tuning.source.is_keyed else tuning.settle_s,
                average=how.average or tuning.average,
                effort=tuning.effort if how.effort is None else how.effort,
                low_light=None if rule is None or how.average else asdict(rule),
                created_at=now,
                created_by=actor,
            )
            Circumstance.objects.create(pass_of=started, **(warm_up_so_far(tuning, now) if purpose in WARMTH_MATTERS else {}))
            take_for_pass(
                started, tuning, [device for device in (tuning.meter, tuning.source, how.reference) if device is not None],
                alone=purpose not in BESIDE_A_PERSON and not how.beside_a_person,
            )  # fmt: skip
            defer(started.pk)
            notify(tuning.pk, pass_id=started.pk)
    except HeldError as held:
        if held.pass_ is None:
            raise
        raise PassOpenError(held.pass_) from held
    except IntegrityError as error:
        holding = (
            Pass.objects.of_firm(actor.firm_id)
            .filter(finished_at__isnull=True)
            .filter(
                Q(tuning=tuning)
                | Q(source=tuning.source)
                | Q(meter=tuning.meter)
                | Q(reference=tuning.meter)
                | (Q(meter=how.reference) | Q(reference=how.reference) if how.reference else Q())
            )
            .select_related("tuning")
            .order_by("-created_at")
            .first()
        )
        raise PassOpenError(holding) from error
    return started


def _give_way(tuning: Tuning, now: datetime) -> None:
    """End the warm-up passes that hold a tuning's instruments: its worker can store nothing any more."""
    holding = Pass.objects.select_for_update(of=("self",)).filter(purpose=PassPurpose.WARM_UP, finished_at__isnull=True)
    for pass_ in holding.filter(
        Q(tuning=tuning) | Q(meter=tuning.meter) | Q(source=tuning.source), tuning__visit__firm_id=tuning.visit.firm_id
    ):
        pass_.state, pass_.finished_at, pass_.run_token = PassState.STOPPED, now, None
        pass_.save(update_fields=["state", "finished_at", "run_token"])
        notify(pass_.tuning_id, pass_id=pass_.pk)


def warm_up_so_far(tuning: Tuning, now: datetime) -> dict[str, Any]:
    """Return what is known of the display's warm-up, to be remembered with a pass: watched, settled, minutes left."""
    newest = (
        Pass.objects.filter(
            tuning__display_id=tuning.display_id, tuning__visit_id=tuning.visit_id, purpose=PassPurpose.WARM_UP
        )
        .filter(summary__isnull=False, created_at__gt=now - WARM_FOR)
        .order_by("-created_at")
        .first()
    )
    if newest is None:
        return {"warm_up_watched": False}
    told = newest.summary or {}
    settled = told.get("settled_at")
    return {
        "warm_up_watched": True, "settled_at": datetime.fromisoformat(settled) if settled else None,
        "minutes_left": told.get("minutes_left"), "remaining_y": told.get("remaining_y"),
    }  # fmt: skip


def open_pass(pass_id: int, actor: User) -> Pass:
    """Return a pass that is open, locked. Raises PassFinishedError."""
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    if not pass_.is_open:
        raise PassFinishedError(pass_id)
    return pass_


@needs(Right.MEASURE)
@transaction.atomic
def ask_to_pause(*, pass_id: int, actor: User, now: datetime) -> Pass:
    """Ask a pass to wait after the reading in flight; asking again changes nothing. Raises PassFinishedError."""
    pass_ = open_pass(pass_id, actor)
    if pass_.is_parked:
        pass_.state, pass_.asks = PassState.PAUSED, None
        pass_.save(update_fields=["state", "asks"])
        notify(pass_.tuning_id, pass_id=pass_id)
    elif pass_.pause_asked_at is None and pass_.state != PassState.PAUSED:
        pass_.pause_asked_at = now
        pass_.save(update_fields=["pause_asked_at"])
        notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


@needs(Right.MEASURE)
@transaction.atomic
def resume(*, pass_id: int, actor: User) -> Pass:
    """Let a paused pass go on after its last stored reading; doing so twice changes nothing. Raises PassFinishedError."""
    pass_ = open_pass(pass_id, actor)
    pass_.pause_asked_at = None
    if pass_.state == PassState.PAUSED:
        _done_by_hand(pass_)
        pass_.state, pass_.reason = PassState.QUEUED, ""
        defer(pass_id)
    pass_.save(update_fields=["pause_asked_at", "state", "reason"])
    notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


def _done_by_hand(pass_: Pass) -> None:
    """Remember that the person has done what the next patch waits for, where it waits for something."""
    done = read_already(pass_)
    nothing: tuple[int, dict[str, Any]] = (-1, {})
    index, following = next(((i, row) for i, row in enumerate(pass_.patches) if i not in done), nothing)
    # Another input on purpose, where that was what did not fit.
    Circumstance.objects.filter(pass_of=pass_, mend="accept").update(any_input=True)
    if following.get("change_over") or (following.get("hold") and pass_.reason == following["hold"]):
        PatchMark.objects.update_or_create(pass_of=pass_, index=index, defaults={"held": True})


@needs(Right.MEASURE)
@transaction.atomic
def answer(*, pass_id: int, actor: User, number: str, said: dict[str, Any]) -> Pass:
    """Hand a pass what the person whom it asks has said. Raises PassFinishedError, AnsweredError."""
    pass_ = open_pass(pass_id, actor)
    if pass_.asks is None or pass_.asks.get("n") != number or (pass_.answer or {}).get("n") == number:
        raise AnsweredError
    pass_.answer = said | {"n": number}
    pass_.save(update_fields=["answer"])
    if pass_.is_parked:
        defer(pass_id)
    notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


@needs(Right.MEASURE, "stopped a pass")
@transaction.atomic
def ask_to_stop(*, pass_id: int, actor: User, now: datetime) -> Pass:
    """End a pass after the reading in flight; what was read is kept. Harmless when it has ended already."""
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    if not pass_.is_open:
        return pass_
    pass_.stop_asked_at = pass_.stop_asked_at or now
    begun = pass_.purpose == PassPurpose.HANDS_FREE and pass_.started_at is not None
    if begun and pass_.state == PassState.PAUSED:
        # It may have a display to put back, which is a worker's work.
        pass_.state, pass_.reason, pass_.pause_asked_at = PassState.QUEUED, "", None
        defer(pass_id)
    elif (pass_.state in (PassState.PAUSED, PassState.QUEUED) and not begun) or pass_.is_parked:  # nobody holds it
        pass_.state, pass_.finished_at, pass_.run_token = PassState.STOPPED, now, None
    pass_.save(update_fields=["stop_asked_at", "pause_asked_at", "state", "reason", "finished_at", "run_token"])
    if pass_.finished_at is not None:
        kinds.ended(pass_.pk)
    notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


def give_up_asking(*, now: datetime) -> None:
    """Pause passes whose question nobody has answered for a long time: their instruments may be wanted elsewhere."""
    seconds = settings.KEYED_PATIENCE_S
    parked = Pass.objects.filter(finished_at__isnull=True, state=PassState.RUNNING, run_token__isnull=True)
    for pk in parked.values_list("pk", flat=True):
        with transaction.atomic():
            pass_ = Pass.objects.select_for_update(of=("self",)).get(pk=pk)
            asked = None if pass_.asks is None else datetime.fromisoformat(pass_.asks["at"])
            if not pass_.is_parked or asked is None or now - asked < timedelta(seconds=seconds):
                continue
            pass_.state, pass_.asks = PassState.PAUSED, None
            pass_.reason = UNANSWERED.format(minutes=seconds / 60)
            pass_.save(update_fields=["state", "asks", "reason"])
            notify(pass_.tuning_id, pass_id=pk)


def without_a_job() -> list[int]:
    """Return the passes that should be worked on and that no job of the queue has: what a crash leaves behind."""
    with connection.cursor() as cursor:
        cursor.execute(
            """
            SELECT p.id FROM passes_pass p
            WHERE p.finished_at IS NULL AND p.state <> %s
            AND NOT (p.state = %s AND p.run_token IS NULL AND p.asks IS NOT NULL AND p.answer->>'n' IS DISTINCT FROM p.asks->>'n')
            AND NOT EXISTS (
                SELECT 1 FROM procrastinate_jobs j
                WHERE j.status IN ('todo', 'doing') AND j.task_name = %s AND j.args @> jsonb_build_object('pass_id', p.id)
            )
            """,
            [PassState.PAUSED, PassState.RUNNING, "run_pass"],
        )
        return [row[0] for row in cursor.fetchall()]


