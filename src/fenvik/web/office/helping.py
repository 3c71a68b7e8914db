"""Help: a page for each stop, the words of the trade, and the way to a first reading."""

from typing import Any

from django.conf import settings
from django.http import Http404, HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from fenvik.web.clients.models import Client, Display
from fenvik.web.devices.models import Device
from fenvik.web.kit.words import having
from fenvik.web.passes.models import Reading
from fenvik.web.people.asking import Asking
from fenvik.web.trail.facts import STOPS
from fenvik.web.visits.models import Tuning, Visit


@require_safe
def stop_help(request: Asking, stop: str) -> HttpResponse:
    """Say what a stop is for, what is done there, and how one knows that it is done."""
    if stop not in STOPS:
        raise Http404
    context = {"stop": stop, "name": STOPS[stop], "body": f"office/help/{stop}.html", "stops": list(STOPS.items())}
    return render(request, "office/help.html", context)


@require_safe
def words(request: Asking) -> HttpResponse:
    """Show the words of the trade, one sentence each."""
    return render(request, "office/words.html", {"glossary": having(""), "stops": list(STOPS.items())})


def start_of(firm_id: int) -> list[dict[str, Any]]:
    """Return what a first reading needs, with what is missing next; empty once something has been read."""
    if Reading.objects.of_firm(firm_id).exists():
        return []
    mine = Device.objects.of_firm(firm_id).filter(removed_at__isnull=True)
    client = Client.objects.of_firm(firm_id).order_by("pk").last()
    visit = Visit.objects.of_firm(firm_id).filter(cancelled_at__isnull=True).order_by("pk").last()
    tuning = Tuning.objects.of_firm(firm_id).order_by("pk").last()
    equipped = tuning is not None and tuning.meter_id is not None and tuning.source_id is not None
    steps: list[dict[str, Any]] = [
        {
            "act": "Say what you measure with", "address": reverse("instruments"),
            "done": mine.filter(role="meter").exists() and mine.filter(role="source").exists(),
            "words": "a meter and a source: over the link, or keyed in by hand without any",
        },
        {
            "act": "Plan a visit", "done": visit is not None,
            "words": "today will do; its client, displays and tunings can be typed there in the same go",
            "address": reverse("new-visit") + (f"?client={client.pk}" if client is not None else ""),
        },
        {
            "act": "Add a tuning", "done": tuning is not None, "words": "one picture mode of one display, with what it aims at",
            "address": reverse("visit", args=(visit.pk,)) if visit is not None else reverse("visits"),
        },
        {
            "act": "Choose the instruments for it", "done": equipped, "words": "usual values for its technology are filled in",
            "address": reverse("stop", args=(tuning.pk, "instruments")) if tuning is not None else reverse("visits"),
        },
        {
            "act": "Read it as found", "done": False, "words": "the first pass; Arrival and Groundwork come before it in earnest",
            "address": reverse("stop", args=(tuning.pk, "found")) if tuning is not None else reverse("visits"),
        },
    ]  # fmt: skip
    following = next(step for step in steps if not step["done"])
    following["next"] = True
    return steps


def walks_of(firm_id: int) -> list[dict[str, Any]]:
    """Return three short walks through the demo; none in earnest, and none of what has been put away or renamed."""
    if not settings.STANDIN_PAGES:
        return []
    known = {t.name: t.pk for t in Tuning.objects.of_firm(firm_id).filter(name__in=("Snug, film night", "Lounge, film"))}
    birch = Display.objects.of_firm(firm_id).filter(room__client__name="Birch Row 4").first()
    made = []
    if "Snug, film night" in known:
        made.append({
            "name": "By hand, an LCD", "act": "Open Snug, film night",
            "address": reverse("tuning", args=(known["Snug, film night"],)),
            "steps": [
                "The stand-ins’ page shows the television and its menu; arrow keys are its remote.",
                "Answer the open checks at Groundwork, read As found, then follow the nudges at Adjust.",
                "Turn what is proposed, and say so with one key. Or choose led by hand: it lists what to turn, and reads.",
            ],
        })  # fmt: skip
    if "Lounge, film" in known:
        made.append({
            "name": "Hands-free, an OLED", "act": "Open Lounge, film", "address": reverse("tuning", args=(known["Lounge, film"],)),
            "steps": [
                "On the stand-ins’ page, let the instruments stand before the OLED.",
                "Pair it at Arrival: it shows a code on its picture.",
                "At Adjust choose hands-free and watch; Stop puts everything back.",
            ],
        })  # fmt: skip
    made.append({
        "name": "Without any link", "act": "Key in a meter", "address": reverse("instruments"),
        "steps": [
            "Tell Fenvik at Instruments which meter and which disc you have.",
            "Plan a visit to " + ("Birch Row 4" if birch is None else str(birch.room.client)) + " and add a tuning.",
            "It says what to show; you type what the meter says: x, y and luminance.",
        ],
    })  # fmt: skip
    return made
