"""What can be done wherever a control was turned: say so, and take it back."""

from django.contrib import messages
from django.http import HttpResponse
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.web.adjusting import colours, lights, lists
from fenvik.web.adjusting import services as adjusting
from fenvik.web.controls.log import log_changes, undo
from fenvik.web.controls.maps import read_over_link
from fenvik.web.devices.standing import is_paired
from fenvik.web.people.asking import Asking
from fenvik.web.stops.acts import group_of, number_in, typed_values
from fenvik.web.stops.registry import can_be_done
from fenvik.web.visits.models import Tuning


def read_again(request: Asking, tuning: Tuning) -> None:
    """Read what was worked on once more, after something was turned."""
    if not tuning.meter_id:
        return
    if request.POST.get("work") == "colours":
        names = request.POST.get("hues", request.POST.get("hue", ""))[:200].split()
        colours.read_hues(tuning_id=tuning.pk, actor=request.user, names=names, now=timezone.now())
    elif request.POST.get("work") == "light":
        lights.read_lights(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    elif request.POST.get("work", "two") == "two":
        adjusting.read_level(tuning_id=tuning.pk, actor=request.user, now=timezone.now())


def _turned(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Log what was turned; at Adjust the level is read again."""
    typed = typed_values(request)
    other = request.POST.get("control", "")
    if other:
        typed = {other: request.POST.get("other-value", "")[:40]}
    basis = number_in(request, "basis")
    log = lists.set_over_link if request.POST.get("link") else log_changes
    made = log(
        tuning_id=tuning.pk, actor=request.user, typed=typed, seen=number_in(request, "seen"), now=timezone.now(),
        group=group_of(request), basis_id=basis if basis > 0 else None,
    )  # fmt: skip
    if request.POST.get("stop") == "groundwork" and not request.POST.get("link"):
        _see_what_it_says(request, tuning)
    # What is logged beside the nudge may be one of several: the person says when all of them are.
    if request.POST.get("stop") == "adjust" and made and not other:
        read_again(request, tuning)
    return None


def _see_what_it_says(request: Asking, tuning: Tuning) -> None:
    """Read the menu of a paired display after a person has said what it is at: what it says itself is believed, and kept."""
    if not tuning.mode_id or not is_paired(tuning.display):
        return
    try:
        _, different = read_over_link(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    except FenvikError:
        return  # its control is away: the person is believed for now
    if different:
        are = "control stands" if different == 1 else "controls stand"
        said = f"The display was asked, and {different} {are} otherwise than was said."
        messages.error(request, f"{said} What it says itself is kept.")


def _undo(request: Asking, tuning: Tuning) -> HttpResponse | None:
    one = number_in(request, "one")
    made = undo(
        tuning_id=tuning.pk, actor=request.user, group=group_of(request), now=timezone.now(), one=one if one > 0 else None
    )
    if made:
        read_again(request, tuning)
    return None


can_be_done({"turned": _turned, "undo": _undo})
