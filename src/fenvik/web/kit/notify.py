"""Telling every web process that something of a tuning has changed."""

import json

from django.db import connection

CHANNEL = "fenvik"


def payload(tuning_id: int, **facts: int) -> str:
    """Return what is sent: the tuning, and what in it."""
    return json.dumps({"tuning": tuning_id, **facts}, separators=(",", ":"))


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
