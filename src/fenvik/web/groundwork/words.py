"""Sentences about the warm-up."""

from datetime import datetime
from typing import Any

from django.utils import timezone
from django.utils.dateparse import parse_datetime

from fenvik.web.passes.models import Circumstance


def clock(moment: str | None) -> str:
    """Return the local time of an ISO moment."""
    at = parse_datetime(moment) if moment else None
    return "" if at is None else f"{timezone.localtime(at):%H:%M}"


def when(moment: str) -> str:
    """Return the local time of an ISO moment, or its day where that is not today."""
    at = parse_datetime(moment)
    if at is None:
        return "before"
    day = timezone.localtime(at).date()
    return f"at {clock(moment)}" if day == timezone.localdate() else f"on {day.day} {day:%B %Y}"


def minutes_words(minutes: float | None) -> str:
    """Return minutes still to come as a person says them."""
    if minutes is None:
        return "too early to say how long"
    if minutes < 1.5:
        return "1 more minute"
    return f"{minutes:.0f} more minutes" if minutes < 90 else "more than an hour"


def warm_up_fact(passes: list[Any], now: datetime) -> str:
    """Return the trail's words on the warm-up of a tuning, or an empty text where it was not watched."""
    newest = next((p for p in passes if p.purpose == "warm-up"), None)
    if newest is None:
        return ""
    told = newest.summary or {}
    if told.get("settled_at"):
        return f"settled at {clock(told['settled_at'])}"
    words = minutes_words(told.get("minutes_left"))
    return f"warm-up: {words}" if newest.is_open else f"warm-up left early: {words}"


def warmth_words(known: Circumstance | None) -> str:
    """Return how warm the display was when a pass began; empty where nothing is remembered."""
    if known is None or known.warm_up_watched is None:
        return ""
    if not known.warm_up_watched:
        return "The warm-up had not been watched."
    if known.settled_at is not None:
        return f"The display had settled at {timezone.localtime(known.settled_at):%H:%M}."
    share = known.remaining_y
    more = f"; white was still to rise by {abs(share) * 100:.1f} %" if share is not None else ""
    return f"It was measured before the display had settled ({minutes_words(known.minutes_left)}{more})."
