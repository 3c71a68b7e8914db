"""The pattern screen as the source of a pass: asks its page for a patch and waits until the page has drawn it."""

import json
import time
from collections.abc import Sequence
from typing import Any

import psycopg

from fenvik.link.faults import DeviceError, LinkFault
from fenvik.web.kit.database import own_line
from fenvik.web.kit.notify import CHANNEL

DEADLINE_S = 8.0
ASK = """
WITH asked AS (
    UPDATE patterns_screen SET picture = %(picture)s, revision = revision + 1
    WHERE id = %(id)s AND withdrawn_at IS NULL RETURNING id, revision
)
SELECT revision, pg_notify(%(channel)s, json_build_object('screen', id, 'revision', revision)::text) FROM asked
"""


class ScreenSource:
    """Like a source of the link, on a line of its own to the database."""

    def __init__(self, screen_id: int, who: str) -> None:
        self.screen_id, self.who = screen_id, who
        self._line = psycopg.connect(**own_line(), autocommit=True)
        self._line.execute(f"LISTEN {CHANNEL}")

    def close(self) -> None:
        """Let go of the line."""
        self._line.close()

    def signal(
        self, *, format_: str, colorimetry: str, bits: int, range_: str, frame_rate: float, mastering: object = None
    ) -> None:
        """Refuse what a browser cannot send. Raises DeviceError 10."""
        if format_ != "sdr" or bits != 8:
            raise DeviceError(self.who, DeviceError.SIGNAL, "A pattern screen sends 8 bits of SDR.", {"name": format_})

    def patch(
        self,
        rgb: Sequence[int],
        *,
        window: float,
        surround: Sequence[int] | None = None,
        at: tuple[float, float] | None = None,
    ) -> None:
        """Show a patch and return once the page has drawn it. Raises LinkFault where it does not."""
        self._show(
            {
                "kind": "patch",
                "rgb": list(rgb),
                "window": window,
                "surround": list(surround or []),
                "at": list(at or (0.5, 0.5)),
            }
        )

    def chart(self, name: str, options: dict[str, Any] | None = None) -> None:
        """Show a pattern of the library and return once the page has drawn it."""
        self._show({"kind": "pattern", "pattern": name, "options": options or {}})

    def blank(self) -> None:
        """Show black."""
        self._show({"kind": "blank"})

    def _show(self, picture: dict[str, Any]) -> None:
        values = {"id": self.screen_id, "picture": json.dumps(picture), "channel": CHANNEL}
        row = self._line.execute(ASK, values).fetchone()
        if row is None:
            raise DeviceError(self.who, DeviceError.UNKNOWN, "The pattern screen of this visit was withdrawn.", {})
        wanted, end = int(row[0]), time.monotonic() + DEADLINE_S
        while (left := end - time.monotonic()) > 0:
            for note in self._line.notifies(timeout=left, stop_after=1):
                told = json.loads(note.payload)
                if told.get("screen") == self.screen_id and int(told.get("shown", -1)) >= wanted:
                    return
        raise LinkFault("silent", self.who, "its page", seconds=DEADLINE_S)
