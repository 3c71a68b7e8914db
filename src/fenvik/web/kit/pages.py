"""Pages for what is not there, is not allowed, or has failed."""

from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


@login_not_required
def not_there(request: HttpRequest, exception: Any = None) -> HttpResponse:
    """Say that there is nothing here, or nothing of this firm's."""
    return render(request, "kit/not_there.html", status=404)


@login_not_required
def own_mistake(request: HttpRequest) -> HttpResponse:
    """Say that Fenvik itself failed; needs no database."""
    return render(request, "kit/own_mistake.html", {"mark": getattr(request, "mark", "")}, status=500)
