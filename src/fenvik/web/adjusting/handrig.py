"""The rig of a run that leads a person's hand: what is to be set is a list, entered on the display with its own remote."""

from dataclasses import dataclass
from typing import Any

from fenvik.core.procedures.steps import Fraction, Look, Set, Standing
from fenvik.core.types import Floats
from fenvik.web.adjusting import led
from fenvik.web.adjusting.lists import row_of
from fenvik.web.adjusting.rig import Hands, Rig

TO_TURN = "What is listed waits to be entered on the display, with its remote."


@dataclass(frozen=True)
class Wanted:
    """A control that is to be set, with the number of the step that wants it."""

    step: int
    control: str
    value: Any


class HandRig(Rig):
    """Reads by itself and lets a person set.

    Sets are gathered until something is read: then they are one list, and the run lets go of its worker until that is entered. What
    a control then really stands at is what counts, entered or given up; until then the step counts as not done, so that a run
    that is led again asks for just these.
    """

    def __init__(self, runner: Hands) -> None:
        super().__init__(runner)
        self._wanted: list[Wanted] = []
        self._for = ""  # what is done with them
        self._came: dict[str, Any] = {}  # of what is gone through: where the controls really came to, known once it was read on

    def begin(self) -> None:
        """Nothing is chosen: the person has the display in its mode."""

    def go_live(self) -> None:
        """Go on from what is stored; where the controls stand is what was entered."""
        if not self.runner.is_live:
            self.runner.is_live = True
            self.runner.rows = self.runner.rows[: len(self._readings)]

    def look(self) -> Standing:
        """Return where the controls stand as it was entered and logged: a person may have turned something of their own accord."""
        kept = self._again(Look())
        if kept is not None:
            told: dict[str, Any] = kept.came or {}
            return Standing(told.get("values", {}), left_mode=False)
        self.go_live()
        self.record.begin(Look())
        stands = led.stands(self.runner.plan.pass_.tuning_id) | {wanted.control: wanted.value for wanted in self._wanted}
        standing = Standing({name: stands[name] for name in self._by if name in stands}, left_mode=False)
        self.record.was_looked(standing)
        return standing

    def set(self, control: str, value: Any) -> Any:
        """Ask for a control to be set, before anything else is read; what was set before is gone through."""
        step = Set(control, value)
        kept = self._again(step)
        if kept is not None:
            self._came[control] = kept.came
            return kept.asked["value"]  # as it was then
        self.go_live()
        self.record.begin(step)
        self._for = self._for if self._wanted else self.runner.told.phase
        self._wanted.append(Wanted(self.record.at, control, value))
        self.record.at += 1
        return value

    def take_as_it_is(self) -> None:
        """Take every control as it was entered."""
        stands = led.stands(self.runner.plan.pass_.tuning_id)
        for name, control in self._by.items():
            control["value"] = stands.get(name, control["value"])

    def end(self) -> None:
        """Let what is still wanted be entered."""
        self._turn()

    def _read(self, percent: Fraction, by: str = "") -> tuple[Floats, Floats]:
        for name, value in self._came.items():
            self._by[name]["value"] = value
        self._came = {}
        self._turn()
        return super()._read(percent, by)

    def _turn(self) -> None:
        """Have a list of what is wanted entered. Where that is still to be done the run pauses, and is led here again."""
        if not self._wanted:
            return
        pass_ = self.runner.plan.pass_
        last = {wanted.control: wanted.value for wanted in self._wanted}
        rows = [row_of(self._by[name], None, value) for name, value in last.items()]
        while (stands := led.entered(pass_=pass_, step=self._wanted[0].step, rows=rows)) is None:
            self.runner.told.phase = self._for
            self.record.tell()
            self.runner.call(TO_TURN)
        for wanted in self._wanted:
            self.record.was_turned(wanted.step, stands.get(wanted.control, wanted.value))
        for name, value in last.items():
            self._by[name]["value"] = stands.get(name, value)
        self._wanted = []
