"""What a hands-free run keeps of itself, by the pass's own line: only the worker that holds the pass can add to it."""

import uuid
from collections.abc import Iterator
from dataclasses import asdict
from datetime import UTC, datetime
from typing import Any

import numpy as np
from psycopg.types.json import Jsonb

from fenvik.core.procedures.steps import (
    Ask,
    Correct,
    Install,
    LeftOutError,
    Look,
    Read,
    RefusedError,
    Set,
    Standing,
    TooBrightError,
    Uninstall,
    words_of,
)
from fenvik.web.adjusting.models import Run, RunStep, StepKind
from fenvik.web.passes.refusals import OtherwiseError
from fenvik.web.passes.store import Store

MINE = """mine AS (
    SELECT id, tuning_id, created_by_id FROM passes_pass WHERE id = %(pass_id)s AND run_token = %(token)s FOR NO KEY UPDATE
)"""
TOLD = (
    "phase", "proof", "notes", "dead", "installed", "over_at", "restored", "readings", "moves", "found_score", "left_score",
    "left_from", "teaches",
)  # fmt: skip
TELL = f"""
WITH {MINE}, kept AS (
    UPDATE adjusting_run SET {", ".join(f"{name} = %({name})s" for name in TOLD)} FROM mine WHERE pass_of_id = mine.id
)
SELECT pg_notify(%(channel)s, %(payload)s) FROM mine
"""  # noqa: S608 - its own names
STEP = f"""
WITH {MINE}, kept AS (
    INSERT INTO adjusting_runstep (pass_of_id, number, kind, asked) SELECT id, %(number)s, %(kind)s, %(asked)s FROM mine
    ON CONFLICT (pass_of_id, number) DO UPDATE SET kind = EXCLUDED.kind, asked = EXCLUDED.asked, came = NULL
)
SELECT id FROM mine
"""  # noqa: S608
CAME = f"""
WITH {MINE}, kept AS (
    UPDATE adjusting_runstep SET came = %(came)s FROM mine WHERE pass_of_id = mine.id AND number = %(number)s
)
SELECT id FROM mine
"""  # noqa: S608
CHANGED = f"""
WITH {MINE}, kept AS (
    UPDATE adjusting_runstep SET came = %(came)s FROM mine WHERE pass_of_id = mine.id AND number = %(number)s
), logged AS (
    INSERT INTO adjusting_controlchange (tuning_id, "group", control, label, before, after, at, by_id, of_pass_id)
    SELECT tuning_id, %(group)s, %(control)s, %(label)s, %(before)s, %(came)s, %(at)s, created_by_id, id FROM mine
)
SELECT id FROM mine
"""  # noqa: S608
GIVEN = f"""
WITH {MINE}, kept AS (
    UPDATE adjusting_runstep SET came = %(came)s FROM mine WHERE pass_of_id = mine.id AND number = %(number)s
), given AS (
    INSERT INTO menus_installed (display_id, mode, what, data, at)
    SELECT display_id, %(mode)s, %(what)s, %(data)s, %(at)s FROM mine JOIN visits_tuning ON visits_tuning.id = mine.tuning_id
)
SELECT id FROM mine
"""  # noqa: S608


Kept = Read | Set | Look | Install | Uninstall | Correct | Ask
KINDS = {
    Read: StepKind.READ, Set: StepKind.SET, Look: StepKind.LOOK, Install: StepKind.INSTALL, Uninstall: StepKind.UNINSTALL,
    Correct: StepKind.CORRECT, Ask: StepKind.ASK,
}  # fmt: skip

REFUSED = "refused"  # by what came of a step that was refused


class Record:
    """The steps of a run in their order: those that were done before an end, and those that are added."""

    def __init__(self, store: Store, run: Run) -> None:
        self.store, self.run = store, run
        steps = list(RunStep.objects.filter(pass_of=run.pass_of).order_by("number"))
        read = run.pass_of.readings.count()
        self._done: list[RunStep] = list(_that_were_done(steps, read))
        self.at = 0

    @property
    def is_over(self) -> bool:
        """Whether everything that was done before has been gone through."""
        return self.at >= len(self._done)

    def again(self, step: Kept) -> tuple[RunStep, bool] | None:
        """Return what was done at this step before an end, and whether just that is asked for now; None where it was not done.

        Another processor may round otherwise and decide for another value or level: what was decided then holds. Raises
        OtherwiseError where it is another kind of step, or another control.
        """
        if self.is_over:
            return None
        kept = self._done[self.at]
        before = _step_of(kept)
        if kept.kind != KINDS[type(step)] or (isinstance(step, Set) and kept.asked["control"] != step.control):
            raise OtherwiseError(self.at, words_of(before), words_of(step))
        self.at += 1
        if isinstance(step, Correct | Ask):
            return kept, True  # it is what the readings before it say
        # What was installed is as large as it is: that it was, is kept, and not what.
        if isinstance(step, Install) and isinstance(before, Install):
            return kept, before.what == step.what
        return kept, before == step

    def begin(self, step: Kept) -> None:
        """Keep what is to be done, before it is. Raises LostPassError."""
        asked: dict[str, Any] = {}
        if isinstance(step, Read):
            asked = {"percent": list(step.percent)} | ({"by": step.by} if step.by else {})
        elif isinstance(step, Set):
            asked = {"control": step.control, "value": step.value}
        elif isinstance(step, Install | Uninstall):
            asked = {"what": step.what}
        self.store.row(STEP, number=self.at, kind=str(KINDS[type(step)]), asked=Jsonb(asked))

    def on_its_way(self) -> list[str]:
        """Return what was sent to be installed or taken away, and of which no answer is kept."""
        sent = RunStep.objects.filter(pass_of=self.run.pass_of, kind__in=(StepKind.INSTALL, StepKind.UNINSTALL), came__isnull=True)
        return [step.asked["what"] for step in sent]

    def was_read(self) -> None:
        """Go on after a reading that is kept."""
        self.at += 1

    def was_looked(self, standing: Standing) -> None:
        """Keep how the display stood. Raises LostPassError."""
        self.store.row(CAME, number=self.at, came=Jsonb(asdict(standing)))
        self.at += 1

    def was_done(self) -> None:
        """Go on after somebody was called or the meter was corrected. Raises LostPassError."""
        self.store.row(CAME, number=self.at, came=Jsonb(True))
        self.at += 1

    def was_given(self, what: str, data: dict[str, Any] | None) -> None:
        """Go on after something was installed, or with no data taken away; what the display has is kept. Raises LostPassError."""
        self.store.row(
            GIVEN, number=self.at, came=Jsonb(True), mode=self.run.mode, what=what, data=None if data is None else Jsonb(data),
            at=datetime.now(UTC),
        )  # fmt: skip
        self.at += 1

    def was_set(self, control: dict[str, Any], came: Any, group: uuid.UUID) -> None:
        """Keep what a control is at, with the change where it is one; both or neither. Raises LostPassError."""
        if came == control["value"]:
            self.store.row(CAME, number=self.at, came=Jsonb(came))
        else:
            self._change(control, control["value"], came, group)
        self.at += 1

    def was_refused(self, refusal: RefusedError | TooBrightError | LeftOutError) -> None:
        """Keep that the display refused it, or the meter, or that a person left it out. Raises LostPassError."""
        room = refusal.room if isinstance(refusal, RefusedError) else None
        told = {REFUSED: str(refusal), "code": refusal.code, "room": None if room is None else list(room)}
        self.store.row(CAME, number=self.at, came=Jsonb(told))
        self.at += 1

    def was_turned(self, number: int, came: Any) -> None:
        """Keep what a control is at that a person has entered; the change was logged then. Raises LostPassError."""
        self.store.row(CAME, number=number, came=Jsonb(came))

    def found_otherwise(self, control: dict[str, Any], before: Any, came: Any) -> None:
        """Log a control that somebody had turned meanwhile and that was set again. Raises LostPassError."""
        self.store.row(
            CHANGED, number=-1, group=uuid.uuid4(), control=control["id"], label=control["label"], before=Jsonb(before),
            came=Jsonb(came), at=datetime.now(UTC),
        )  # fmt: skip

    def _change(self, control: dict[str, Any], before: Any, came: Any, group: uuid.UUID) -> None:
        self.store.row(
            CHANGED, number=self.at, group=group, control=control["id"], label=control["label"], before=Jsonb(before),
            came=Jsonb(came), at=datetime.now(UTC),
        )  # fmt: skip

    def tell(self) -> None:
        """Keep what the run says of itself, and tell the pages. Raises LostPassError."""
        told = {name: getattr(self.run, name) for name in TOLD}
        self.store.row(TELL, **{name: Jsonb(value) if isinstance(value, (list, dict)) else value for name, value in told.items()})


def refused_before(came: Any) -> None:
    """Raise RefusedError, TooBrightError or LeftOutError where that is what came of a step."""
    if isinstance(came, dict) and REFUSED in came:
        if came["code"] == LeftOutError.code:
            raise LeftOutError(came[REFUSED])
        if came["code"] == TooBrightError.code:
            raise TooBrightError(came[REFUSED])
        raise RefusedError(came[REFUSED], room=came["room"] and (came["room"][0], came["room"][1]))


def _step_of(kept: RunStep) -> Kept:
    """Return a step as it was asked for."""
    if kept.kind == StepKind.LOOK:
        return Look()
    if kept.kind == StepKind.SET:
        return Set(kept.asked["control"], kept.asked["value"])
    if kept.kind == StepKind.INSTALL:
        return Install(kept.asked["what"], {})
    if kept.kind == StepKind.UNINSTALL:
        return Uninstall(kept.asked["what"])
    if kept.kind == StepKind.CORRECT:
        return Correct(np.eye(3))
    if kept.kind == StepKind.ASK:
        return Ask("")
    red, green, blue = kept.asked["percent"]
    return Read((float(red), float(green), float(blue)), kept.asked.get("by", ""))


def _that_were_done(steps: list[RunStep], readings: int) -> Iterator[RunStep]:
    """Yield the steps up to the first that was begun and not done."""
    for step in steps:
        if step.kind == StepKind.READ and step.came is None:
            readings -= 1
        if readings < 0 or (step.kind != StepKind.READ and step.came is None):
            return
        yield step
