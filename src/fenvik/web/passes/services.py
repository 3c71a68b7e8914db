"""Starting, pausing, resuming and stopping passes."""

from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import IntegrityError, connection, transaction
from django.db.models import Q
from procrastinate.contrib.django import app as queue

from fenvik.core.colour.space import P3D65
from fenvik.core.errors import FenvikError
from fenvik.core.signal.decoding import encode
from fenvik.core.signal.lists import Plan, Shown, Stage, put_together
from fenvik.core.signal.patches import Patch
from fenvik.web.devices.leases import HeldError, take_for_pass
from fenvik.web.devices.models import Device
from fenvik.web.kit.notify import notify
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import Circumstance, Pass, PassPurpose, PassState, PatchList, PatchMark
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

PICTURES = (PassPurpose.FOUND, PassPurpose.CHECK, PassPurpose.LEFT)
# While these read, whoever adjusts may set the display.
BESIDE_A_PERSON = (PassPurpose.ADJUST, PassPurpose.WARM_UP, PassPurpose.AIM)
WARMTH_MATTERS = (*PICTURES, PassPurpose.CORRECTION)
UNANSWERED = (
    "Nobody typed a value for {minutes:.0f} minutes, so the pass waits. What was typed is kept; go on when you are back."
)
WARM_FOR = timedelta(hours=6)  # a warm-up that was watched longer ago says nothing of now


class NoInstrumentsError(FenvikError):
    """The tuning has no meter or no source yet."""

    code = "no_instruments"

    def __init__(self) -> None:
        super().__init__("Choose a meter and a source under Instruments first; nothing was started.")


class NotMeasurableError(FenvikError):
    """The source cannot show what the tuning wants."""

    code = "not_measurable"


class NothingToReadError(FenvikError):
    """A tuning for which no list is chosen."""

    code = "nothing_to_read"

    def __init__(self, words: str = "No list is chosen, so there is nothing to read. Choose at least one.") -> None:
        super().__init__(words)


class PassOpenError(FenvikError):
    """The tuning, the meter or the source is in use by a pass that has not ended."""

    code = "pass_open"

    def __init__(self, open_pass: Pass | None) -> None:
        what = "Another pass" if open_pass is None else f"A pass of {open_pass.tuning.name}"
        state = "is running" if open_pass is None else f"is {open_pass.get_state_display()}"
        super().__init__(f"{what} {state} with these instruments. Stop it or let it end; no second one was started.")
        self.open_pass = open_pass


class AnsweredError(FenvikError):
    """What was asked has been answered already, or is not asked any more."""

    code = "answered"

    def __init__(self) -> None:
        super().__init__("That was answered already, or is no longer asked: look at which patch is wanted now.")


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


class PassFinishedError(FenvikError):
    """A pass that has ended cannot be changed any more."""

    code = "pass_finished"

    def __init__(self, pass_id: int) -> None:
        super().__init__("This pass has ended already; its readings are kept.")
        self.pass_id = pass_id


@dataclass(frozen=True)
class SignalSent:
    """What a source is asked to send: the format and colorimetry by the device link's names, HDR's mastering in cd/m²."""

    format: str = "sdr"
    colorimetry: str = "bt709"
    mastering: dict[str, float] | None = None


def signal_of(tuning: Tuning) -> SignalSent:
    """Return the signal that a tuning is measured with. Raises NotMeasurableError where its source does not send it."""
    source = tuning.source
    if source is not None and tuning.signal not in source.facts.get("formats", ["sdr"]):
        raise NotMeasurableError(
            f"{source.name} does not send {tuning.get_signal_display()}. Choose a source that does under Instruments; "
            "nothing was started."
        )
    if tuning.signal == "sdr":
        return SignalSent(colorimetry="p3d65" if tuning.target.primaries == P3D65 else "bt709")
    if tuning.signal == "hlg":
        return SignalSent(tuning.signal, "bt2020")
    most = tuning.max_cll or tuning.mastered
    mastering = {
        "max": tuning.mastered, "min": tuning.mastered_least, "max_cll": most, "max_fall": min(400.0, most),
    }  # fmt: skip
    return SignalSent(tuning.signal, "bt2020", mastering)


def fine_enough(tuning: Tuning) -> None:
    """Give an HDR tuning the ten bits that PQ and HLG want, where its source has them; eight would show steps."""
    bits = [] if tuning.source is None else tuning.source.facts.get("bits", [])
    if tuning.signal != "sdr" and tuning.bits == 8 and 10 in bits:
        tuning.bits = 10
        tuning.save(update_fields=["bits"])


def can_draw(source: Device | None, chart: str) -> bool:
    """Whether a source can show a chart of the library."""
    return source is not None and (source.is_keyed or "screen" in source.facts or chart in source.facts.get("charts", []))


def planned(tuning: Tuning) -> list[Shown]:
    """Return what a tuning's next pass reads."""
    told = tuning.lists
    own: list[tuple[str, tuple[float, float, float]]] = []
    for kept in PatchList.objects.of_firm(tuning.visit.firm_id).filter(pk__in=told.get("own", [])).order_by("name"):
        own += [(row["label"], tuple(row["percent"])) for row in kept.patches]
    plan = Plan(tuple(told.get("chosen", [])), tuple(own), int(told.get("drift_every", 0)), told.get("options", {}))
    return put_together(plan, tuning.bits, "full" if tuning.range == "full" else "limited", stage_of(tuning))


TAKEN_PEAK = 500.0  # cd/m², of a display in HDR while nothing of it has been read


def stage_of(tuning: Tuning) -> Stage | None:
    """Return what the colours of an HDR tuning are placed for: the peak that was read last; None for SDR."""
    target = tuning.target
    if not target.is_hdr:
        return None
    told = tuning.passes.filter(purpose__in=PICTURES, summary__white__isnull=False, removed_at__isnull=True)
    newest = told.order_by("-created_at").values_list("summary", flat=True)[:3]
    read = [s["white"] for s in newest if s is not None and s.get("hdr")]
    return Stage(target, float(read[0] if read else tuning.luminance or TAKEN_PEAK))


def read_already(pass_: Pass) -> set[int]:
    """Return the patches that need no reading: those that have one, but for those that are wanted once more since."""
    newest: dict[int, int] = {}
    for index, pk in pass_.readings.order_by("id").values_list("index", "id"):
        newest[index] = pk
    again = dict(pass_.marks.filter(again_after__isnull=False).values_list("index", "again_after"))
    return {index for index, pk in newest.items() if pk > (again.get(index) or -1)}


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
                alone=purpose not in BESIDE_A_PERSON,
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


def _open(pass_id: int, actor: User) -> Pass:
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    if not pass_.is_open:
        raise PassFinishedError(pass_id)
    return pass_


@needs(Right.MEASURE)
@transaction.atomic
def ask_to_pause(*, pass_id: int, actor: User, now: datetime) -> Pass:
    """Ask a pass to wait after the reading in flight; asking again changes nothing. Raises PassFinishedError."""
    pass_ = _open(pass_id, actor)
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
    pass_ = _open(pass_id, actor)
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
    pass_ = _open(pass_id, actor)
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


def _open_again(pass_: Pass) -> None:
    """Let a pass that has ended go on, where its instruments are free. Raises PassOpenError."""
    pass_.state, pass_.reason, pass_.finished_at, pass_.run_token = PassState.QUEUED, "", None, None
    pass_.pause_asked_at = pass_.stop_asked_at = None
    pass_.complete = False
    devices = [device for device in (pass_.meter, pass_.source, pass_.reference) if device is not None]
    try:
        with transaction.atomic():
            pass_.save()
            take_for_pass(pass_, pass_.tuning, devices, alone=pass_.purpose not in BESIDE_A_PERSON)
    except HeldError as held:
        if held.pass_ is None:
            raise
        raise PassOpenError(held.pass_) from held
    except IntegrityError as error:
        holding = Pass.objects.filter(tuning=pass_.tuning, finished_at__isnull=True).select_related("tuning").first()
        raise PassOpenError(holding) from error
    defer(pass_.pk)
    notify(pass_.tuning_id, pass_id=pass_.pk)


def _kept(pass_id: int, actor: User) -> Pass:
    return (
        Pass.objects.of_firm(actor.firm_id)
        .select_for_update(of=("self",))
        .select_related("tuning__visit", "tuning__meter", "tuning__source")
        .get(pk=pass_id)
    )


@needs(Right.MEASURE, "read a patch again")
@transaction.atomic
def read_again(*, pass_id: int, actor: User, index: int) -> Pass:
    """Read one patch of a pass once more; the reading before stays on record and no longer counts. Raises PassOpenError."""
    pass_ = _kept(pass_id, actor)
    if pass_.is_open and pass_.state != PassState.PAUSED:
        raise PassOpenError(pass_)
    newest = pass_.readings.order_by("-id").first()
    if not 0 <= index < len(pass_.patches) or newest is None or pass_.repeat or pass_.is_file:
        raise NothingToReadError
    PatchMark.objects.update_or_create(pass_of=pass_, index=index, defaults={"again_after": newest.pk})
    if not pass_.is_open:
        _open_again(pass_)
    return pass_


@needs(Right.MEASURE, "let a pass read its rest")
@transaction.atomic
def read_rest(*, pass_id: int, actor: User) -> Pass:
    """Let a pass that was stopped read what is left of its list. Raises NothingToReadError, PassOpenError."""
    pass_ = _kept(pass_id, actor)
    if pass_.is_open:
        raise PassOpenError(pass_)
    if pass_.repeat or pass_.is_file or pass_.purpose not in PICTURES or len(read_already(pass_)) >= len(pass_.patches):
        raise NothingToReadError("This pass has read all of its list.")
    _open_again(pass_)
    return pass_


@needs(Right.MEASURE, "extended a pass")
@transaction.atomic
def extend(*, pass_id: int, actor: User) -> int:
    """Let a pass read what the tuning's lists have beyond it; return how many patches that adds. Raises NothingToReadError."""
    pass_ = _kept(pass_id, actor)
    if pass_.repeat or pass_.is_file or pass_.purpose not in PICTURES:
        raise NothingToReadError

    def look(row: dict[str, Any]) -> str:
        return repr((list(row["rgb"]), row.get("part", "main"), row.get("window"), row.get("chart"), row.get("place")))

    have = {look(row) for row in pass_.patches}
    more = [row for shown in planned(pass_.tuning) if shown.part != "drift" and look(row := shown.as_row()) not in have]
    if not more:
        raise NothingToReadError("This pass has read everything that the lists ask for: choose more of them first.")
    if pass_.is_open and pass_.state != PassState.PAUSED:
        raise PassOpenError(pass_)
    pass_.patches = [*pass_.patches, *more]
    if pass_.is_open:
        pass_.save(update_fields=["patches"])
    else:
        _open_again(pass_)
    return len(more)


@needs(Right.MEASURE)
@transaction.atomic
def change_patch(*, pass_id: int, actor: User, patch: Patch) -> None:
    """Let a repeating pass go on with another patch. Raises PassFinishedError."""
    pass_ = _open(pass_id, actor)
    pass_.patches = [patch.as_json()]
    pass_.save(update_fields=["patches"])
    notify(pass_.tuning_id, pass_id=pass_id)


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


@needs(Right.MEASURE)
@transaction.atomic
def keep_drift(*, pass_id: int, actor: User, kept: bool) -> None:
    """Take what whites say of drift out of a pass, or leave it in; its figures are told anew."""
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id)
    pass_.drift_kept = kept
    pass_.save(update_fields=["drift_kept"])
    kinds.ended(pass_id)
    notify(pass_.tuning_id, pass_id=pass_id)
