"""One thing done to a mode and proved by a short pass before and after it: a roll-off that is given, settings carried over."""

import uuid
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import IntegrityError, transaction

from fenvik.core.errors import FenvikError
from fenvik.core.procedures.installing import tone_of
from fenvik.core.signal.lists import Plan, put_together
from fenvik.link.display import LinkedDisplay
from fenvik.link.faults import DeviceError
from fenvik.web.adjusting import lists
from fenvik.web.adjusting.handsfree import loaded
from fenvik.web.adjusting.models import Trial
from fenvik.web.controls.installed import give, stands_in
from fenvik.web.controls.models import Moment, Origin, SettingsSheet
from fenvik.web.controls.values import Values, values_of
from fenvik.web.devices.displays import link_of, paired
from fenvik.web.devices.leases import hold
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.sending import fine_enough, stage_of
from fenvik.web.passes.services import How, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import analysis_of
from fenvik.web.results.compare import Figure, compare
from fenvik.web.results.highlights import read_ends
from fenvik.web.visits.models import Tuning

SHORT = ("grey-11",)  # what a short pass reads
JUDGED_BY = "grey, average with luminance"
SHOWN = (JUDGED_BY, "grey, average without luminance", "white, cd/m²", "white, kelvin")
# What often holds in another mode. Points stand at other lights there, and colours are judged at others.
CARRIES = ("white.gain.", "white.offset.", "white-preset")


class TrialError(FenvikError):
    """Something that cannot be tried, or not now."""

    code = "trial"


@dataclass(frozen=True)
class Carried:
    """What an SDR tuning of the same display has that may hold in this mode: values by control, and their labels."""

    tuning: Tuning
    values: dict[str, Any]
    labels: list[str]


@dataclass(frozen=True)
class Told:
    """How far a trial is; ``figures`` once both passes are read, the one that judges first; ``step`` names what comes next."""

    trial: Trial
    step: str  # "reads", "do", "turn", "read", "judge"
    figures: tuple[Figure, ...] = ()
    beside: tuple[str, ...] = ()  # labels of what else was turned between both passes

    @property
    def is_better(self) -> bool | None:
        """Whether greys are better beyond doubt; None where nothing can be told apart."""
        judged = self.figures[0] if self.figures else None
        return None if judged is None or not judged.differs else judged.verdict == "better"


def open_trial(tuning: Tuning) -> Trial | None:
    """Return the trial that is going on."""
    return tuning.trials.select_related("before__correction", "after__correction", "sheet").filter(ended_at__isnull=True).first()


def told(tuning: Tuning) -> Told | None:
    """Return how far the trial is that is going on; None without one."""
    trial = open_trial(tuning)
    if trial is None:
        return None
    passes = (trial.before, trial.after)
    if any(p is not None and p.is_open for p in passes):
        return Told(trial, "reads")
    if not _whole(trial.before):
        return Told(trial, "read")
    if trial.done_at is None:
        return Told(trial, "do")
    if not _whole(trial.after):
        return Told(trial, "turn" if _left(trial, values_of(tuning)) else "read")
    first, second = (analysis_of(p, tuning) for p in passes)
    made = compare(first, second, shared=trial.before.correction_id == trial.after.correction_id)  # type: ignore[union-attr]
    shown = [f for f in made.figures if f.name in SHOWN and f.first is not None and f.second is not None]
    between = tuning.changes.filter(at__gt=trial.at, at__lt=trial.after.created_at).exclude(control__in=list(trial.data))  # type: ignore[union-attr]
    beside = tuple(dict.fromkeys(between.order_by("id").values_list("label", flat=True)))
    return Told(trial, "judge", tuple(sorted(shown, key=lambda f: f.name != JUDGED_BY)), beside)


def _whole(pass_: Pass | None) -> bool:
    return pass_ is not None and not pass_.is_open and pass_.readings.values("index").distinct().count() >= len(pass_.patches)


def _left(trial: Trial, values: Values) -> bool:
    """Whether a person has still to turn something."""
    return trial.kind == Trial.Kind.CARRIED and any(values.now.get(name) != v for name, v in trial.data.items())


def takes_tone(tuning: Tuning) -> bool:
    """Whether the tuning's display takes a roll-off over its link."""
    link = link_of(tuning.display)
    return link is not None and bool((link.facts.get("installs") or {}).get("tone"))


def may_carry(tuning: Tuning) -> Carried | None:
    """Return what may be carried over to an HDR tuning from the newest SDR one of its display; None where there is nothing."""
    if tuning.signal == "sdr":
        return None
    here = values_of(tuning)
    if here.found is None:
        return None
    others = Tuning.objects.filter(display_id=tuning.display_id, signal="sdr", visit__firm_id=tuning.visit.firm_id)
    for other in others.exclude(pk=tuning.pk).select_related("display__menu_map").order_by("-visit__on", "-pk")[:5]:
        there = values_of(other)
        if not there.changes:
            continue  # nobody has adjusted it
        rows = [c for c in here.controls if (c.get("role") or "").startswith(CARRIES) and c["id"] in there.now]
        rows = [c for c in rows if here.now.get(c["id"]) != there.now[c["id"]]]
        if rows:
            return Carried(other, {c["id"]: there.now[c["id"]] for c in rows}, [c["label"] for c in rows])
    return None


@needs(Right.MEASURE, "began a trial")
def begin(*, tuning_id: int, actor: User, now: datetime, kind: str) -> Trial:
    """Begin a trial: what is tried is settled, and a short pass reads how the mode is before it.

    Raises TrialError, and what ``start_pass`` raises; then nothing was begun.
    """
    tuning = loaded(tuning_id, actor)
    data, words = (_tone(tuning) if kind == Trial.Kind.TONE else _carried(tuning)) if kind in Trial.Kind else ({}, "")
    if not data:
        raise TrialError("There is nothing to be tried here.")
    fine_enough(tuning)
    now_there = values_of(tuning).now
    try:
        with transaction.atomic():
            made = Trial.objects.create(
                tuning=tuning, kind=kind, data=data, told=words[:160], at=now, by=actor,
                stood={name: now_there[name] for name in data if name in now_there} if kind == Trial.Kind.CARRIED else {},
                before=_short_pass(tuning, actor, now),
            )  # fmt: skip
    except IntegrityError as error:
        raise TrialError("Something else is being tried in this mode already: keep it or undo it first.") from error
    notify(tuning_id)
    return made


def _tone(tuning: Tuning) -> tuple[dict[str, Any], str]:
    if not takes_tone(tuning) or not tuning.mode_id:
        raise TrialError(f"{tuning.display.name} takes no roll-off over its link, or its mode has not been read from it yet.")
    target = tuning.target
    if target.curve != "pq":
        raise TrialError("Only PQ has an end that can be given.")
    if target.diffuse is not None:
        raise TrialError("A reference white of its own moves every light: hands-free installs that as curves, no roll-off does.")
    ends = read_ends(tuning)
    if ends is None:
        raise TrialError("Its peak is not known yet: read what the display can do first, or As found.")
    return tone_of(target, *ends), f"the roll-off of this target, up to {ends[0]:.0f} cd/m²"


def _carried(tuning: Tuning) -> tuple[dict[str, Any], str]:
    carried = may_carry(tuning)
    if carried is None:
        raise TrialError("There is no white balance of an SDR tuning that stands otherwise here.")
    return carried.values, f"{len(carried.values)} values of the white balance of {carried.tuning.name}"


def _short_pass(tuning: Tuning, actor: User, now: datetime) -> Pass:
    rows = [shown.as_row() for shown in put_together(Plan(SHORT), tuning.bits, tuning.range, stage_of(tuning))]
    made: Pass = start_pass(tuning_id=tuning.pk, actor=actor, now=now, purpose=PassPurpose.CHECK, how=How(rows=rows))
    return made


def _going_on(tuning: Tuning, *steps: str) -> Told:
    here = told(tuning)
    if here is None or here.step not in steps:
        raise TrialError("That is not what comes next here: the page shows how far it is.")
    return here


@needs(Right.MEASURE, "did what is tried")
def do(*, tuning_id: int, actor: User, now: datetime) -> Trial:
    """Do what is tried: over the link at once, with a short pass behind it; else it is noted as a sheet whose values are turned.

    Raises TrialError, and what the line, ``set_controls`` and ``start_pass`` raise.
    """
    tuning = loaded(tuning_id, actor)
    trial = _going_on(tuning, "do").trial
    if trial.kind == Trial.Kind.TONE:
        with hold(tuning, actor) as held, paired(tuning.display) as line:
            with transaction.atomic():
                held.go_on()
            _give_tone(line, tuning, trial, now)
        trial.done_at = now
        trial.save(update_fields=["done_at"])
        return _read_after(tuning, trial, actor, now)
    if trial.sheet_id is None:
        trial.sheet = SettingsSheet.objects.create(
            tuning=tuning, moment=Moment.NOTED, values=values_of(tuning).now | trial.data, origin=Origin.COPY, at=now, by=actor,
            note=f"carried over: {trial.told}"[:120],
        )  # fmt: skip
        trial.save(update_fields=["sheet"])
    if hasattr(tuning.display.link, "pairing"):
        _turn(tuning, trial.data, actor, now)
        trial.done_at = now
        trial.save(update_fields=["done_at"])
        return _read_after(tuning, trial, actor, now)
    trial.done_at = now
    trial.save(update_fields=["done_at"])
    notify(tuning_id)
    return trial


def _give_tone(line: LinkedDisplay, tuning: Tuning, trial: Trial, now: datetime) -> None:
    """Send a roll-off; what comes back at the end is kept before, for where the line breaks nobody knows whether it came."""
    is_first = not trial.stood
    if is_first:
        trial.stood = {"tone": stands_in(tuning.display_id, tuning.mode_id).get("tone")}
        trial.save(update_fields=["stood"])
    try:
        give(line, tuning.display_id, tuning.mode_id, "tone", trial.data, now)
    except DeviceError:
        if is_first:
            trial.stood = {}
            trial.save(update_fields=["stood"])
        raise


def _turn(tuning: Tuning, wanted: dict[str, Any], actor: User, now: datetime) -> None:
    """Set values over the link, as a list that is entered: where the line breaks what is left stays on it."""
    rows = lists.rows_to(values_of(tuning), wanted)
    if rows:
        listed = lists.begin_back(tuning_id=tuning.pk, actor=actor, rows=rows, now=now)
        lists.enter_over_link(tuning_id=tuning.pk, actor=actor, list_id=listed.pk, now=now, group=uuid.uuid4())


def _read_after(tuning: Tuning, trial: Trial, actor: User, now: datetime) -> Trial:
    trial.after = _short_pass(tuning, actor, now)
    trial.save(update_fields=["after"])
    notify(tuning.pk)
    return trial


@needs(Right.MEASURE, "read a trial")
def read(*, tuning_id: int, actor: User, now: datetime) -> Trial:
    """Read the short pass that comes next: once more before it is done, or after it. Raises TrialError and as ``start_pass``."""
    tuning = loaded(tuning_id, actor)
    trial = _going_on(tuning, "read", "judge").trial
    if trial.done_at is not None:
        return _read_after(tuning, trial, actor, now)
    trial.before = _short_pass(tuning, actor, now)
    trial.save(update_fields=["before"])
    return trial


@needs(Right.MEASURE, "kept what was tried")
@transaction.atomic
def keep(*, tuning_id: int, actor: User, now: datetime) -> Trial:
    """Leave the mode with what was tried. Raises TrialError before it was read."""
    tuning = loaded(tuning_id, actor)
    return _end(_going_on(tuning, "judge").trial, now, kept=True)


@needs(Right.MEASURE, "undid what was tried")
def undo(*, tuning_id: int, actor: User, now: datetime) -> tuple[Trial, SettingsSheet | None]:
    """Take away what was tried, or give the trial up before it was done; a sheet says what a person has to turn back.

    Raises TrialError while a pass reads it, and what the line and ``set_controls`` raise: then the trial goes on.
    """
    tuning = loaded(tuning_id, actor)
    trial = _going_on(tuning, "do", "turn", "read", "judge").trial
    sheet = None
    if trial.was_sent:
        _end_as_before(tuning, trial, actor, now)
    elif trial.kind == Trial.Kind.CARRIED and _moved(trial, values_of(tuning)):
        if hasattr(tuning.display.link, "pairing"):
            _turn(tuning, trial.stood, actor, now)
        else:
            sheet = SettingsSheet.objects.create(
                tuning=tuning, moment=Moment.NOTED, values=values_of(tuning).now | trial.stood, origin=Origin.COPY, at=now,
                by=actor, note="before it was carried over",
            )  # fmt: skip
    return _end(trial, now, kept=False), sheet


def _end_as_before(tuning: Tuning, trial: Trial, actor: User, now: datetime) -> None:
    """Take away a roll-off that was given; where a run had installed another before it, that comes back."""
    before = trial.stood.get("tone")
    with hold(tuning, actor) as held, paired(tuning.display) as line:
        with transaction.atomic():
            held.go_on()
        give(line, tuning.display_id, tuning.mode_id, "tone", before, now)


def _moved(trial: Trial, values: Values) -> bool:
    return any(values.now.get(name) != v for name, v in trial.stood.items())


def _end(trial: Trial, now: datetime, *, kept: bool) -> Trial:
    trial.ended_at, trial.kept = now, kept
    trial.save(update_fields=["ended_at", "kept"])
    notify(trial.tuning_id)
    return trial


def given(tuning: Tuning) -> Trial | None:
    """Return the roll-off that was given to the mode and kept; None where the newest was taken away."""
    last = tuning.trials.filter(kind=Trial.Kind.TONE, done_at__isnull=False, ended_at__isnull=False).order_by("-id").first()
    return last if last is not None and last.kept else None


@needs(Right.MEASURE, "took a roll-off away")
def take_away(*, tuning_id: int, actor: User, now: datetime) -> None:
    """Take a roll-off away that was kept. Raises TrialError without one, and what the line raises."""
    tuning = loaded(tuning_id, actor)
    kept = given(tuning)
    if kept is None:
        raise TrialError("No roll-off of Fenvik's is in this mode.")
    _end_as_before(tuning, kept, actor, now)
    _end(kept, now, kept=False)
