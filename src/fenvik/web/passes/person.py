"""A person as a source or a meter of a pass: asked on the page to show a patch, or to type what a meter says."""

import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from typing import Any

from django.conf import settings

from fenvik.core.signal.patches import Patch
from fenvik.link.devices import MeterReading
from fenvik.link.faults import DeviceError
from fenvik.web.passes.store import Asked, Store

LEAST_WAIT_S = 0.01


class TakenBackError(Exception):
    """The person wants the patch before this one read again."""


class ParkedError(Exception):
    """The pass has been let go of until the person answers."""


class Person:
    """Asks on the page of the tuning, one thing at a time, and waits for the answer."""

    def __init__(self, store: Store, heed: Callable[[Asked], None]) -> None:
        self._store, self._heed = store, heed

    def asked(self, kind: str, patch: Patch, *, index: int, taken: int, by: str) -> dict[str, Any]:
        """Ask, and return the answer. Raises TakenBackError, ParkedError, and whatever heeding raises.

        A person may take an hour, and a worker has other passes: it lets go of this one, and the answer brings it back.
        What is asked has the same number after a worker has died: an answer that was on its way then still counts.
        """
        number = f"{kind}-{index}-{taken}"
        self._store.ask(
            {
                "n": number, "kind": kind, "index": index, "by": by, "label": patch.label, "rgb": list(patch.rgb),
                "percent": list(patch.percent), "at": datetime.now(UTC).isoformat(),
            }
        )  # fmt: skip
        end = time.monotonic() + settings.KEYED_LINGER_S
        with self._store.listening() as wait:
            while True:
                asked = self._store.asked()
                self._heed(asked)
                if asked.answer is not None and asked.answer.get("n") == number:
                    if asked.answer.get("back"):
                        raise TakenBackError
                    return asked.answer
                if time.monotonic() > end and self._store.park(number):
                    raise ParkedError
                wait(max(end - time.monotonic(), LEAST_WAIT_S))


Ask = Callable[[str], dict[str, Any]]


class KeyedSource:
    """A person who shows the patch from any disc, and says so. With a keyed meter the value alone says it."""

    def __init__(self, ask: Ask, *, says_by_value: Callable[[], bool]) -> None:
        self._ask, self._says_by_value = ask, says_by_value

    def close(self) -> None:
        """Nothing is open."""

    def signal(self, **_: object) -> None:
        """The person's disc has the signal that it has."""

    def patch(self, rgb: Sequence[int], **_: object) -> None:
        """Ask for the patch and return once the person says that it is there."""
        if not self._says_by_value():
            self._ask("show")

    def chart(self, name: str, options: dict[str, Any] | None = None) -> None:
        """Ask for it as for a patch: its label says what it is."""
        self.patch(())

    def blank(self) -> None:
        """Nothing is asked for between passes."""


class KeyedMeter:
    """A person who types what a meter says."""

    def __init__(self, ask: Ask, who: str) -> None:
        self._ask, self.who = ask, who

    def close(self) -> None:
        """Nothing is open."""

    def read(self, **_: object) -> MeterReading:
        """Ask for the value. Raises DeviceError 6 where the person says that it was too dark."""
        answer = self._ask("value")
        xyz = answer.get("xyz")
        if xyz is None:
            raise DeviceError(self.who, DeviceError.TOO_DARK, "Too dark to read.", {})
        return MeterReading((float(xyz[0]), float(xyz[1]), float(xyz[2])), 0.0, time.monotonic())
