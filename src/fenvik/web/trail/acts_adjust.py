"""What can be done at Adjust with points, lists of changes and what was turned."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from fenvik.web.adjusting import colours, handsfree, lights, lists
from fenvik.web.adjusting import services as adjusting
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.passes.models import Pass
from fenvik.web.trail.acts import Act, group_of, number_in
from fenvik.web.visits.models import Tuning


def _hues_read(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    colours.read_hues(
        tuning_id=tuning.pk, actor=request.user, names=request.POST.get("hues", "")[:200].split(), now=timezone.now()
    )
    return None


def _lights_read(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    lights.read_lights(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _hands_free(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    handsfree.start(
        tuning_id=tuning.pk, actor=request.user, now=timezone.now(), steps=request.POST.getlist("steps"),
        budget=number_in(request, "budget"), on_stop=request.POST.get("on_stop", "restore"), minutes=number_in(request, "minutes"),
    )  # fmt: skip
    return None


def _put_back(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    run = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"))
    count = handsfree.put_back(pass_id=run.pk, actor=request.user, now=timezone.now())
    messages.success(request, f"{count} controls were put back to where they stood before the run.")
    return None


def read_again(request: HttpRequest, tuning: Tuning) -> None:
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


def _points_read(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    lists.read_points(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _points_list(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    lists.list_points(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _entered(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    lists.enter(
        tuning_id=tuning.pk, actor=request.user, list_id=number_in(request, "list"),
        controls=request.POST.get("controls", "")[:20_000].split(), now=timezone.now(), group=group_of(request),
    )  # fmt: skip
    return None


def _enter_linked(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    count = lists.enter_over_link(
        tuning_id=tuning.pk, actor=request.user, list_id=number_in(request, "list"), now=timezone.now(), group=group_of(request)
    )
    messages.success(request, f"{count} controls were set over the link.")
    return None


def _list_end(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    lists.close(tuning_id=tuning.pk, actor=request.user, list_id=number_in(request, "list"), now=timezone.now())
    return None


def _list_back(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    lists.list_back(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _curve(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    """Say whether points change luminance too, or the balance alone."""
    Tuning.objects.of_firm(request.user.firm_id).filter(pk=tuning.pk).update(corrects_curve=request.POST.get("curve") == "too")
    return None


ADJUST_ACTS: dict[str, Act] = {
    "hands-free": _hands_free,
    "put-back": _put_back,
    "hues-read": _hues_read,
    "lights-read": _lights_read,
    "points-read": _points_read,
    "points-list": _points_list,
    "entered": _entered,
    "enter-linked": _enter_linked,
    "list-end": _list_end,
    "list-back": _list_back,
    "curve": _curve,
}
