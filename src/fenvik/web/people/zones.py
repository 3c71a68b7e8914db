"""The time zone of a firm: what it is shown is told in it, and days begin by it."""

import time
import zoneinfo
from collections.abc import Callable
from contextlib import AbstractContextManager
from datetime import tzinfo

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from fenvik.web.people.models import Firm

KEPT_S = 5.0  # so long a process does without asking again
_kept: dict[int, tuple[float, tzinfo]] = {}


def zone_of(firm_id: int) -> tzinfo:
    """Return a firm's time zone: its own, else the installation's."""
    at, zone = _kept.get(firm_id, (0.0, None))
    if zone is None or time.monotonic() > at + KEPT_S:
        name = Firm.objects.filter(pk=firm_id).values_list("time_zone", flat=True).first()
        zone = zoneinfo.ZoneInfo(name or settings.TIME_ZONE)
        _kept[firm_id] = time.monotonic(), zone
    return zone


def forget() -> None:
    """Ask anew: a zone was changed, or in tests the whole database."""
    _kept.clear()


def in_zone_of(firm_id: int) -> AbstractContextManager[None]:
    """Tell times in a firm's zone while the block runs."""
    return timezone.override(zone_of(firm_id))


class ZoneMiddleware:
    """Answers in the zone of the firm of whoever asks."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Answer a request."""
        if not request.user.is_authenticated:
            return self.get_response(request)
        with in_zone_of(request.user.firm_id):
            return self.get_response(request)
