"""When somebody was last there, and when somebody will be: of clients and displays, by their visits."""

from datetime import date
from typing import Any

from django.db.models import Max, Min, Q


def last_and_coming(visits: str, today: date) -> dict[str, Any]:
    """Return annotations ``last`` (up to today) and ``coming`` (after it) by the path to its visits; cancelled ones are none."""
    held = Q(**{f"{visits}__put_away_at__isnull": True, f"{visits}__cancelled_at__isnull": True})
    return {
        "last": Max(f"{visits}__on", filter=held & Q(**{f"{visits}__on__lte": today})),
        "coming": Min(f"{visits}__on", filter=held & Q(**{f"{visits}__on__gt": today})),
    }
