"""Logging what was turned, undoing it, and reading again."""

from dataclasses import asdict, replace
from datetime import datetime

from django.db import transaction

from fenvik.core.signal.patches import grey
from fenvik.web.adjusting.ends import ends_of, highest, placed, working
from fenvik.web.adjusting.models import Workplace
from fenvik.web.controls.log import locked
from fenvik.web.controls.values import SettingError
from fenvik.web.kit.notify import notify
from fenvik.web.passes.amending import change_patch
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.services import ask_to_stop, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Place, Tuning


def _open_adjusting(tuning: Tuning) -> Pass | None:
    return tuning.passes.filter(finished_at__isnull=True, purpose=PassPurpose.ADJUST).first()


@needs(Right.MEASURE)
def read_level(*, tuning_id: int, actor: User, now: datetime, keep_reading: bool = False) -> Pass:
    """Read the level that is worked on, once or until stopped. Raises what ``start_pass`` raises.

    While it is read continuously already, nothing new is started.
    """
    tuning = Tuning.objects.of_firm(actor.firm_id).get(pk=tuning_id)
    running = _open_adjusting(tuning)
    if running is not None and running.repeat:
        return running
    percent = working(placed(tuning, actor.pk))
    patches = [grey(percent, tuning.bits, tuning.range)]
    started: Pass = start_pass(
        tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.ADJUST, patches=patches, repeat=keep_reading
    )
    return started


@needs(Right.MEASURE)
def stop_reading(*, tuning_id: int, actor: User, now: datetime) -> None:
    """Stop reading continuously; harmless when nothing is read."""
    tuning = Tuning.objects.of_firm(actor.firm_id).get(pk=tuning_id)
    running = _open_adjusting(tuning)
    if running is not None:
        ask_to_stop(pass_id=running.pk, actor=actor, now=now)


@needs(Right.MEASURE)
@transaction.atomic
def work_at(*, tuning_id: int, actor: User, end: str, level: float | None = None) -> Tuning:
    """Work at the high or the low end, at a level in percent; a running reading follows. Raises SettingError."""
    tuning = placed(locked(tuning_id, actor), actor.pk)
    if end not in ("high", "low"):
        raise SettingError("The white balance has a high and a low end.", "end")
    top = highest(tuning)
    if level is not None and level > top:
        raise SettingError(
            f"Above {top:.0f} % this display no longer follows the signal: nothing there tells what a gain does. Work below it.",
            "level",
        )
    if level is not None:
        both = ends_of(tuning)
        high, low = (level, both[1]) if end == "high" else (both[0], level)
        if not 1 <= low < high <= 100:
            raise SettingError(
                f"The high level must lie above the low one, both from 1 to 100 %: {high:g} and {low:g} do not.",
                "level",
            )
        tuning.place = Place(high, low, end)
    tuning.place = replace(tuning.place, end=end)
    Workplace.objects.update_or_create(tuning=tuning, person=actor, defaults=asdict(tuning.place))
    running = _open_adjusting(tuning)
    if running is not None and running.repeat:
        percent = working(tuning)
        change_patch(pass_id=running.pk, actor=actor, patch=grey(percent, tuning.bits, tuning.range))
    notify(tuning.pk)
    return tuning


@needs(Right.MEASURE)
@transaction.atomic
def correct_curve(*, tuning_id: int, actor: User, too: bool) -> None:
    """Keep whether points of the white balance change luminance too, or the balance alone."""
    Tuning.objects.of_firm(actor.firm_id).filter(pk=tuning_id).update(corrects_curve=too)
    notify(tuning_id)
