"""What runs one pass: show, settle, read, commit, tell; pause, stop, and wait for a device that is away."""

import threading
import time
from contextlib import suppress
from typing import Any

import numpy as np
import structlog
from django.conf import settings

from fenvik.core.errors import FenvikError
from fenvik.session.patience import Patience, passes_by_itself
from fenvik.web.devices.standing import WrongStateError
from fenvik.web.passes.devices import Devices
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose, PassState
from fenvik.web.passes.pace import note_pace
from fenvik.web.passes.person import TakenBackError
from fenvik.web.passes.reader import BlindError, Reader, StuckError
from fenvik.web.passes.script import Heard, Script, place_of
from fenvik.web.passes.services import is_held
from fenvik.web.passes.store import Asked, Store, Taken
from fenvik.web.passes.turns import Plan, Turn
from fenvik.web.passes.watching import Watch

log = structlog.get_logger(__name__)
RETRY_S = 1.0
LOOK_S = 0.2  # how often a waiting pass looks whether it is asked to stop
# Passes whose readings are held against a mode: how the display stands is seen before they begin.
SEEN_FIRST = (
    PassPurpose.FOUND, PassPurpose.CHECK, PassPurpose.LEFT, PassPurpose.ADJUST, PassPurpose.CORRECTION, PassPurpose.WHITES,
    PassPurpose.PANEL,
)  # fmt: skip
stopping = threading.Event()  # the worker is being ended: every pass lets go after the reading in flight


class WorkerEnds(Exception):
    """The worker is ending: the pass stays as it is and goes on with the next worker."""


class Ended(Exception):
    """The pass has been paused or stopped by a person."""


class Runner:
    """Runs one pass."""

    def __init__(self, plan: Plan, store: Store) -> None:
        self.plan, self.store = plan, store
        self.devices = Devices(plan.pass_, store, self._heed)
        self.reader = Reader(self.devices, store)
        self.watch = Watch(plan.pass_, store)
        self.taken, self.done, self.rows = plan.taken, plan.done, plan.rows
        self.next = -1
        self.next = self._following()
        self.last_read: float | None = None  # when the reading before was begun
        self.patience = Patience(settings.DEVICE_PATIENCE_S)
        scripted = kinds.procedures.get(plan.pass_.purpose)
        self.script = None if scripted is None else Script(plan.pass_, scripted)

    def _following(self) -> int:
        """Return the index of the first patch that is still to be read."""
        after = next((i for i in range(self.next + 1, len(self.rows)) if i not in self.done), None)
        if after is not None:
            return after
        return next((i for i in range(len(self.rows)) if i not in self.done), len(self.rows))

    def let_go(self) -> None:
        """Close the connections."""
        self.devices.let_go()
        self.watch.let_go()

    def run(self) -> None:
        """Go through the patches; a failing device is waited for."""
        try:
            self._heed(self.store.asked())
            while True:
                try:
                    self._connect()
                    self._patches()
                    break
                except FenvikError as problem:
                    self.let_go()
                    log.warning("device failed", pass_id=self.plan.pass_.pk, problem=str(problem))
                    self._wait_for_device(problem)
            self._finish(PassState.DONE)
        except Ended:
            return

    def _heed(self, asked: Asked) -> None:
        if asked.patches is not None:
            self.rows = asked.patches
        if asked.stop:
            self._finish(PassState.STOPPED)
            raise Ended
        if asked.pause:
            self._pause(as_asked=True)
        if stopping.is_set():
            raise WorkerEnds

    def _pause(self, reason: str = "", *, as_asked: bool = False) -> None:
        """Pause, and end with it; where a person has asked for something else meanwhile, heed that instead."""
        if self.store.pause(reason, as_asked=as_asked):
            raise Ended
        self._heed(self.store.asked())

    def _finish(self, state: PassState) -> None:
        with suppress(WrongStateError):  # it was right after the last reading
            if self.taken > 1:
                self.watch.at_the_end()
        self.let_go()
        note_pace(self.plan.pass_.pk)
        # The summary first: whoever hears that the pass has ended finds it there.
        kinds.ended(self.plan.pass_.pk)
        self.store.set_state(state)

    @property
    def row(self) -> dict[str, Any]:
        """The patch that is read now, as it is stored."""
        return self.rows[self.next]

    @property
    def turn(self) -> Turn:
        """Whose turn it is."""
        return Turn(self.row, self.next, self.taken)

    def _lines(self) -> list[Any]:
        """The lines to devices that are open."""
        return [*self.devices.lines, *self.watch.lines]

    def _connect(self) -> None:
        self.devices.see_networks(self._lines())
        if self.devices.open_source():
            self._see_the_display()
        self.devices.open_meter(self.turn if self.next < len(self.rows) else None)

    def _see_the_display(self) -> None:
        """See that a paired display stands as the tuning wants it, once the signal is out; else pause with what does not fit."""
        if self.plan.pass_.purpose not in SEEN_FIRST:
            return
        try:
            said = self.watch.begin()
        except WrongStateError as clash:
            self._stands_otherwise(clash, "Nothing was read in it.")
            return
        if said:
            self.store.note_state(said)

    def _stands_otherwise(self, clash: WrongStateError, so: str) -> None:
        self.store.note_state({}, clash.mend)
        self._pause(f"{clash} {so} Set that right, then go on.")

    def _patches(self) -> None:
        pass_ = self.plan.pass_
        shown: Any = None
        if self.script is not None and self._is_over(self.script):
            return
        while self.next < len(self.rows):
            if not self._come_to_it():
                continue
            self._connect()
            if self.row.get("wait_s") and self.last_read is not None:
                self._wait_until(self.last_read + float(self.row["wait_s"]))
            # What was typed while nobody held the pass is not shown anew for it, and the source that was opened again shows black.
            is_there = not self.reader.was_typed(self.turn)
            try:
                taken = self._read(show=self.turn.look != shown)
            except TakenBackError:
                self.next, shown = max(self.next - 1, 0), None
                self.done.discard(self.next)
                self.store.take_back(self.next)
                continue
            try:
                self.watch.after_a_reading()
            except WrongStateError as clash:
                self._stands_otherwise(clash, "What was being read then was thrown away.")
                shown = None
                continue
            shown, self.last_read = self.turn.look if is_there else None, taken.started_at.timestamp()
            asked = self.store.add(taken)
            self._tell_the_script(taken)
            self.taken += 1
            # Only a reading shows that the device is back: until then the person sees the reason.
            if self._came_through():
                self.store.set_state(PassState.RUNNING)
            if not pass_.repeat:
                self.done.add(self.next)
                self.next = self._following()
            if self.script is not None and self._is_over(self.script):
                return
            self._heed(asked)
            wait_s = self.script.wait_s if self.script is not None else pass_.interval_s if pass_.repeat else 0.0
            if wait_s:
                self._wait_until(taken.started_at.timestamp() + wait_s)

    def _come_to_it(self) -> bool:
        """Do what comes before a patch: let its procedure come to it, a person do what is asked. Return whether it can be read."""
        if self.script is not None:
            self._be_led(self.script)
        if self.row.get("hold") and not is_held(self.plan.pass_.pk, self.next):
            self._pause(str(self.row["hold"]))
        return True

    def _be_led(self, script: Script) -> None:
        """Lead the procedure to the patch that is next, and let a person do what it asks. Raises OtherwiseError."""
        self._is_over(script)
        script.see_that_it_wants(self.rows)
        if script.ask and not is_held(self.plan.pass_.pk, self.next):
            self._pause(script.ask)

    def _is_over(self, script: Script) -> bool:
        """Lead the procedure as far as has been read; return whether it wants nothing more. Raises OtherwiseError."""
        script.lead(place_of(self.plan.pass_, self.taken, self.next), self.rows)
        return script.is_over

    def _tell_the_script(self, taken: Taken) -> None:
        """Let the procedure hear of a reading that is stored."""
        if self.script is None:
            return
        matrix = self.plan.pass_.matrix
        xyz = np.array(taken.xyz) if matrix is None else matrix @ np.array(taken.xyz)
        self.script.heard[place_of(self.plan.pass_, self.taken, taken.index)] = Heard(xyz, taken.started_at)

    def _wait_until(self, moment: float) -> None:
        """Wait by this machine's own clock, hearing meanwhile what is asked."""
        while time.time() < moment:
            time.sleep(max(min(LOOK_S, moment - time.time()), 0.0))
            self._heed(self.store.asked())

    def _read(self, *, show: bool) -> Taken:
        """Read the patch whose turn it is. Raises StuckError, BlindError, LinkFault, DeviceError, TakenBackError."""
        turn = self.turn
        taken = self.reader.read(turn, self.average_for(turn), show=show)
        self.reader.see_that_it_lives(turn, taken)
        return taken

    def average_for(self, turn: Turn) -> int:
        """Return how many averages a patch is read with."""
        return self.plan.pass_.average

    def _came_through(self) -> bool:
        """Note that something has come through; return whether that is to be told."""
        late, self.devices.is_overdue = self.devices.is_overdue, False
        return self.patience.came_through() or late

    def _wait_for_device(self, problem: FenvikError) -> None:
        """Wait until the device may be tried again; when patience ends, pause with the reason."""
        if not passes_by_itself(problem, StuckError, BlindError):
            self._pause(str(problem))
        self.store.set_state(PassState.WAITING, str(problem))
        self.patience.failed()
        while not self.patience.is_over:
            again = time.monotonic() + RETRY_S
            while time.monotonic() < again:
                self._heed(self.store.asked())
                time.sleep(LOOK_S)
            try:
                self._connect()
            except FenvikError as still:
                self.let_go()
                problem = still
                continue
            return
        self._pause(str(problem))
