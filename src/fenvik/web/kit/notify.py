"""Telling every web process that something of a tuning has changed."""

import hashlib
import json

from django.db import connection

CHANNEL = "fenvik"


def payload(tuning_id: int, **facts: int | str) -> str:
    """Return what is sent: the tuning, and what in it."""
    return json.dumps({"tuning": tuning_id, **facts}, separators=(",", ":"))


def mark_of(session_key: str) -> str:
    """Return a mark by which a session is named on the channel, from which its key cannot be had."""
    return hashlib.sha256(session_key.encode()).hexdigest()[:32]


def notify_ended(*, session_key: str = "", person_id: int = 0) -> None:
    """End the live pages of a session, or all of a person's, when the transaction commits."""
    told = {"session": mark_of(session_key)} if session_key else {"person": person_id}
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, json.dumps(told, separators=(",", ":"))])


def notify_screen(screen_id: int, **facts: int) -> None:
    """Tell the page of a pattern screen, and whoever waits for it, when the transaction commits."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT pg_notify(%s, %s)", [CHANNEL, json.dumps({"screen": screen_id, **facts}, separators=(",", ":"))]
        )


def notify(tuning_id: int, **facts: int) -> None:
    """Tell it when the transaction commits."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, payload(tuning_id, **facts)])
