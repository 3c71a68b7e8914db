"""Mistakes that devices make, on purpose: to see what Fenvik does about them."""

import asyncio
import json
import time
from typing import Any

KINDS = {
    "drop": "closes the connection instead of answering",
    "hang": "does not answer at all",
    "late": "answers a minute late",
    "garbage": "answers with something that is not JSON",
    "wrong-shape": "answers with the wrong members",
    "busy": "says that it is warming up",
    "held": "says that another client holds it",
    "too-dark": "says that it is too dark to read",
    "unpaired": "says that the pairing was withdrawn",
    "stuck": "shows the last patch for ever and says nothing",
}
ROLE_OF = {"too-dark": "meter", "unpaired": "display", "stuck": "source"}
LATE_S = 60.0
AFTER_CALLS = 5
LASTS_S = 10.0
SPARED = ("describe", "list")  # a device that cannot even be described could not be taken up in the first place


class Dropped(Exception):
    """The connection is to be closed without an answer."""


class Raw(Exception):
    """These bytes are to be sent instead of an answer."""

    def __init__(self, line: bytes) -> None:
        super().__init__()
        self.line = line


class Fault:
    """A fault of one device: strikes after so many calls, lasts so many real seconds (0: until taken away)."""

    def __init__(self) -> None:
        self.kind = ""
        self._calls_left = 0
        self._lasts_s = 0.0
        self._until = 0.0

    def start(self, kind: str, *, after: int = 0, lasts_s: float = 0.0) -> None:
        """Arm a fault, or take it away with an empty kind."""
        if kind and kind not in KINDS:
            raise ValueError(f"there is no fault {kind}")
        self.kind, self._calls_left, self._lasts_s, self._until = kind, after, lasts_s, 0.0

    @property
    def now(self) -> str:
        """The kind that strikes at this moment, or an empty text."""
        if not self.kind or self._calls_left > 0:
            return ""
        if self._lasts_s and self._until and time.monotonic() > self._until:
            self.kind = ""
        return self.kind

    async def strike(self, method: str) -> tuple[int, str, dict[str, Any]] | None:
        """Do what the fault does to a call; return the refusal that it answers with, if that is what it does."""
        if not self.kind or method in SPARED:
            return None
        if self._calls_left > 0:
            self._calls_left -= 1
            return None
        if self._lasts_s and not self._until:
            self._until = time.monotonic() + self._lasts_s
        kind = self.now
        match kind:
            case "drop":
                raise Dropped
            case "hang":
                while self.now == "hang":
                    await asyncio.sleep(0.1)
                raise Dropped
            case "late":
                await asyncio.sleep(LATE_S)
            case "garbage":
                raise Raw(b'\x07%% 17.3 ~~ {"xyz": \n')
            case "wrong-shape":
                raise Raw(json.dumps({"jsonrpc": "2.0", "id": 0, "result": {"xyz": "bright"}}).encode() + b"\n")
            case "busy":
                return 5, "Warming up.", {"retry_s": 2}
            case "held":
                return 5, "Another client holds this device.", {"retry_s": 5}
            case "too-dark":
                return 6, "Too dark to read.", {"floor": 0.0}
            case "unpaired":
                return 1, "The pairing was withdrawn.", {}
        return None
