"""What can be done at Adjust with points, lists of changes and what was turned."""

from django.contrib import messages
from django.http import HttpResponse
from django.utils import timezone

from fenvik.formats.numbers import NumberError, number
from fenvik.web.adjusting import colours, handsfree, lights, lists
from fenvik.web.adjusting import services as adjusting
from fenvik.web.adjusting.ends import highest, placed, working
from fenvik.web.adjusting.points import goal_of
from fenvik.web.controls.values import SettingError
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.people.asking import Asking
from fenvik.web.stops.acts import decimal_in, group_of, number_in
from fenvik.web.stops.registry import can_be_done
from fenvik.web.visits.models import Tuning


def _hues_read(request: Asking, tuning: Tuning) -> HttpResponse | None:
    colours.read_hues(
        tuning_id=tuning.pk, actor=request.user, names=request.POST.get("hues", "")[:200].split(), now=timezone.now()
    )
    return None


def _lights_read(request: Asking, tuning: Tuning) -> HttpResponse | None:
    lights.read_lights(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _hands_free(request: Asking, tuning: Tuning) -> HttpResponse | None:
    handsfree.start(
        tuning_id=tuning.pk, actor=request.user, now=timezone.now(), steps=request.POST.getlist("steps"),
        budget=number_in(request, "budget"), on_stop=request.POST.get("on_stop", "restore"), minutes=number_in(request, "minutes"),
        by=request.POST.get("by", "controls"), by_hand=request.POST.get("by") == "hand", goal=decimal_in(request, "goal"),
        reference_id=number_in(request, "reference") if request.POST.get("reference") else 0,
        may_cost=decimal_in(request, "may_cost") if "may_cost" in request.POST else handsfree.USUAL_COST,
    )  # fmt: skip
    return None


def _without_reference(request: Asking, tuning: Tuning) -> HttpResponse | None:
    run = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"))
    handsfree.go_on_without(pass_id=run.pk, actor=request.user)
    return None


def _put_back(request: Asking, tuning: Tuning) -> HttpResponse | None:
    run = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"))
    count = handsfree.put_back(pass_id=run.pk, actor=request.user, now=timezone.now())
    told = f"{count} controls were put back to where they stood before the run."
    messages.success(request, told if count else "What puts everything back is a list now, to be entered.")
    return None


def _points_read(request: Asking, tuning: Tuning) -> HttpResponse | None:
    lists.read_points(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _points_list(request: Asking, tuning: Tuning) -> HttpResponse | None:
    goal = goal_of(request.POST.get("content", ""))
    lists.list_points(tuning_id=tuning.pk, actor=request.user, now=timezone.now(), goal=goal)
    return None


def _entered(request: Asking, tuning: Tuning) -> HttpResponse | None:
    lists.enter(
        tuning_id=tuning.pk, actor=request.user, list_id=number_in(request, "list"),
        controls=request.POST.get("controls", "")[:20_000].split(), now=timezone.now(), group=group_of(request),
    )  # fmt: skip
    return None


def _enter_linked(request: Asking, tuning: Tuning) -> HttpResponse | None:
    count = lists.enter_over_link(
        tuning_id=tuning.pk, actor=request.user, list_id=number_in(request, "list"), now=timezone.now(), group=group_of(request)
    )
    messages.success(request, f"{count} controls were set over the link.")
    return None


def _list_end(request: Asking, tuning: Tuning) -> HttpResponse | None:
    lists.close(tuning_id=tuning.pk, actor=request.user, list_id=number_in(request, "list"), now=timezone.now())
    return None


def _list_back(request: Asking, tuning: Tuning) -> HttpResponse | None:
    lists.list_back(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _curve(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Say whether points change luminance too, or the balance alone."""
    adjusting.correct_curve(tuning_id=tuning.pk, actor=request.user, too=request.POST.get("curve") == "too")
    return None


def _read(request: Asking, tuning: Tuning) -> HttpResponse | None:
    adjusting.read_level(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _keep_reading(request: Asking, tuning: Tuning) -> HttpResponse | None:
    running = tuning.passes.filter(finished_at__isnull=True, purpose=PassPurpose.ADJUST).exists()
    if running:
        adjusting.stop_reading(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    else:
        adjusting.read_level(tuning_id=tuning.pk, actor=request.user, now=timezone.now(), keep_reading=True)
    return None


def _level(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Work at another level: one step up or down, or a typed one. Above 50 % it is the high end."""
    current, top = working(placed(tuning, request.user.pk)), highest(tuning)
    asked = request.POST.get("level", "")
    if asked in ("up", "down"):
        wanted = current + (10 if asked == "up" else -10)
        wanted = min(max(round(wanted / 10) * 10, 10), int(top))
    else:
        try:
            wanted = number(asked)
        except NumberError:
            raise SettingError("A level is a number from 1 to 100.", "level") from None
    adjusting.work_at(tuning_id=tuning.pk, actor=request.user, end="high" if wanted > 0.5 * top else "low", level=wanted)
    return None


can_be_done({
    "hands-free": _hands_free,
    "put-back": _put_back,
    "without-reference": _without_reference,
    "hues-read": _hues_read,
    "lights-read": _lights_read,
    "points-read": _points_read,
    "points-list": _points_list,
    "entered": _entered,
    "enter-linked": _enter_linked,
    "list-end": _list_end,
    "list-back": _list_back,
    "curve": _curve,
    "read": _read,
    "keep-reading": _keep_reading,
    "level": _level,
})
