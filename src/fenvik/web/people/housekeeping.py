"""What is swept away once an hour: sessions that have ended, forms that were sent long ago, old tries to sign in."""

from datetime import datetime, timedelta

from axes.models import AccessAttempt, AccessLog
from django.contrib.sessions.models import Session

from fenvik.web.kit.models import Sent
from fenvik.web.people.models import Link, SignedIn

SENT_FOR, TRIES_FOR, ENTRIES_FOR = timedelta(days=2), timedelta(days=1), timedelta(days=40)


def sweep(now: datetime) -> int:
    """Sweep, and return how many rows went."""
    gone = 0
    for rows in (
        Session.objects.filter(expire_date__lt=now),
        SignedIn.objects.exclude(session_key__in=Session.objects.values("session_key")),
        Sent.objects.filter(at__lt=now - SENT_FOR),
        AccessAttempt.objects.filter(attempt_time__lt=now - TRIES_FOR),
        AccessLog.objects.filter(attempt_time__lt=now - ENTRIES_FOR),
        Link.objects.filter(until__lt=now - TRIES_FOR),
    ):
        gone += rows.delete()[0]
    return gone
