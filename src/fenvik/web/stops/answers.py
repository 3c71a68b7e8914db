"""What acts answer with: a stop as it is shown, or the way back to it."""

from typing import Any
from urllib.parse import urlencode

from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from fenvik.web.kit.hub import hub
from fenvik.web.people.asking import Asking
from fenvik.web.stops.options import options_of
from fenvik.web.stops.scenes import make_scene
from fenvik.web.trail.facts import STOPS
from fenvik.web.visits.models import Tuning


def show_stop(request: Asking, pk: int, stop: str, **extra: Any) -> HttpResponse:
    """Show a stop; ``extra`` is what a refused form had in it."""
    if stop not in STOPS:
        raise Http404
    # What was typed wrongly is shown where it was typed: the form says which part of the stop that is.
    options = options_of(request.POST if request.method == "POST" else request.GET)
    seen = "" if extra else hub.mark  # before anything is asked: what changes meanwhile is drawn by the live view
    scene = make_scene(request.user.firm_id, pk, stop, options, person_id=request.user.pk, extra=extra)
    wrong = extra.get("problems") or extra.get("problem")
    shown = {"scene": scene, "live_query": options.live_query(seen)}
    return render(request, "stops/page.html", shown, status=422 if wrong else 200)


def back_to(request: Asking, tuning: Tuning, **other: str) -> HttpResponse:
    """Return to the stop and the part of it that a form came from; ``other`` names what is to be shown instead."""
    stop = request.POST.get("stop", "adjust")
    address = reverse("stop", args=(tuning.pk, stop if stop in STOPS else "adjust"))
    asked = options_of(request.POST)
    pairs = {"view": asked.view} if asked.view != "balance" else {}
    pairs |= dict(asked.more) | other
    pairs = {k: v for k, v in pairs.items() if v}
    return redirect(f"{address}?{urlencode(pairs)}" if pairs else address)
