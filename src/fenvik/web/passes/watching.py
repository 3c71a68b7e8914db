"""A paired display while its readings are taken: it is seen after each of them that it still stands as the tuning wants it."""

import time
from contextlib import ExitStack
from datetime import UTC, datetime
from typing import Any

import structlog

from fenvik.core.errors import FenvikError
from fenvik.link.display import LinkedDisplay
from fenvik.web.controls.modes import hear_modes
from fenvik.web.controls.telling import take_as_told
from fenvik.web.devices.displays import paired
from fenvik.web.devices.reaching import Line
from fenvik.web.devices.standing import WrongStateError, is_paired, see
from fenvik.web.passes.models import Circumstance, Pass
from fenvik.web.passes.store import Store
from fenvik.web.visits.models import Tuning

log = structlog.get_logger(__name__)
AWAY_S, AWAY_LONGER = 30.0, 20.0  # a display that failed is left alone for so long, or so many times what that took
HEARD_AGAIN_S = 20.0  # how often a pass asks for its controls


class AskedMeanwhileError(FenvikError):
    """A person wants the pass to stop or to pause while the display is waited for."""

    code = "asked_meanwhile"


class Watch:
    """Asks the display of one pass. Nothing that fails there stops a pass: only a display that stands otherwise does."""

    def __init__(self, pass_: Pass, store: Store) -> None:
        self.pass_, self._store = pass_, store
        self._tuning: Tuning | None = None
        self._open = ExitStack()
        self._line: LinkedDisplay | None = None
        self._input: str | None = None  # that it is to show; empty for any, None for the one on which it was read last
        self._not_before = 0.0  # by the clock of this machine, as the next
        self._heard = 0.0  # when its controls were asked for last; 0: not yet

    @property
    def lines(self) -> list[Line]:
        """The line to the display, where it is open."""
        return [line.connection] if (line := self._line) is not None and isinstance(line.connection, Line) else []

    def let_go(self) -> None:
        """Close the line."""
        self._open.close()
        self._line = None

    def begin(self) -> dict[str, Any]:
        """Return how the display stands now that the signal is out, and log what was turned at it; empty where it cannot be asked.

        Raises WrongStateError.
        """
        related = ("display__room__client", "display__menu_map", "display__link__pairing")
        tuning = Tuning.objects.select_related(*related).get(pk=self.pass_.tuning_id)
        self._tuning = tuning if is_paired(tuning.display) else None
        self._not_before = self._heard = 0.0
        # A person may have said that another is meant.
        self._input = "" if Circumstance.objects.filter(pass_of=self.pass_, any_input=True).exists() else None
        return self._asked()

    def after_a_reading(self) -> None:
        """See that it still stands so, and now and then what was turned meanwhile. Raises WrongStateError."""
        self._asked()

    def at_the_end(self) -> None:
        """Log what was turned while it was read. Raises WrongStateError."""
        if self._heard:
            self._heard = 0.0
            self._asked()

    def _asked(self) -> dict[str, Any]:
        tuning = self._tuning
        if tuning is None or time.monotonic() < self._not_before:
            return {}
        begun = time.monotonic()
        try:
            if self._line is None:
                self._line = self._open.enter_context(paired(tuning.display, for_page=False))
                self._line.connection.heed = self._hear
                _, moved = hear_modes(tuning.display, self._line)
                tuning.mode_id = moved.get(tuning.mode_id, tuning.mode_id)
            said = see(tuning, self._line, before=self._input)
            if self._input is None:
                self._input = said["input"]
            if not self._heard or (not self.pass_.repeat and time.monotonic() > self._heard + HEARD_AGAIN_S):
                take_as_told(tuning=tuning, line=self._line, now=datetime.now(UTC), of_pass=self.pass_)
                self._heard = time.monotonic()
        except WrongStateError:
            raise
        except FenvikError as problem:
            self._is_away(problem, time.monotonic() - begun)
            return {}
        return said

    def _hear(self, _: float) -> None:
        asked = self._store.asked()
        if asked.stop or asked.pause:
            raise AskedMeanwhileError("It was not waited for any longer.")

    def _is_away(self, problem: FenvikError, took_s: float) -> None:
        """Leave it alone for a while: the meter still sees the screen. A pairing that was withdrawn is forgotten."""
        told = problem
        try:
            self._open.__exit__(type(problem), problem, None)
        except FenvikError as known:
            told = known
        log.warning("display not asked", pass_id=self.pass_.pk, problem=str(told))
        self._line, self._not_before = None, time.monotonic() + max(AWAY_S, AWAY_LONGER * took_s)
