"""The client's page."""

from datetime import date, datetime
from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.utils import timezone

from fenvik.web.handovers.beside import handed
from fenvik.web.handovers.freezing import frozen_analysis
from fenvik.web.handovers.models import Handover
from fenvik.web.handovers.services import opened
from fenvik.web.people.zones import in_zone_of
from fenvik.web.results import pictures
from fenvik.web.results.parts import Pair
from fenvik.web.results.summary import figures


def tuning_page(kept: dict[str, Any]) -> dict[str, Any]:
    """Return what the page shows of a frozen tuning."""
    found, left = frozen_analysis(kept, "found"), frozen_analysis(kept, "left")
    pair = Pair(found, left)
    groups: dict[str, list[dict[str, Any]]] = {}
    for row in kept["settings"]:
        groups.setdefault(row["group"], []).append(row | {"changed": row["found"] != row["left"]})
    return {
        **kept,
        "before": figures(found),
        "after": figures(left),
        "balance": pictures.draw("balance", pair),
        "colours": pictures.draw("colours", pair),
        "errors": pictures.draw("errors", pair),
        "groups": groups,
        "lacks": [(words, kept[w]["lacks"]) for w, words in (("found", "As found"), ("left", "As left")) if kept[w].get("lacks")],
        "through": _through(kept["left"]),
        "changed": sum(row["found"] != row["left"] for row in kept["settings"]),
        "cooler": (figures(found).get("cct") or 0) - (figures(left).get("cct") or 0) > 150,
    }


def measured_on(content: dict[str, Any]) -> list[date]:
    """Return the days on which what was left was read, by the readings' own time."""
    return sorted({timezone.localtime(datetime.fromisoformat(kept["left"]["at"])).date() for kept in content["tunings"]})


def _through(left: dict[str, Any]) -> str:
    """Return what a frozen pass was looked at through, in words."""
    made = left.get("correction")
    if made is not None:
        return f"corrected by {made['reference']}"
    return "itself a reference" if left["meter"]["kind"] == "spectroradiometer" else "uncorrected"


@login_not_required
def handover_page(request: HttpRequest, token: str) -> HttpResponse:
    """Show a handover to whoever has its link; a withdrawn, expired or unknown one does not exist."""
    known = Handover.objects.select_related("visit").filter(
        token=token, withdrawn_at__isnull=True, visit__put_away_at__isnull=True
    )
    handover = known.filter(expires_at__gt=timezone.now()).first()
    if handover is None:
        raise Http404
    if not request.user.is_authenticated:
        opened(handover)
    # Told in the time of the firm that made it, whoever looks.
    with in_zone_of(handover.visit.firm_id):
        return _page(request, handover)


def _page(request: HttpRequest, handover: Handover) -> HttpResponse:
    content = handover.content
    tunings = [tuning_page(kept) for kept in content["tunings"]]
    response = render(
        request,
        "handovers/page.html",
        {
            "content": content,
            "days": measured_on(content),
            "tunings": tunings,
            "beside": handed(tunings),
            "handover": handover,
        },
    )
    response["Referrer-Policy"] = "no-referrer"
    response["X-Robots-Tag"] = "noindex"
    return response
