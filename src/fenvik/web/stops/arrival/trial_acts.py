"""Trying something out at Arrival: a roll-off that the display is given, settings that are carried over."""

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.utils import timezone

from fenvik.web.adjusting import trial
from fenvik.web.adjusting.models import Trial
from fenvik.web.people.asking import Asking
from fenvik.web.stops.registry import can_be_done
from fenvik.web.visits.models import Tuning


def _sheet(tuning: Tuning, sheet_id: int) -> HttpResponse:
    return redirect(f"{reverse('stop', args=(tuning.pk, 'arrival'))}?view=sheets&sheet={sheet_id}")


def begin(request: Asking, tuning: Tuning) -> None:
    """Begin a trial with a short pass."""
    trial.begin(tuning_id=tuning.pk, actor=request.user, now=timezone.now(), kind=request.POST.get("kind", ""))


def do(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Do what is tried."""
    here = trial.do(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    if here.after_id is None and here.sheet_id is not None:
        messages.info(request, "Nothing has been turned yet: the list beside says what to turn. Then it is read again here.")
        return _sheet(tuning, here.sheet_id)
    return None


def read(request: Asking, tuning: Tuning) -> None:
    """Read the short pass that comes next."""
    trial.read(tuning_id=tuning.pk, actor=request.user, now=timezone.now())


def keep(request: Asking, tuning: Tuning) -> None:
    """Keep what was tried."""
    kept = trial.keep(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    messages.success(request, f"Kept: {kept.told}.")


def undo(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Undo what was tried, or give it up."""
    ended, sheet = trial.undo(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    if sheet is not None:
        messages.info(request, "The list beside says what to turn back.")
        return _sheet(tuning, sheet.pk)
    undone = "The display ends as it did before" if ended.kind == Trial.Kind.TONE else "The white balance stands where it stood"
    messages.info(request, f"{undone}." if ended.was_sent or ended.done_at is not None else "Given up; nothing was changed.")
    return None


def take_away(request: Asking, tuning: Tuning) -> None:
    """Take away a roll-off that was kept."""
    trial.take_away(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    messages.info(request, "Taken away: the display ends as it did before.")


can_be_done(
    {
        "trial-begin": begin, "trial-do": do, "trial-read": read, "trial-keep": keep, "trial-undo": undo, "tone-away": take_away,
    }
)  # fmt: skip
