"""Wrong tries to sign in: counted by name and address together, by address, and by name; nobody can lock another out for long.

Eight wrong tries of a name from an address close that pair, forty from an address that address, eighty of a name that name, each
for a quarter of an hour. Whoever has signed in from an address within a month is not kept out there by what others try elsewhere.
"""

from datetime import timedelta
from typing import Any

from axes.attempts import get_cool_off_threshold
from axes.handlers.database import AxesDatabaseHandler
from axes.helpers import get_client_username
from axes.models import AccessAttempt, AccessLog
from django.db.models import Sum
from django.http import HttpRequest
from django.utils import timezone

ADDRESS_AS_ONE, NAME_AS_ONE = 5, 10  # tries of an address, of a name, that count as one of the two together
KNOWN_FOR = timedelta(days=30)


def address_of(request: HttpRequest) -> str | None:
    """Return the client's address: the server's own word, which believes named proxies only."""
    return request.META.get("REMOTE_ADDR") or None


class Tries(AxesDatabaseHandler):  # type: ignore[misc]
    """Counts what closes a sign-in."""

    def get_failures(self, request: HttpRequest, credentials: dict[str, Any] | None = None) -> int:
        """Return the wrong tries that count against this one."""
        name, address = get_client_username(request, credentials), request.axes_ip_address  # type: ignore[attr-defined]
        recent = AccessAttempt.objects.filter(attempt_time__gte=get_cool_off_threshold(request))

        def count(**of: Any) -> int:
            return int(recent.filter(**of).aggregate(n=Sum("failures_since_start"))["n"] or 0)

        both, by_address = count(username=name, ip_address=address), count(ip_address=address) // ADDRESS_AS_ONE
        since = timezone.now() - KNOWN_FOR
        known = AccessLog.objects.filter(username=name, ip_address=address, attempt_time__gte=since).exists()
        return max(both, by_address, 0 if known else count(username=name) // NAME_AS_ONE)
