"""Starting, pausing, resuming and stopping passes."""

from datetime import datetime, timedelta
from typing import Any

from django.db import IntegrityError, connection, transaction
from django.db.models import Q

from fenvik.core.errors import FenvikError
from fenvik.core.patches import Patch, first_list
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning

WARM_FOR = timedelta(hours=6)  # a warm-up that was watched longer ago says nothing of now


class NoInstrumentsError(FenvikError):
    """The tuning has no meter or no source yet."""

    code = "no_instruments"

    def __init__(self) -> None:
        super().__init__("Choose a meter and a source under Instruments first; nothing was started.")


class NotMeasurableError(FenvikError):
    """A tuning whose signal Fenvik does not measure."""

    code = "not_measurable"

    def __init__(self, tuning: Tuning) -> None:
        super().__init__(
            f"{tuning.name} is for {tuning.get_signal_display()}. Fenvik prepares such a tuning and keeps its settings; "
            "it measures SDR so far. Nothing was started."
        )


class PassOpenError(FenvikError):
    """The tuning, the meter or the source is in use by a pass that has not ended."""

    code = "pass_open"

    def __init__(self, open_pass: Pass | None) -> None:
        what = "Another pass" if open_pass is None else f"A pass of {open_pass.tuning.name}"
        state = "is running" if open_pass is None else f"is {open_pass.get_state_display()}"
        super().__init__(f"{what} {state} with these instruments. Stop it or let it end; no second one was started.")
        self.open_pass = open_pass


class PassFinishedError(FenvikError):
    """A pass that has ended cannot be changed any more."""

    code = "pass_finished"

    def __init__(self, pass_id: int) -> None:
        super().__init__("This pass has ended already; its readings are kept.")
        self.pass_id = pass_id


def defer(pass_id: int) -> None:
    """Hand a pass to the workers, in the same transaction as the row that says so."""
    from fenvik.web.passes.tasks import run_pass

    run_pass.configure(lock=f"pass-{pass_id}").defer(pass_id=pass_id)


def start_pass(
    *,
    tuning_id: int,
    actor: User,
    now: datetime,
    purpose: str = PassPurpose.FOUND,
    patches: list[Patch] | None = None,
    repeat: bool = False,
    interval_s: float = 0.0,
) -> Pass:
    """Start a pass of a tuning; without patches it is the first list. A warm-up pass gives way to any other.

    Raises NoInstrumentsError, NotMeasurableError, PassOpenError.
    """
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("meter", "source").get(pk=tuning_id)
    if tuning.meter is None or tuning.source is None:
        raise NoInstrumentsError
    if tuning.signal != "sdr":
        raise NotMeasurableError(tuning)
    chosen = first_list(tuning.bits, tuning.range) if patches is None else patches
    try:
        with transaction.atomic():
            conditions = (
                {} if purpose in (PassPurpose.WARM_UP, PassPurpose.ADJUST) else {"warm_up": warm_up_so_far(tuning, now)}
            )
            if purpose != PassPurpose.WARM_UP:
                _give_way(tuning, now)
            started = Pass.objects.create(
                tuning=tuning,
                purpose=purpose,
                patches=[patch.as_json() for patch in chosen],
                repeat=repeat,
                interval_s=interval_s,
                conditions=conditions,
                range=tuning.range,
                meter=tuning.meter,
                source=tuning.source,
                meter_facts=tuning.meter.facts,
                bits=tuning.bits,
                window=tuning.window,
                settle_s=tuning.settle_s,
                average=tuning.average,
                created_at=now,
                created_by=actor,
            )
            defer(started.pk)
            notify(tuning.pk, pass_id=started.pk)
    except IntegrityError as error:
        holding = (
            Pass.objects.of_firm(actor.firm_id)
            .filter(finished_at__isnull=True)
            .filter(tuning__isnull=False)
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
        return {"watched": False}
    told = newest.summary or {}
    return {
        "watched": True, "settled_at": told.get("settled_at"), "minutes_left": told.get("minutes_left"),
        "remaining_y": told.get("remaining_y"),
    }  # fmt: skip


def _open(pass_id: int, actor: User) -> Pass:
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    if not pass_.is_open:
        raise PassFinishedError(pass_id)
    return pass_


@transaction.atomic
def ask_to_pause(*, pass_id: int, actor: User, now: datetime) -> Pass:
    """Ask a pass to wait after the reading in flight; asking again changes nothing. Raises PassFinishedError."""
    pass_ = _open(pass_id, actor)
    if pass_.pause_asked_at is None and pass_.state != PassState.PAUSED:
        pass_.pause_asked_at = now
        pass_.save(update_fields=["pause_asked_at"])
        notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


@transaction.atomic
def resume(*, pass_id: int, actor: User) -> Pass:
    """Let a paused pass go on after its last stored reading; doing so twice changes nothing. Raises PassFinishedError."""
    pass_ = _open(pass_id, actor)
    pass_.pause_asked_at = None
    if pass_.state == PassState.PAUSED:
        pass_.state, pass_.reason = PassState.QUEUED, ""
        defer(pass_id)
    pass_.save(update_fields=["pause_asked_at", "state", "reason"])
    notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


@transaction.atomic
def ask_to_stop(*, pass_id: int, actor: User, now: datetime) -> Pass:
    """End a pass after the reading in flight; what was read is kept. Harmless when it has ended already."""
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    if not pass_.is_open:
        return pass_
    pass_.stop_asked_at = pass_.stop_asked_at or now
    if pass_.state in (PassState.PAUSED, PassState.QUEUED):  # nobody holds it
        pass_.state, pass_.finished_at, pass_.run_token = PassState.STOPPED, now, None
    pass_.save(update_fields=["stop_asked_at", "state", "finished_at", "run_token"])
    notify(pass_.tuning_id, pass_id=pass_id)
    return pass_


@transaction.atomic
def change_patch(*, pass_id: int, actor: User, patch: Patch) -> None:
    """Let a repeating pass go on with another patch. Raises PassFinishedError."""
    pass_ = _open(pass_id, actor)
    pass_.patches = [patch.as_json()]
    pass_.save(update_fields=["patches"])
    notify(pass_.tuning_id, pass_id=pass_id)


def without_a_job() -> list[int]:
    """Return the passes that should be worked on and that no job of the queue has: what a crash leaves behind."""
    with connection.cursor() as cursor:
        cursor.execute(
            """
            SELECT p.id FROM passes_pass p
            WHERE p.finished_at IS NULL AND p.state <> %s AND NOT EXISTS (
                SELECT 1 FROM procrastinate_jobs j
                WHERE j.status IN ('todo', 'doing') AND j.task_name = %s AND j.args @> jsonb_build_object('pass_id', p.id)
            )
            """,
            [PassState.PAUSED, "run_pass"],
        )
        return [row[0] for row in cursor.fetchall()]
