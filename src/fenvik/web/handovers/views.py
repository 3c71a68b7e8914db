"""The client's page."""

from datetime import date
from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.utils import timezone

from fenvik.web.handovers.models import Handover
from fenvik.web.handovers.services import frozen_analysis, opened
from fenvik.web.results import pictures
from fenvik.web.results.summary import figures


def tuning_page(kept: dict[str, Any]) -> dict[str, Any]:
    """Return what the page shows of a frozen tuning."""
    found, left = frozen_analysis(kept, "found"), frozen_analysis(kept, "left")
    pair = pictures.Pair(found, left)
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
        "changed": sum(row["found"] != row["left"] for row in kept["settings"]),
        "cooler": (figures(found).get("cct") or 0) - (figures(left).get("cct") or 0) > 150,
    }


@login_not_required
def handover_page(request: HttpRequest, token: str) -> HttpResponse:
    """Show a handover to whoever has its link; a withdrawn, expired or unknown one does not exist."""
    handover = Handover.objects.filter(token=token, withdrawn_at__isnull=True, expires_at__gt=timezone.now()).first()
    if handover is None:
        raise Http404
    if not request.user.is_authenticated:
        opened(handover)
    content = handover.content
    response = render(
        request,
        "handovers/page.html",
        {
            "content": content,
            "on": date.fromisoformat(content["on"]),
            "tunings": [tuning_page(kept) for kept in content["tunings"]],
            "handover": handover,
        },
    )
    response["Referrer-Policy"] = "no-referrer"
    response["X-Robots-Tag"] = "noindex"
    return response
