"""Finding anything: what a firm has, and what Fenvik knows: checks, targets, patterns, words."""

from collections.abc import Iterable
from typing import Any

from django.db.models import Q, QuerySet
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from fenvik.core.groundwork import CHECKS
from fenvik.core.signal.lists import LISTS
from fenvik.core.signal.patterns import PATTERNS
from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.controls.models import MenuMap
from fenvik.web.corrections.models import Correction
from fenvik.web.devices.models import Device
from fenvik.web.kit.words import having
from fenvik.web.passes.models import PatchList
from fenvik.web.people.asking import Asking
from fenvik.web.visits.aimed import TARGET_LABELS
from fenvik.web.visits.models import Tuning, Visit

MOST = 12


def _having(words: str, *fields: str) -> Q:
    """Return what wants every word, each in any of the fields."""
    wanted = Q()
    for word in words.split()[:6]:
        any_field = Q()
        for name in fields:
            any_field |= Q(**{f"{name}__icontains": word})
        wanted &= any_field
    return wanted


def _tunings_having(firm_id: int, words: str) -> Q:
    """Return what wants every word in a tuning, its display or its client; those two are looked up on their own, being few."""
    wanted = Q()
    for word in words.split()[:6]:
        displays = Display.objects.of_firm(firm_id).filter(_having(word, "maker", "model")).values("pk")
        visits = Visit.objects.of_firm(firm_id).filter(client__name__icontains=word).values("pk")
        own = Q(name__icontains=word) | Q(picture_mode__icontains=word) | Q(notes__icontains=word)
        wanted &= own | Q(display__in=displays) | Q(visit__in=visits)
    return wanted


def found(firm_id: int, words: str) -> dict[str, Any]:
    """Return what a firm has with all these words in it: a number of queries that does not grow."""
    clients: QuerySet[Any] = Client.objects.of_firm(firm_id).filter(
        _having(words, "name", "contact", "phone", "email", "address", "notes")
    )
    rooms: QuerySet[Any] = Room.objects.of_firm(firm_id).filter(_having(words, "name", "surround", "notes", "client__name"))
    displays: QuerySet[Any] = Display.objects.of_firm(firm_id).filter(
        _having(words, "maker", "model", "serial", "notes", "room__name", "room__client__name")
        | Q(
            pk__in=Display.objects.of_firm(firm_id).filter(_having(words, "feeds__through", "feeds__what")).values("pk")
        )
    )
    tunings: QuerySet[Any] = Tuning.objects.of_firm(firm_id).filter(_tunings_having(firm_id, words))
    visits: QuerySet[Any] = Visit.objects.of_firm(firm_id).filter(_having(words, "notes"))
    lower = words.lower().split()
    maps = MenuMap.objects.of_firm(firm_id).filter(controls__icontains=lower[0]).only("maker", "model", "controls")[:40]
    controls = [
        {"label": c["label"], "group": c["group"], "map": m}
        for m in maps
        for c in m.controls
        if all(word in f"{c['label']} {c.get('role') or ''} {m.maker} {m.model}".lower() for word in lower)
    ]
    return {
        "tunings": tunings.select_related("visit__client", "display").order_by("-pk")[:MOST],
        "displays": displays.select_related("room__client").order_by("maker", "model")[:MOST],
        "rooms": rooms.select_related("client").order_by("name")[:MOST],
        "clients": clients.order_by("name")[:MOST],
        "visits": visits.select_related("client").order_by("-on")[:MOST],
        "controls": controls[:MOST],
        "devices": Device.objects.of_firm(firm_id)
        .filter(_having(words, "name", "serial", "role"), removed_at__isnull=True, screen__isnull=True)
        .order_by("role", "name")[:MOST],
        "corrections": Correction.objects.of_firm(firm_id)
        .filter(_having(words, "meter_name", "reference_name", "meter_serial", "maker", "model", "serial", "technology"))
        .filter(withdrawn_at__isnull=True)
        .order_by("-made_at")[:MOST],
        "lists": PatchList.objects.of_firm(firm_id).filter(_having(words, "name")).order_by("name")[:MOST],
    }


def known_to_all(words: str, tuning: int | None) -> dict[str, list[dict[str, str]]]:
    """Return checks, targets and ready lists with these words in them, with the page of a tuning where each is used."""
    lower = words.lower().split()

    def those(rows: Iterable[tuple[str, str]], stop: str, view: str = "") -> list[dict[str, str]]:
        at = "" if tuning is None else reverse("stop", args=(tuning, stop)) + view
        made = [{"name": n, "words": w, "address": at} for n, w in rows if all(part in f"{n} {w}".lower() for part in lower)]
        return made[:MOST]

    return {
        "checks": those(((c.name, c.why) for c in CHECKS), "groundwork"),
        "targets": those(((label, name) for name, label in TARGET_LABELS.items()), "arrival", "?view=place"),
        "ready": those(((made.name, made.why) for made in LISTS.values()), "found", "?view=lists"),
    }


def patterns_for(words: str, tuning: int | None) -> list[dict[str, str]]:
    """Return the patterns that have these words in their names or purposes, with where they are shown."""
    lower = words.lower().split()
    at = "" if tuning is None else reverse("stop", args=(tuning, "groundwork"))
    return [
        {"name": p.name, "purpose": p.purpose, "address": f"{at}?view=patterns&pattern={p.id}" if at else ""}
        for p in PATTERNS.values()
        if all(word in f"{p.name} {p.purpose}".lower() for word in lower)
    ][:MOST]


@require_safe
def find(request: Asking) -> HttpResponse:
    """Find anything."""
    words = request.GET.get("q", "").replace("\0", "").strip()[:80]
    last = request.GET.get("tuning", "")
    context: dict[str, Any] = {"words": words, "tuning": last if last.isdigit() else "", "autofocus": not words}
    if words:
        context["found"] = {name: list(rows) for name, rows in found(request.user.firm_id, words).items()}
        newest = (
            Tuning.objects.of_firm(request.user.firm_id).filter(pk=int(last)).first()
            if context["tuning"] and len(last) < 15
            else None
        )
        newest = newest or Tuning.objects.of_firm(request.user.firm_id).order_by("-pk").first()
        context["patterns"] = patterns_for(words, None if newest is None else newest.pk)
        at = None if newest is None else newest.pk
        context |= known_to_all(words, at)
        context["meanings"] = having(words)[:MOST]
        told = ("patterns", "checks", "targets", "ready", "meanings")
        context["nothing"] = not any(context["found"].values()) and not any(context[name] for name in told)
    return render(request, "office/find.html", context)
