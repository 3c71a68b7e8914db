"""Two displays brought together by eye: the one of a tuning is stepped by keys until its white looks like the other's."""

import secrets
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from django.db import transaction

from fenvik.core.colour.observers import SpectrumError, match_for
from fenvik.core.colour.space import XY, uv_to_xyz, xy_to_uv, xyz_to_xy
from fenvik.core.errors import FenvikError
from fenvik.core.measure.matching import STEP, TRIES, WAYS, begins_at, match_of, stepped
from fenvik.core.models.whitedrive import DriveError
from fenvik.core.signal.decoding import encode
from fenvik.web.clients.models import Display
from fenvik.web.corrections.models import Spectra
from fenvik.web.corrections.spectra import lights_of
from fenvik.web.kit.notify import notify
from fenvik.web.patterns import services as patterns
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning
from fenvik.web.visits.white import MOST
from fenvik.web.whites.driving import Driving, WhitesError, driving_of, gains_sent, level_of, sent_for
from fenvik.web.whites.models import WhiteMatch

GREYS = (0.75, 0.5, 0.25)  # of the level of white: looked at once white is the same
OBSERVERS = ("CIE 2015 2°", "CIE 2015 10°")
_lot = secrets.SystemRandom()


@dataclass(frozen=True)
class Pair:
    """What was seen before with these displays, or two of their technologies: an offset in u′v′, never applied by itself."""

    match: WhiteMatch
    same_displays: bool


def match_going(tuning: Tuning) -> WhiteMatch | None:
    """Return the match that was begun last."""
    related = ("reference__room", "tuning__display")
    return tuning.white_matches.select_related(*related).order_by("-id").first()


def _driven(tuning: Tuning, now: datetime) -> Driving:
    driving = driving_of(tuning, now)
    if driving is None:
        raise WhitesError("Read first how white is made on this display: four readings.")
    return driving


def _open(tuning_id: int, actor: User) -> WhiteMatch:
    rows = WhiteMatch.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).filter(tuning_id=tuning_id)
    found = rows.select_related("tuning__source", "tuning__visit").order_by("-id").first()
    if found is None or found.ended_at is not None:
        raise WhitesError("No two displays are being brought together. Begin with a reference.")
    return found


def _sent(tuning: Tuning, at: tuple[float, float], now: datetime, share: float = 1.0) -> dict[str, str]:
    """Return the options of the patch that shows an offset. Raises WhitesError."""
    try:
        gains = _driven(tuning, now).drive.gains_for(_xy(tuning, at))
    except DriveError as problem:
        raise WhitesError(str(problem)) from problem
    level = level_of(tuning) * share
    red, green, blue = sent_for(tuning, gains, level)
    return {
        "red": f"{min(red, 100.0):.3f}", "green": f"{min(green, 100.0):.3f}", "blue": f"{min(blue, 100.0):.3f}",
        "size": f"{tuning.window:g}", "surround": "0",
    }  # fmt: skip


def _xy(tuning: Tuning, at: tuple[float, float]) -> XY:
    x, y = xyz_to_xy(uv_to_xyz(xy_to_uv(tuning.standard_white) + np.array(at)))
    return float(x), float(y)


def _show(match: WhiteMatch, actor: User, now: datetime, share: float = 1.0) -> None:
    trying = match.trying
    at = (0.0, 0.0) if trying is None else (float(trying["at"][0]), float(trying["at"][1]))
    typed = _sent(match.tuning, at, now, share)
    patterns.show(tuning_id=match.tuning_id, actor=actor, pattern="patch", typed=typed, now=now)


def _begin_try(match: WhiteMatch) -> None:
    """Add a try: the first from a side drawn by lot, the others from the other sides of where it ended."""
    ends = [told["end"] for told in match.tries if "end" in told]
    around = np.mean(ends, axis=0) if ends else np.zeros(2)
    turned = match.tries[0]["turned"] if match.tries else _lot.uniform(0.0, 360.0)
    at = begins_at(len(match.tries), around, turned)
    match.tries = [*match.tries, {"turned": turned, "began": at, "at": at, "steps": 0}]


@needs(Right.MEASURE, "began to bring two displays together")
def begin(*, tuning_id: int, actor: User, reference_id: int, now: datetime) -> WhiteMatch:
    """Begin with a display as the reference; white of the tuning's is shown a way off. Raises WhitesError."""
    with transaction.atomic():
        tuning = Tuning.objects.of_firm(actor.firm_id).select_related("source", "visit", "display").get(pk=tuning_id)
        reference = Display.objects.of_firm(actor.firm_id).filter(pk=reference_id).first()
        if reference is None or reference.pk == tuning.display_id:
            raise WhitesError("Choose another display as the reference.")
        _driven(tuning, now)
        match = WhiteMatch(tuning=tuning, reference=reference, at=now, by=actor, level=level_of(tuning))
        _begin_try(match)
        match.save()
    _show(match, actor, now)
    notify(tuning_id)
    return match


@needs(Right.MEASURE, "stepped a white")
def step(*, tuning_id: int, actor: User, way: str, count: int, now: datetime) -> WhiteMatch:
    """Step the white that is shown along one of WAYS. Raises WhitesError."""
    if way not in WAYS or not 1 <= count <= 10:
        raise WhitesError("White is stepped to blue, yellow, green or magenta, by one to ten steps.")
    with transaction.atomic():
        match = _open(tuning_id, actor)
        trying = match.trying
        if trying is None:
            raise WhitesError("All tries are done.")
        at = stepped(trying["at"], way, count)
        if max(abs(v) for v in at) > MOST:
            raise WhitesError("That is as far as an offset of a white goes.")
        _sent(match.tuning, at, now)  # refused before anything is kept
        trying["at"], trying["steps"] = at, trying["steps"] + 1
        match.save(update_fields=["tries"])
    _show(match, actor, now)
    notify(tuning_id)
    return match


@needs(Right.MEASURE, "looked at a grey of a match")
@transaction.atomic
def look_at(*, tuning_id: int, actor: User, share: float, now: datetime) -> None:
    """Show a grey of the same white, so that it can be looked at too. Raises WhitesError."""
    match = _open(tuning_id, actor)
    if share not in (1.0, *GREYS):
        raise WhitesError("There is no such grey.")
    _show(match, actor, now, share)


@needs(Right.MEASURE, "saw two displays alike")
def same(*, tuning_id: int, actor: User, now: datetime) -> WhiteMatch:
    """End a try where both look the same; after the last one the mean of all is kept. Raises WhitesError."""
    with transaction.atomic():
        match = _open(tuning_id, actor)
        trying = match.trying
        if trying is None:
            raise WhitesError("All tries are done.")
        # What was seen is what was sent: codes are whole, so the offset is told from them.
        trying["end"] = list(_really(match.tuning, trying["at"], now))
        ends = [told["end"] for told in match.tries]
        if len(ends) < TRIES:
            _begin_try(match)
        else:
            found = match_of(ends)
            match.du, match.dv = (round(float(v), 5) for v in found.uv)
            match.spread, match.ended_at = round(float(np.hypot(*found.spread)), 5), now
        match.save()
    if match.ended_at is None:
        _show(match, actor, now)
    notify(tuning_id)
    return match


def _really(tuning: Tuning, at: tuple[float, float], now: datetime) -> tuple[float, float]:
    """Return the offset that the code values of a white really give, by the readings."""
    options = _sent(tuning, (float(at[0]), float(at[1])), now)
    percent = [float(options[name]) for name in ("red", "green", "blue")]
    codes = [int(c) for c in encode(percent, tuning.bits, tuning.range)]
    uv = np.array(_driven(tuning, now).drive.stands_at(gains_sent(tuning, codes))) - xy_to_uv(tuning.standard_white)
    return round(float(uv[0]), 5), round(float(uv[1]), 5)


@needs(Right.MEASURE, "gave up a match")
@transaction.atomic
def give_up(*, tuning_id: int, actor: User, now: datetime) -> None:
    """End a match without a result; what was tried stays on record."""
    match = _open(tuning_id, actor)
    match.ended_at = now
    match.save(update_fields=["ended_at"])
    notify(tuning_id)


def pairs_of(tuning: Tuning, reference: Display | None = None) -> list[Pair]:
    """Return what was seen before beside the same reference, or with displays of the same two technologies; newest first."""
    rows = WhiteMatch.objects.of_firm(tuning.visit.firm_id).filter(du__isnull=False)
    rows = rows.filter(tuning__display__technology=tuning.display.technology)
    if reference is not None:
        rows = rows.filter(reference__technology=reference.technology)
    rows = rows.select_related("reference__room__client", "tuning__display", "tuning__visit").order_by("-id")[:6]
    mine = tuning.display_id
    return [Pair(m, m.tuning.display_id == mine and (reference is None or m.reference_id == reference.pk)) for m in rows]


def predicted(tuning: Tuning, reference: Display) -> list[tuple[str, tuple[float, float]]]:
    """Return the offsets that other observers are predicted to need for this pair; empty without spectra of both."""
    both = []
    for display in (reference, tuning.display):
        read = Spectra.objects.of_firm(tuning.visit.firm_id).filter(tuning__display=display).order_by("-id").first()
        if read is None:
            return []
        both.append(lights_of(read))
    made = []
    for name in OBSERVERS:
        try:
            made.append((name, match_for(both[0], tuning.standard_white, both[1], name)))
        except (SpectrumError, FenvikError):
            continue
    return made


def resolution(tuning: Tuning, now: datetime) -> float | None:
    """Return what one code of the source is worth in u′v′ where that is more than a step; None where steps are finer."""
    driving = driving_of(tuning, now)
    if driving is None:
        return None
    codes = [int(c) for c in encode([level_of(tuning)] * 3, tuning.bits, tuning.range)]
    base = np.array(driving.drive.stands_at(gains_sent(tuning, codes)))
    ends = [driving.drive.stands_at(gains_sent(tuning, [c + (i == j) for j, c in enumerate(codes)])) for i in range(3)]
    worth = float(np.hypot(*(np.array(ends) - base).T).max())
    return worth if worth > 2.0 * STEP else None
