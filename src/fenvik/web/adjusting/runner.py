"""Hands-free in the worker: the same rules as on the command line, with every reading and every change kept as it happens.

Every step is kept before it is done. A run that was cut off is gone through again from its beginning: what was done is given back
step by step, no device is touched, and where that ends the run goes on live.
"""

import time
from dataclasses import asdict
from typing import Any

import numpy as np
import structlog

from fenvik.core.colour.curves import pq
from fenvik.core.errors import FenvikError
from fenvik.core.measure.averaging import steady_average
from fenvik.core.measure.correction import PROPOSED
from fenvik.core.measure.correction_patches import correction_list
from fenvik.core.models.taught import Taught
from fenvik.core.procedures.correcting import AVERAGE, NAMED
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import FOUND_SAID, STEPS, Job, proof_of
from fenvik.core.procedures.leaving import LEFT
from fenvik.core.procedures.scoring import score
from fenvik.core.procedures.steps import (
    Fraction,
    StoppedError,
    TooBrightError,
    perform,
)
from fenvik.core.signal.patches import COLOURS, patch
from fenvik.core.types import Floats
from fenvik.link.display import LinkedDisplay
from fenvik.link.faults import DeviceError
from fenvik.session.refusing import refusal_of, too_bright
from fenvik.web.adjusting import led
from fenvik.web.adjusting.handrig import HandRig
from fenvik.web.adjusting.models import Run
from fenvik.web.adjusting.record import Record
from fenvik.web.adjusting.rig import Rig
from fenvik.web.controls.installed import Given, stands_in, told_by
from fenvik.web.controls.models import ControlChange
from fenvik.web.devices.displays import NotPairedError
from fenvik.web.devices.models import Device, Pairing
from fenvik.web.devices.services import locate
from fenvik.web.passes.models import Circumstance, PassState
from fenvik.web.passes.runner import Ended, Runner
from fenvik.web.passes.store import Asked, LostPassError, Store
from fenvik.web.passes.turns import Plan, Turn

log = structlog.get_logger(__name__)
LEAST_BUDGET = 2 * len(proof_of(STEPS)) + 10
ROUNDED, A_CODE = 0.15, 0.06  # percent of signal: two patches are no nearer to each other; half a code of ten bits


def label_of(percent: Fraction) -> str:
    """Return what a patch is called: a grey, a full colour, a pale one, or its three percentages."""
    # What is read again is asked for as it was sent, a code's rounding beside what was asked for first.
    red, green, blue = (float(round(v)) if abs(v - round(v)) < A_CODE else v for v in percent)
    percent = red, green, blue
    if len(set(percent)) == 1:
        return f"{percent[0]:g} %"
    top = max(percent)
    name = next((name for name, mix in COLOURS.items() if mix == tuple(int(v == top) for v in percent)), "")
    if len(set(percent)) == 2 and name:
        return f"{name} {top:g} %" if min(percent) == 0 else f"pale {name}"
    return " ".join(f"{v:g}" for v in percent)


class HandsFreeRunner(Runner):
    """Runs one hands-free pass."""

    def __init__(self, plan: Plan, store: Store) -> None:
        super().__init__(plan, store)
        self.told = Run.objects.select_related("display", "pass_of").get(pass_of=plan.pass_)
        self.record = Record(store, self.told)
        self.is_live = self.record.is_over  # whether everything that was stored before has been gone through
        self.display_line: LinkedDisplay | None = None
        self._on: str | None = None  # the input on which it began
        self.stops = False
        self.job: Job | None = None
        self.stood: Given = {}  # what was installed when it began
        self.said: list[str] = []  # of how it was led again
        self.proof_at: int | None = None  # the first reading of what is left

    def let_go(self) -> None:
        """Close the connections."""
        super().let_go()
        if self.display_line is not None:
            self.display_line.close()
        self.display_line = None

    def _lines(self) -> list[Any]:
        own = self.display_line
        return [*super()._lines(), *([own.connection] if own is not None else [])]

    def _heed(self, asked: Asked) -> None:
        if asked.stop and not self.stops:
            self.stops = True
            raise StoppedError
        if not self.stops:
            super()._heed(asked)

    def run(self) -> None:
        """Do the whole job, from its beginning or from where it was cut off."""
        rig = HandRig(self) if self.told.display_id is None else Rig(self)
        self.stood = told_by(list(self.told.stood.values()))
        desk = Desk(rig.controls, budget=self.told.budget, by_hand=self.told.display_id is None, given=self.stood)
        pass_ = self.plan.pass_
        job = Job(desk, pass_.tuning.read_by(pass_.meter_facts), tuple(self.told.steps), luminance=self.told.luminance)
        self.job = job
        job.by, job.takes, job.goal = self.told.by, self.told.takes, self.told.goal
        job.may_cost = self.told.may_cost / 100.0
        job.taught = None if self.told.taught is None else Taught.from_json(self.told.taught)
        job.in_force = None if self.told.matrix is None else rig.matrix
        if pass_.reference is not None:
            named = (*NAMED, *self._also_compared())
            job.correction = [p for p in correction_list(PROPOSED, pass_.bits, pass_.range) if p.label in named]  # type: ignore[arg-type]
        try:
            self._heed(self.store.asked())
            rig.begin()
            perform(job.run(), rig, lambda words: self._say(words, rig))
            rig.go_live()
            rig.end()
            self._report(desk, job)
            self._finish(PassState.DONE)
        except StoppedError:
            self._stopped(desk, job, rig)
        except Ended:
            return
        except LostPassError:
            raise
        except FenvikError as problem:
            # A rule that cannot go on, such as a white without light: what was reached is kept and said.
            desk.notes.append(f"{problem} It was ended there.")
            self._report(desk, job)
            self._finish(PassState.STOPPED)

    def _also_compared(self) -> list[str]:
        """Return what a run was begun with that is not asked for any more: black, which earlier versions had both meters read."""
        dark = self.plan.pass_.steps.filter(kind="read", asked={"percent": [0.0, 0.0, 0.0], "by": "reference"})
        return ["black"] if dark.exists() else []

    def _stopped(self, desk: Desk, job: Job, rig: "Rig") -> None:
        if self.told.display_id is None:
            back = led.ended(pass_=self.plan.pass_, back=self.told.controls if self.told.puts_back else [])
            desk.notes.append(f"It was stopped; {'what puts it back is a list to enter' if back else 'what was entered is kept'}.")
            self._report(desk, job)
            self._finish(PassState.STOPPED)
            return
        # It may be stopped before it has gone through what is stored: what was given before an end is kept elsewhere.
        desk.stands_with(stands_in(self.plan.pass_.tuning.display_id, self.told.mode) | desk.given)
        for what in self.record.on_its_way():
            desk.may_have(what)
        if self.told.puts_back:
            try:
                rig.take_as_it_is()
                perform(job.put_back(), rig)
                job.restored = True
                desk.notes.append("It was stopped, and every control was put back to where it stood before.")
            except FenvikError as problem:
                desk.notes.append(f"It was stopped; not every control could be put back: {problem}")
        else:
            desk.notes.append("It was stopped; what it had set by then is kept.")
        self._report(desk, job)
        self._finish(PassState.STOPPED)

    def _say(self, words: str, rig: Rig) -> None:
        if self.told.phase == FOUND_SAID and words != FOUND_SAID:
            self.told.proof = rig.taken  # more than were meant where some were read again
        if words == LEFT and self.told.phase != LEFT:  # what the reference was held against is part of it
            self.proof_at = rig.taken
        self.told.phase = words
        if self.is_live:
            self.record.tell()

    def _report(self, desk: Desk, job: Job) -> None:
        target, told = self.plan.pass_.tuning.read_by(self.plan.pass_.meter_facts), self.told
        told.notes, told.restored, told.dead = list(dict.fromkeys([*self.said, *desk.notes])), job.restored, desk.dead
        told.readings, told.phase = desk.spent, ""
        told.installed = [what for what, data in desk.given.items() if self.stood.get(what) != data]
        told.moves = ControlChange.objects.filter(of_pass=self.plan.pass_).count()
        told.found_score = score(job.first, target) if len(job.first) == len(job.proof) else None
        told.left_score = score(job.as_left, target) if len(job.as_left) == len(job.proof) else None
        teaches = None if job.balance is None or job.restored else job.balance.teaches()
        told.teaches = None if teaches is None else teaches.as_json()
        told.left_from = self.proof_at if job.as_left and not job.restored else None
        self.record.tell()

    def display(self) -> LinkedDisplay:
        """Return a line to the display, paired. Raises NotPairedError, LinkFault, DeviceError."""
        if self.display_line is None:
            device = Device.objects.get(pk=self.told.display_id or 0)
            pairing = Pairing.objects.filter(device=device).first()
            if pairing is None:
                raise NotPairedError(f"{device.name} is not paired any more: pair it again at Arrival, then go on.")
            self.display_line = LinkedDisplay(locate(device, for_page=False), pairing.token)
        return self.display_line

    def patiently(self, act: Any, *, refuses: bool = False) -> Any:
        """Do something over the links; a device that is away is waited for as in any pass.

        ``refuses``: what a display refuses for good is a RefusedError, and no reason to pause. A light that is too bright for the
        meter is a TooBrightError.
        """
        while True:
            try:
                made = act()
            except FenvikError as problem:
                if isinstance(problem, DeviceError):
                    refused = (refusal_of(problem) if refuses else None) or too_bright(problem)
                    if refused is not None:
                        raise refused from problem
                self.let_go()
                log.warning("device failed", pass_id=self.plan.pass_.pk, problem=str(problem))
                if isinstance(problem, DeviceError) and problem.number == DeviceError.NOT_PAIRED:
                    Pairing.objects.filter(device_id=self.told.display_id or 0).delete()
                    problem = NotPairedError("The display no longer knows Fenvik: pair it again at Arrival, then go on.")
                if self.stops:
                    raise
                self._wait_for_device(problem)
                continue
            if self._came_through():
                self.store.set_state(PassState.RUNNING)
            return made

    def take_one(self, percent: Fraction, by: str = "") -> Floats:
        """Read a patch and keep the reading; return XYZ (3,) as it was taken. ``by``: one of two meters that are compared."""
        pass_ = self.plan.pass_
        label = self._named(percent)
        if by:
            label = f"{'ref.' if by == 'reference' else 'meter'} {label}"
        shown = patch(label, percent, pass_.bits, pass_.range)  # type: ignore[arg-type]
        row: dict[str, Any] = shown.as_json() | ({"by": by, "part": "comparison"} if by else {})
        self.store.append(len(self.rows), row)
        self.rows = [*self.rows, row]
        self.next = len(self.rows) - 1

        def act() -> Any:
            self._connect()
            return self._read(show=True)

        try:
            taken = self.patiently(act)
        except TooBrightError:
            self.rows = self.rows[:-1]  # the next patch takes its place
            self.store.drop(len(self.rows))
            raise
        asked = self.store.add(taken)
        self.record.was_read()
        self.taken += 1
        self._heed(asked)
        return np.array(taken.xyz)

    def input_at_first(self) -> str:
        """Return the input on which the run began; it is kept with the pass."""
        if self._on is None:
            kept = Circumstance.objects.filter(pass_of=self.plan.pass_).values_list("display_input", flat=True).first()
            if not kept:
                state = self.patiently(lambda: self.display().state())
                self.store.note_state(asdict(state))
                kept = state.input
            self._on = str(kept)
        return self._on

    def call(self, words: str) -> None:
        """Pause with what is wrong: the run goes on once a person says that it is right again."""
        self._pause(words)

    def let_pass(self, seconds: float) -> None:
        """Wait, hearing meanwhile what is asked."""
        self._wait_until(time.time() + seconds)

    def _named(self, percent: Fraction) -> str:
        """Return what a patch is called: in HDR colours are placed by their light, and their percentages say nothing."""
        hues = {} if self.job is None or not self.job.target.is_hdr else self.job.palette.hues
        named = ((name, patch) for patches in hues.values() for name, patch in patches)
        # What is read again is asked for as it was sent, a code's rounding beside what was asked for first.
        same = (name for name, patch in named if all(abs(a - b) < ROUNDED for a, b in zip(percent, patch, strict=True)))
        red, green, blue = (round(v, 2) for v in percent)
        return next(same, None) or label_of((red, green, blue))

    def average_for(self, turn: Turn) -> int:
        """Return how many averages a patch is read with: a noisy meter that is quick reads more than once."""
        pass_ = self.plan.pass_
        if turn.part == "comparison":
            return AVERAGE
        fraction = np.clip(turn.patch.fraction(pass_.bits, pass_.range), 0.0, 1.0)  # type: ignore[arg-type]
        if pass_.signal_format in ("hdr10", "dynamic"):
            luminance = min(float(pq(fraction.max())), max(self.reader.brightest, 30.0))
        else:
            luminance = max(self.reader.brightest, 30.0) * float(fraction.max()) ** 2.3
        steady = steady_average(
            self.reader.repeatability, pass_.meter_facts["typical"], max(luminance, 0.01), grey=bool(np.ptp(fraction) == 0)
        )
        return max(pass_.average, steady)
