"""Whites shown to a client on the display itself, open or blind, and what was chosen."""

import copy
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.core.colour.space import XY
from fenvik.core.models.whitedrive import DriveError, off
from fenvik.core.types import Floats
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.services import How, start_pass
from fenvik.web.patterns import services as patterns
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning
from fenvik.web.whites.driving import (
    GAMMA,
    Driving,
    WhitesError,
    driving_of,
    is_pq,
    level_of,
    read_whites,
    row_for,
    sent_for,
    wanted,
)
from fenvik.web.whites.models import Way, WhiteTrial

MOST = 5
LETTERS = "ABCDE"
REST = "22"  # percent of signal of the grey on which an eye rests
_lot = secrets.SystemRandom()


def trial_of(tuning: Tuning) -> WhiteTrial | None:
    """Return the choice that was begun last."""
    return tuning.white_trials.select_related("read_by__correction").order_by("-id").first()


def _driven(tuning: Tuning, now: datetime) -> Driving:
    try:
        driving = driving_of(tuning, now)
    except DriveError as problem:
        raise WhitesError(f"{problem} Read white again, in a mode that does not clip.") from problem
    if driving is None:
        raise WhitesError("Read first how white is made on this display: four readings.")
    return driving


def _gains(driving: Driving, name: str, aim: XY) -> Floats:
    try:
        return driving.drive.gains_for(aim, driving.told)
    except DriveError as problem:
        raise WhitesError(f"{name}: {problem}") from problem


@needs(Right.MEASURE, "began a choice of white")
@transaction.atomic
def begin(
    *, tuning_id: int, actor: User, candidates: list[dict[str, Any]], way: str, blind: bool, shows: str, now: datetime
) -> WhiteTrial:
    """Begin to show whites, each with ``name``, ``why`` and ``uv``. Raises WhitesError: too few, or none that can be driven."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("source", "visit").get(pk=tuning_id)
    if not 2 <= len(candidates) <= MOST:
        raise WhitesError(f"A choice is between two whites and {MOST}: tick so many.")
    if way == Way.HALVES and len(candidates) != 2:
        raise WhitesError("Side by side are two whites; more of them come one after the other.")
    driving = _driven(tuning, now)
    for told in candidates:
        _gains(driving, told["name"], wanted(tuning, told["uv"]))
    made = WhiteTrial.objects.create(
        tuning=tuning, at=now, by=actor, candidates=candidates, way=way if way in Way.values else Way.TURNS, blind=blind,
        shows=shows if shows in ("scene", "skin", "white") else "scene",
    )  # fmt: skip
    notify(tuning_id)
    return made


def _open(tuning_id: int, actor: User) -> WhiteTrial:
    """Return the choice that goes on, locked. Raises WhitesError."""
    trials = WhiteTrial.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).filter(tuning_id=tuning_id)
    trial = trials.select_related("tuning__source", "tuning__visit").order_by("-id").first()
    if trial is None or trial.ended_at is not None:
        raise WhitesError("No choice is going on. Begin one.")
    return trial


@needs(Right.MEASURE, "read the whites that are shown")
def read_each(*, tuning_id: int, actor: User, now: datetime) -> Pass:
    """Read each white as it is shown: it is known where it lies, and brought nearer. Raises WhitesError, and as ``start_pass``."""
    with transaction.atomic():
        trial = _open(tuning_id, actor)
        driving = _driven(trial.tuning, now)
        rows = [
            row_for(trial.tuning, told["name"], _gains(driving, told["name"], wanted(trial.tuning, told["uv"])), candidate=i)
            for i, told in enumerate(trial.candidates)
        ]
    how = How(rows=rows, average=max(trial.tuning.average, 4))
    started: Pass = start_pass(tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.WHITES, patches=[], how=how)
    WhiteTrial.objects.filter(pk=trial.pk).update(read_by=started)
    return started


def _percent(gains: Floats) -> str:
    return " ".join(f"{100.0 * value:.2f}" for value in gains)


def _picture(trial: WhiteTrial, left: int, right: int | None, now: datetime) -> tuple[str, dict[str, str]]:
    """Return the pattern that shows one white, or two; white alone where the source draws no scene."""
    tuning, driving = trial.tuning, _driven(trial.tuning, now)
    both = [
        _gains(driving, told["name"], wanted(tuning, told["uv"]))
        for told in (trial.candidates[i] for i in (left, right) if i is not None)
    ]
    source = tuning.source
    if source is not None and "screen" not in source.facts and "white-scene" not in source.facts.get("charts", []):
        if right is not None:
            raise WhitesError(f"{source.name} cannot show two halves: it draws no scene. Let them come one after the other.")
        red, green, blue = sent_for(tuning, both[0])
        return "patch", {"red": f"{red:.3f}", "green": f"{green:.3f}", "blue": f"{blue:.3f}", "size": "100", "surround": "0"}
    options = {
        "left": _percent(both[0]), "right": _percent(both[1]) if right is not None else "", "level": f"{level_of(tuning):g}",
        "shows": trial.shows, "curve": "pq" if is_pq(tuning) else "gamma", "gamma": f"{GAMMA:g}",
        "space": "bt709" if tuning.signal == "sdr" else "bt2020",
    }  # fmt: skip
    return "white-scene", options


def _show(trial: WhiteTrial, actor: User, left: int, right: int | None, now: datetime) -> None:
    pattern, options = _picture(trial, left, right, now)
    patterns.show(tuning_id=trial.tuning_id, actor=actor, pattern=pattern, typed=options, now=now)


def _kept(trial: WhiteTrial) -> dict[str, Any]:
    return {"place": trial.place, "rounds": copy.deepcopy(trial.rounds)}


@contextmanager
def _being_shown(trial: WhiteTrial, before: dict[str, Any]) -> Iterator[None]:
    """Put a picture on the screen, or let the round stand as it stood: nobody is to pick what is not to be seen, or not yet."""
    try:
        yield
    except Exception:
        WhiteTrial.objects.filter(pk=trial.pk, ended_at__isnull=True).update(**before, showing=False)
        raise
    WhiteTrial.objects.filter(pk=trial.pk).update(showing=False)
    trial.showing = False


def _rest(trial: WhiteTrial, actor: User, now: datetime) -> None:
    typed = {"red": REST, "green": REST, "blue": REST, "size": "100", "surround": REST}
    patterns.show(tuning_id=trial.tuning_id, actor=actor, pattern="patch", typed=typed, now=now)


@needs(Right.MEASURE, "showed a white")
def show_open(*, tuning_id: int, actor: User, left: int, right: int | None, now: datetime) -> WhiteTrial:
    """Show a white by its place in the list, or two beside each other, where everybody may know which it is. Raises WhitesError."""
    with transaction.atomic():
        trial = _open(tuning_id, actor)
        before = _kept(trial)
        if trial.blind or not all(0 <= i < len(trial.candidates) for i in (left, right) if i is not None):
            raise WhitesError("There is no such white, or this choice is blind.")
        trial.place, trial.showing = left, True
        trial.save(update_fields=["place", "showing"])
    with _being_shown(trial, before):
        _show(trial, actor, left, right, now)
    notify(tuning_id)
    return trial


@needs(Right.MEASURE, "went on with a blind choice")
def go_on(*, tuning_id: int, actor: User, now: datetime, seen: str = "") -> WhiteTrial:
    """Show the next white of a blind round, after a rest; a round begins with an order drawn by lot. Raises WhitesError.

    ``seen``: the step that the page knew of; where somebody else has gone on since, nothing is done: no eye is robbed of its rest.
    """
    with transaction.atomic():
        trial = _open(tuning_id, actor)
        if seen and seen != trial.step:
            return trial
        before = _kept(trial)
        if not trial.blind or trial.verdict.over:
            raise WhitesError("This choice has come to its end.")
        if not trial.order:
            order = list(range(len(trial.candidates)))
            _lot.shuffle(order)
            trial.rounds = [*trial.rounds, {"order": order, "seen": 0}]
            trial.place = None
        now_round = trial.rounds[-1]
        halves = trial.way == Way.HALVES
        rests = trial.place is not None and now_round["seen"] < len(trial.order) and not halves
        if trial.showing:
            pass  # whoever was to show it has not: it is shown again
        elif rests:
            trial.place = None
        elif now_round["seen"] < (1 if halves else len(trial.order)):
            trial.place = now_round["seen"]
            now_round["seen"] += 1
        trial.showing = True
        trial.save(update_fields=["rounds", "place", "showing"])
    with _being_shown(trial, before):
        if trial.place is None:
            _rest(trial, actor, now)
        elif halves:
            _show(trial, actor, trial.order[0], trial.order[1], now)
        else:
            _show(trial, actor, trial.order[trial.place], None, now)
    notify(tuning_id)
    return trial


@needs(Right.MEASURE, "showed a white of a round again")
def look_again(*, tuning_id: int, actor: User, place: int, now: datetime) -> WhiteTrial:
    """Show one of a round's whites again by its letter. Raises WhitesError for one that has not been shown."""
    with transaction.atomic():
        trial = _open(tuning_id, actor)
        before = _kept(trial)
        if not trial.order or not 0 <= place < trial.rounds[-1]["seen"] or trial.way == Way.HALVES:
            raise WhitesError("That one has not been shown in this round.")
        trial.place, trial.showing = place, True
        trial.save(update_fields=["place", "showing"])
    with _being_shown(trial, before):
        _show(trial, actor, trial.order[place], None, now)
    notify(tuning_id)
    return trial


@needs(Right.MEASURE, "noted what was picked")
@transaction.atomic
def pick(*, tuning_id: int, actor: User, place: int | None, now: datetime, seen: str = "") -> WhiteTrial:
    """Note which letter of a round was picked, None for no difference; it ends where it is no chance. Raises WhitesError.

    ``seen``: as of ``go_on``, by its round: one letter is picked once a round, by whoever was first.
    """
    trial = _open(tuning_id, actor)
    if seen and (not trial.order or seen.partition(".")[0] != str(len(trial.rounds))):
        return trial
    if not trial.order:
        raise WhitesError("Nothing has been shown in this round yet.")
    if trial.showing:
        raise WhitesError("It is still being put on the screen.")
    if trial.rounds[-1]["seen"] < (1 if trial.way == Way.HALVES else len(trial.order)):
        raise WhitesError("Not every white of this round has been shown yet.")
    if place is not None and not 0 <= place < len(trial.order):
        raise WhitesError("There is no such letter in this round.")
    trial.rounds[-1]["pick"] = None if place is None else trial.order[place]
    trial.place = None
    said = trial.verdict
    if said.over:
        trial.ended_at, trial.chosen = now, said.chosen
    trial.save()
    notify(tuning_id)
    return trial


@needs(Right.MEASURE, "ended a choice of white")
@transaction.atomic
def end(*, tuning_id: int, actor: User, chosen: int | None, now: datetime) -> WhiteTrial:
    """End a choice: an open one with what was chosen, a blind one without anything. Raises WhitesError."""
    trial = _open(tuning_id, actor)
    if chosen is not None and (trial.blind or not 0 <= chosen < len(trial.candidates)):
        raise WhitesError("A blind choice is made by its rounds and not by the list.")
    trial.ended_at, trial.chosen, trial.place = now, chosen, None
    trial.save()
    notify(tuning_id)
    return trial


@needs(Right.MEASURE, "kept the words of a choice")
@transaction.atomic
def keep_words(*, tuning_id: int, actor: User, words: str) -> WhiteTrial:
    """Keep the client's words with the choice that ended last. Raises WhitesError where none has."""
    trials = WhiteTrial.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).filter(tuning_id=tuning_id)
    trial = trials.order_by("-id").first()
    if trial is None or trial.ended_at is None:
        raise WhitesError("No choice has ended yet.")
    trial.words = words.strip()[:200]
    trial.save(update_fields=["words"])
    return trial


def reads(trial: WhiteTrial) -> list[dict[str, Any]]:
    """Return the candidates with how far each was read from where it should be, in u′v′; None where it was not."""
    xyz = {} if trial.read_by is None else read_whites(trial.read_by)
    made = []
    for i, told in enumerate(trial.candidates):
        aim = wanted(trial.tuning, told["uv"])
        made.append(told | {"number": i, "xy": aim, "off": None if i not in xyz else off(xyz[i], aim)})
    return made
