"""The rig of a hands-free run in the worker: first what is stored, then the devices."""

import uuid
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any, Protocol, TypeVar

import numpy as np

from fenvik.core.procedures.correcting import Corrected
from fenvik.core.procedures.job import FOUND_SAID
from fenvik.core.procedures.leaving import LEFT
from fenvik.core.procedures.steps import (
    Ask,
    BudgetError,
    Correct,
    Fraction,
    Install,
    LeftOutError,
    Look,
    Read,
    RefusedError,
    Set,
    Standing,
    TooBrightError,
    Uninstall,
)
from fenvik.core.signal.patches import Patch, patch
from fenvik.core.types import Floats
from fenvik.link.display import LinkedDisplay
from fenvik.session.showing import standing
from fenvik.web.adjusting.models import Run, RunStep
from fenvik.web.adjusting.record import Kept, Record, refused_before
from fenvik.web.passes.devices import Devices
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.turns import Plan

T = TypeVar("T")
TIME_OVER = "The minutes that were allowed are over."


class Hands(Protocol):
    """What a rig needs of whoever runs it."""

    plan: Plan
    devices: Devices
    record: Record
    told: Run
    is_live: bool  # whether everything that was stored before has been gone through
    rows: list[dict[str, Any]]
    said: list[str]  # of how it was led again

    def display(self) -> LinkedDisplay:
        """Return a line to the display, paired."""
        ...

    def patiently(self, act: Any, *, refuses: bool = False) -> Any:
        """Do something over the links; a device that is away is waited for. Raises RefusedError where that is asked for."""
        ...

    def take_one(self, percent: Fraction, by: str = "") -> Floats:
        """Read a patch and keep the reading; return XYZ (3,) as it was taken."""
        ...

    def input_at_first(self) -> str:
        """Return the input on which the run began."""
        ...

    def call(self, words: str) -> None:
        """Pause with what is wrong: the run goes on once a person says that it is right again."""
        ...

    def let_pass(self, seconds: float) -> None:
        """Wait, hearing meanwhile what is asked."""
        ...


class Rig:
    """The rig of a run: first what is stored, then the devices."""

    def __init__(self, runner: Hands) -> None:
        self.runner, self.record = runner, runner.record
        self.controls: list[dict[str, Any]] = [dict(control) for control in runner.told.controls]
        self._by = {control["id"]: control for control in self.controls}
        # What the display last answered: a procedure may turn something to see whether it moves, and turn it back.
        self._stands_at = {name: control["value"] for name, control in self._by.items()}
        self._readings = list(runner.plan.pass_.readings.order_by("id"))
        self._at = 0
        told = runner.told.matrix
        self.matrix: Floats = np.eye(3) if told is None else np.array(told)
        self._over = False
        self._group, self._in_group = uuid.uuid4(), set[str]()

    def end(self) -> None:
        """Nothing is left to be done."""

    def begin(self) -> None:
        """Choose the mode, where nothing was stored yet."""
        if self.runner.is_live:
            self._choose()
            self.runner.input_at_first()

    def _choose(self) -> None:
        self.runner.patiently(lambda: self.runner.display().choose(self.runner.told.mode))

    def _stands(self) -> dict[str, Any]:
        listed = self.runner.patiently(lambda: self.runner.display().controls(self.runner.told.mode))
        return {control["id"]: control["value"] for control in listed}

    def go_live(self) -> None:
        """Let the display stand where what is stored left it: somebody may have turned something meanwhile."""
        if self.runner.is_live:
            return
        self.runner.is_live = True
        self._choose()
        really = self._stands()
        for control in self.controls:
            stands = really.get(control["id"], control["value"])
            if stands != control["value"]:
                self.runner.patiently(lambda c=control: self._send(c["id"], c["value"]))
                self.record.found_otherwise(control, stands, control["value"])
        # A patch that was appended and not read before the end came is read now, at its own place in the list.
        self.runner.rows = self.runner.rows[: len(self._readings)]

    def look(self) -> Standing:
        """Return how the display stands, or how it stood before an end; one that has left its mode is put back into it."""
        kept = self._again(Look())
        if kept is not None:
            told: dict[str, Any] = kept.came or {}
            return self._as_told(Standing(**({"values": {}} | told)))
        self.go_live()
        self.record.begin(Look())
        runner, on = self.runner, self.runner.input_at_first()
        signal = runner.plan.pass_.tuning.signal
        seen: Standing = runner.patiently(
            lambda: standing(runner.display(), runner.told.mode, signal=signal, on=on, send_again=runner.devices.send_again)
        )
        self.record.was_looked(seen)
        return self._as_told(seen)

    def _as_told(self, standing: Standing) -> Standing:
        """Keep where the display says that its controls stand: something may have moved by itself, or with a choice."""
        self._stands_at |= {name: value for name, value in standing.values.items() if name in self._by}
        return standing

    def take_as_it_is(self) -> None:
        """Take every control as the display really has it: the run was asked to stop before it had gone through what is stored."""
        if self.runner.is_live:
            return
        self.runner.is_live = True
        self.record.at = self.runner.plan.pass_.steps.count()
        for name, value in self._stands().items():
            if name in self._by:
                self._by[name]["value"] = self._stands_at[name] = value

    def _send(self, control: str, value: Any) -> Any:
        return self.runner.display().set(self.runner.told.mode, control, value, was=self._stands_at[control])

    def _asked(self, act: Callable[[], T]) -> T:
        """Do something with the display; what it refuses for good is kept as what came of the step. Raises RefusedError."""
        try:
            made: T = self.runner.patiently(act, refuses=True)
        except RefusedError as refusal:
            self.record.was_refused(refusal)
            raise
        return made

    def install(self, what: str, data: dict[str, Any]) -> None:
        """Install something, or go through what was installed before."""
        self._whole(Install(what, data), lambda: self.runner.display().install(self.runner.told.mode, what, data))

    def uninstall(self, what: str) -> None:
        """Take something away, or go through that."""
        self._whole(Uninstall(what), lambda: self.runner.display().uninstall(self.runner.told.mode, what))

    def _whole(self, step: Install | Uninstall, act: Callable[[], None]) -> None:
        if (kept := self._again(step)) is not None:
            refused_before(kept.came)
            return
        self.go_live()
        self.record.begin(step)
        self._asked(act)
        self.record.was_given(step.what, step.data if isinstance(step, Install) else None)

    def _again(self, step: Kept) -> RunStep | None:
        """Return what was done at this step before an end; what would be decided otherwise now is said, and not done."""
        if self.runner.is_live:
            return None
        found = self.record.again(step)
        if found is None:
            return None
        kept, same = found
        if not same:
            self.runner.said.append(f"Step {kept.number + 1}: as it was decided before the end, and not as it would be now.")
        return kept

    @property
    def taken(self) -> int:
        """How many readings the run has taken so far."""
        return self._at

    def read(self, percent: Fraction) -> tuple[Floats, Floats]:
        """Return fractions (3,) and XYZ (3,) of a patch, as it is seen: what was stored, or what the meter says."""
        fraction, xyz = self._read(percent)
        return fraction, np.asarray(self.matrix @ xyz)

    def read_by(self, meter: str, percent: Fraction) -> tuple[Floats, Floats]:
        """Return fractions (3,) and XYZ (3,) as one of two meters reads it, uncorrected."""
        return self._read(percent, meter)

    def correct(self, matrix: Floats, made: Corrected) -> None:
        """Look at what the meter reads through a matrix (3, 3) from now on, and keep the correction."""
        step = Correct(matrix)
        if self._again(step) is None:
            self.go_live()
            self.record.begin(step)
            keeps = kinds.keeps
            assert keeps is not None  # corrections are installed
            self.runner.patiently(lambda: keeps(self.runner.plan.pass_.pk, made))
            self.record.was_done()
        self.matrix = matrix

    def ask(self, words: str) -> bool:
        """Pause with what only a person can set right; whoever lets the run go on has set it right."""
        step = Ask(words)
        if self._again(step) is None:
            self.go_live()
            self.record.begin(step)
            self.record.was_done()
            self.runner.call(words)
        return True

    def wait(self, seconds: float) -> None:
        """Let so many seconds pass; what is stored has waited."""
        if self.runner.is_live:
            self.runner.let_pass(seconds)

    def _read(self, percent: Fraction, by: str = "") -> tuple[Floats, Floats]:
        pass_, told = self.runner.plan.pass_, self.runner.told
        shown = patch("", percent, pass_.bits, pass_.range)  # type: ignore[arg-type]
        fraction = shown.fraction(pass_.bits, pass_.range)  # type: ignore[arg-type]
        self._group, self._in_group = uuid.uuid4(), set()
        if self._at == told.over_at and not self._over:
            # The time was over here before the run was cut off, and the proof came next.
            self._over = True
            raise BudgetError(TIME_OVER)
        step = Read(percent, by)
        if (kept := self._again(step)) is not None:
            refused_before(kept.came)
            row = self._readings[self._at]
            self._at += 1
            codes = Patch(row.label, (row.r, row.g, row.b), percent)
            return codes.fraction(pass_.bits, pass_.range), np.array([row.x, row.y, row.z])  # type: ignore[arg-type]
        self._see_the_clock()
        self.go_live()
        if by == "reference" and told.without_reference:
            self.record.begin(step)
            left_out = LeftOutError("The reference was left out from here on, as somebody said.")
            self.record.was_refused(left_out)
            raise left_out
        self._at += 1
        self.record.begin(step)
        try:
            return fraction, self.runner.take_one(percent, by)
        except TooBrightError as problem:
            self._at -= 1
            self.record.was_refused(problem)
            raise

    def _see_the_clock(self) -> None:
        """End the adjusting when its minutes are over; the proof is read all the same. Raises BudgetError."""
        told, started = self.runner.told, self.runner.plan.pass_.started_at
        if self._over or told.phase in (FOUND_SAID, LEFT) or not told.minutes or started is None:
            return
        if (datetime.now(UTC) - started).total_seconds() > 60.0 * told.minutes:
            self._over, told.over_at = True, self._at
            self.record.tell()
            raise BudgetError(TIME_OVER)

    def set(self, control: str, value: Any) -> Any:
        """Set a control, or go through what was set before."""
        step = Set(control, value)
        kept = self._again(step)
        if kept is not None:
            refused_before(kept.came)
            self._stands_at[control] = kept.came
            return kept.came
        self.go_live()
        self.record.begin(step)
        now: Any = self._asked(lambda: self._send(control, value))
        if control in self._in_group:
            self._group, self._in_group = uuid.uuid4(), set()
        self._in_group.add(control)
        self.record.was_set(self._by[control] | {"value": self._stands_at[control]}, now, self._group)
        self._stands_at[control] = now
        return now
