"""A pass whose readings a procedure asks for: it is led by what has been read, and sent it again after an end."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from fenvik.core.procedures.steps import Ask, Clock, Keep, Procedure, Read, Step, Wait, words_of
from fenvik.core.types import Floats
from fenvik.web.passes.models import Pass, Reading
from fenvik.web.passes.refusals import OtherwiseError


@dataclass(frozen=True)
class Scripted:
    """``begin`` makes the procedure of a pass; ``keep`` keeps what has come out so far, from a reading of that moment on."""

    begin: Callable[[Pass], Procedure[Any]]
    keep: Callable[[int, Any, datetime], None]


@dataclass(frozen=True)
class Heard:
    """What a procedure is sent of a reading: XYZ (3,) as that meter is to be seen, in cd/m², and when it was begun."""

    xyz: Floats
    at: datetime


class Script:
    """A procedure at the readings of its pass: ``read`` is what it wants next, None once it has ended.

    ``ask``: what a person is to do before; ``wait_s``: how long after the reading before.
    """

    def __init__(self, pass_: Pass, scripted: Scripted) -> None:
        self.pass_, self.scripted = pass_, scripted
        self.heard = {place_of(pass_, i, row.index): heard(row) for i, row in enumerate(_readings(pass_))}
        self._out: list[Any] = []
        self.read: Read | None = None
        self._begin()

    @property
    def is_over(self) -> bool:
        """Whether it wants nothing more."""
        return self.read is None

    def lead(self, place: int, rows: Sequence[dict[str, Any]]) -> None:
        """Lead it to a place in its readings, from the beginning where it is beyond it, and keep what came out last.

        ``rows``: the patches of its pass. Raises OtherwiseError where it wants another one than was read.
        """
        if self.at > place:
            self._begin()
        while self.at < place and self.at in self.heard and not (self.is_over and self.pass_.repeat):
            self.see_that_it_wants(rows)
            said = self.heard[self.at]
            self.at += 1
            self._go_on((np.zeros(3), said.xyz), said.at)
        # What came out before was kept when it did: only what follows the last reading may be missing.
        for what in self._out:
            self.scripted.keep(self.pass_.pk, what, self.heard[self.at - 1].at)
        self._out = []

    def see_that_it_wants(self, rows: Sequence[dict[str, Any]]) -> None:
        """Raise OtherwiseError where the patch at its place is not the one that it wants next."""
        row = rows[0 if self.pass_.repeat else self.at]
        red, green, blue = (float(value) for value in row["percent"])
        stored = Read((red, green, blue), "" if self.pass_.reference is None else row["by"])
        if self.read != stored:
            raise OtherwiseError(self.at, words_of(stored), "read nothing more" if self.read is None else words_of(self.read))

    def _begin(self) -> None:
        self.procedure, self.at = self.scripted.begin(self.pass_), 0
        self._go_on(None, None)

    def _go_on(self, came: Any, at: datetime | None) -> None:
        """Send it what came, and go on until it wants a reading."""
        self.read, self.ask, self.wait_s, self._out = None, "", 0.0, []
        try:
            while True:
                step: Step = self.procedure.send(came)
                came = None
                match step:
                    case Read():
                        self.read = step
                        return
                    case Ask(words):
                        self.ask, came = words, True  # whoever reads on has done as was asked
                    case Wait(seconds):
                        self.wait_s = seconds
                    case Clock():
                        came = 0.0 if at is None else at.timestamp()
                    case Keep(what):
                        self._out.append(what)
        except StopIteration:
            return


def place_of(pass_: Pass, number: int, index: int) -> int:
    """Return which reading of a procedure the so-manieth of a pass is, of the patch at an index of its list."""
    return number if pass_.repeat else index


def heard(row: Reading) -> Heard:
    """Return what a procedure is sent of a reading that is stored."""
    return Heard(np.array(row.seen), row.started_at)


def _readings(pass_: Pass) -> list[Reading]:
    rows = list(pass_.readings.order_by("id"))
    for row in rows:
        row.pass_of = pass_
    return rows
