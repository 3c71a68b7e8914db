"""What groundwork adds to the running of passes: a warm-up watched by a procedure, and a survey
from mode to mode and back to the tuning's own.
"""

import time
from typing import Any

import structlog

from fenvik.core.errors import FenvikError
from fenvik.link.display import NOT_THERE, LinkedDisplay
from fenvik.link.faults import DeviceError
from fenvik.web.controls.values import values_of
from fenvik.web.devices.displays import paired
from fenvik.web.devices.standing import mode_of
from fenvik.web.groundwork.survey import PASSED_OVER, SETTLES_S
from fenvik.web.groundwork.warm import keep_warmth, watching
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose, PassState
from fenvik.web.passes.runner import Runner
from fenvik.web.passes.script import Scripted
from fenvik.web.passes.store import Store
from fenvik.web.passes.turns import Plan
from fenvik.web.visits.models import Tuning

# No such mode or option, none that it takes now, none of this signal: asking once more changes nothing.
REFUSALS = (*NOT_THERE, DeviceError.OUT_OF_RANGE, DeviceError.SIGNAL)
MOST_WORDS = 200  # characters of a reason
log = structlog.get_logger(__name__)


class PassedOverError(FenvikError):
    """A mode or an option that cannot be read: the display refuses it, or does not stay in it."""

    code = "passed_over"


class SurveyRunner(Runner):
    """Runs a survey: over a link each mode or preset is chosen before its patches, and the tuning's own again at the end.

    What the display refuses, or does not stay in, is passed over with the reason; the others are read.
    """

    at: dict[str, Any] | None = None
    needs_first = False  # whether the first place is what all others are held against

    def __init__(self, plan: Plan, store: Store) -> None:
        super().__init__(plan, store)
        self.done |= {i for i, row in enumerate(self.rows) if PASSED_OVER in row["at"]}
        self.next = -1
        self.next = self._following()

    def _come_to_it(self) -> bool:
        at = self.row["at"]
        if at != self.at and ("mode" in at or "control" in at):
            with paired(self._tuning().display, for_page=False) as line:
                self._see_that_it_stayed(line)
                try:
                    self._go_there(line, at)
                except PassedOverError as reason:
                    self._pass_over(at, str(reason))
                    return False
            self.reader.last_shown.clear()
            self._settle(SETTLES_S if self.at is None else 0.0)  # later ones wait by their rows
        self.at = at
        return super()._come_to_it()

    def _tuning(self) -> Tuning:
        tuning: Tuning = Tuning.objects.select_related("display__room__client", "display__link__pairing", "display__menu_map").get(
            pk=self.plan.pass_.tuning_id
        )
        return tuning

    def _settle(self, seconds: float) -> None:
        time.sleep(seconds if self.plan.pass_.settle_s else 0.0)

    def _go_there(self, line: LinkedDisplay, at: dict[str, Any]) -> None:
        """Let the display stand at a place, trying twice: it may still be taking the signal. Raises PassedOverError."""
        for tries_left in (1, 0):
            try:
                self._go(line, at)
                return
            except (DeviceError, PassedOverError) as problem:
                if isinstance(problem, DeviceError) and problem.number not in REFUSALS:
                    raise
                if not tries_left:
                    raise PassedOverError(str(problem)) from problem
                self._settle(SETTLES_S)

    def _go(self, line: LinkedDisplay, at: dict[str, Any]) -> None:
        if "mode" in at:
            choose(line, at["mode"])
        else:
            turn(line, self._tuning().mode_id, at)

    def _see_that_it_stayed(self, line: LinkedDisplay) -> None:
        """Pass over the mode that was read last where the display is in another one by now: nobody knows since when."""
        if self.at is None or "mode" not in self.at:
            return
        stands = line.state().mode
        if stands is not None and stands != self.at["mode"]:
            if self._is_first(self.at):  # it is read again once somebody has seen to it
                for i in self.done & {i for i, row in enumerate(self.rows) if row["at"] == self.at}:
                    self.store.take_back(i)
            self._pass_over(self.at, "The display left it by itself while it was read.")

    def _is_first(self, at: dict[str, Any]) -> bool:
        return self.needs_first and at == self.rows[0]["at"]

    def _pass_over(self, at: dict[str, Any], reason: str) -> None:
        """Leave out a place, whatever was read of it. Raises PassedOverError where nothing can be told without it."""
        log.warning("passed over in a survey", pass_id=self.plan.pass_.pk, place=at["label"], reason=reason)
        if self._is_first(at):
            raise PassedOverError(f"{at['label']}, which the others are held against, cannot be read. {reason}")
        mine = [i for i, row in enumerate(self.rows) if row["at"] == at]
        for i in mine:
            self.rows[i] = self.rows[i] | {"at": at | {PASSED_OVER: reason[:MOST_WORDS]}}
        self.store.amend(self.rows)
        self.done.update(mine)
        self.at = None
        if self.next in self.done:
            self.next = self._following()

    def _finish(self, state: PassState) -> None:
        try:
            if state == PassState.DONE and self.at is not None and "mode" in self.at:
                with paired(self._tuning().display, for_page=False) as line:
                    self._see_that_it_stayed(line)
        except FenvikError as problem:
            log.warning("not seen whether it stayed in its mode", pass_id=self.plan.pass_.pk, problem=str(problem))
        self._back()
        super()._finish(state)

    def _back(self) -> None:
        """Let the display stand as it did. Where it does not hear that, the next pass sees it and says so."""
        first = self.rows[0]["at"] if self.rows else {}
        tuning = self._tuning()
        try:
            if "mode" in first:
                with paired(tuning.display, for_page=False) as line:
                    if own := mode_of(tuning, line.modes()):
                        line.choose(own)
            elif "control" in first and (stood := values_of(tuning).now.get(first["control"])) is not None:
                with paired(tuning.display, for_page=False) as line:
                    line.set(tuning.mode_id, first["control"], stood)
        except FenvikError as problem:
            log.warning("display not put back after a survey", pass_id=self.plan.pass_.pk, problem=str(problem))


def choose(line: LinkedDisplay, mode: str) -> None:
    """Let the display show a mode. Raises PassedOverError where it accepts it and shows another."""
    line.choose(mode)
    stands = line.state().mode
    if stands is not None and stands != mode:
        raise PassedOverError("The display accepts it and shows another mode.")


def turn(line: LinkedDisplay, mode: str, at: dict[str, Any]) -> None:
    """Set a control to what a place has. Raises PassedOverError where it stays elsewhere."""
    stands = line.set(mode, at["control"], at["value"])
    if stands != at["value"]:
        raise PassedOverError(f"The display accepts it and stays at {stands}.")


kinds.runners[PassPurpose.SURVEY] = SurveyRunner
kinds.procedures[PassPurpose.WARM_UP] = Scripted(watching, keep_warmth)
