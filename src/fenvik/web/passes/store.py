"""The engine's own line to the database: one statement stores a reading, tells the world and hears what is asked.

The ORM is not used here on purpose: a create inside atomic() alone halves the rate of stored readings. A reading is stored under
the lock of its pass's row: a worker that was frozen while another took the pass over finds there that it has lost it.
"""

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import psycopg
import structlog
from psycopg.types.json import Jsonb

from fenvik.core.signal.patches import Patch
from fenvik.web.kit.database import own_line
from fenvik.web.kit.notify import CHANNEL, payload
from fenvik.web.passes.models import PassState

STORE = """
WITH mine AS (
    SELECT id, pause_asked_at IS NOT NULL AS pause, stop_asked_at IS NOT NULL AS stop,
           CASE WHEN repeat THEN patches END AS patches, answer
    FROM passes_pass WHERE id = %(pass_id)s AND run_token = %(token)s FOR NO KEY UPDATE
), stored AS (
    INSERT INTO passes_reading (pass_id, index, label, part, r, g, b, x, y, z, too_dark, average, effort, seconds, clock,
                                 started_at, at, knew)
    SELECT id, %(index)s, %(label)s, %(part)s, %(r)s, %(g)s, %(b)s, %(x)s, %(y)s, %(z)s, %(too_dark)s, %(average)s, %(effort)s,
           %(seconds)s, %(clock)s, %(started_at)s, %(at)s, %(knew)s
    FROM mine RETURNING id
)
SELECT stored.id, mine.pause, mine.stop, mine.patches, mine.answer,
       pg_notify(%(channel)s, replace(%(payload)s, '"reading":0', '"reading":' || stored.id::text))
FROM stored, mine
"""
ASKED = """
SELECT pause_asked_at IS NOT NULL, stop_asked_at IS NOT NULL, CASE WHEN repeat THEN patches END, answer
FROM passes_pass WHERE id = %(pass_id)s AND run_token = %(token)s
"""
KNOWS = """
SELECT COALESCE((SELECT max(id) FROM adjusting_controlchange WHERE tuning_id = p.tuning_id), 0)
FROM passes_pass p WHERE p.id = %(pass_id)s AND p.run_token = %(token)s
"""
SET_STATE = """
WITH mine AS (
    UPDATE passes_pass SET state = %(state)s, reason = %(reason)s,
        asks = CASE WHEN %(goes_on)s THEN asks END,
        finished_at = CASE WHEN %(ends)s THEN %(at)s ELSE finished_at END,
        run_token = CASE WHEN %(ends)s THEN NULL ELSE run_token END
    WHERE id = %(pass_id)s AND run_token = %(token)s RETURNING id
)
SELECT pg_notify(%(channel)s, %(payload)s) FROM mine
"""
APPEND = """
WITH mine AS (
    UPDATE passes_pass SET patches = CASE WHEN jsonb_array_length(patches) > %(index)s THEN patches ELSE patches || %(row)s END
    WHERE id = %(pass_id)s AND run_token = %(token)s RETURNING id
)
SELECT id FROM mine
"""
DROP = """
WITH mine AS (
    UPDATE passes_pass SET patches = patches - %(index)s::int WHERE id = %(pass_id)s AND run_token = %(token)s RETURNING id
)
SELECT id FROM mine
"""
AMEND = """
WITH mine AS (UPDATE passes_pass SET patches = %(rows)s WHERE id = %(pass_id)s AND run_token = %(token)s RETURNING id)
SELECT id FROM mine
"""
PAUSE = """
WITH mine AS (
    UPDATE passes_pass SET state = 'paused', reason = %(reason)s, asks = NULL, run_token = NULL
    WHERE id = %(pass_id)s AND run_token = %(token)s AND stop_asked_at IS NULL AND (NOT %(as_asked)s OR pause_asked_at IS NOT NULL)
    RETURNING id
)
SELECT pg_notify(%(channel)s, %(payload)s) FROM mine
"""
NOTE = """
WITH mine AS (
    SELECT id FROM passes_pass WHERE id = %(pass_id)s AND run_token = %(token)s FOR NO KEY UPDATE
), noted AS (
    UPDATE passes_circumstance SET mend = %(mend)s, display_mode = COALESCE(%(mode)s, display_mode),
        display_signal = COALESCE(%(signal)s, display_signal), display_input = COALESCE(%(input)s, display_input)
    FROM mine WHERE pass_of_id = mine.id
)
SELECT id FROM mine
"""
ASK = """
WITH mine AS (
    UPDATE passes_pass SET asks = %(asks)s, answer = CASE WHEN answer->>'n' = %(number)s THEN answer END
    WHERE id = %(pass_id)s AND run_token = %(token)s RETURNING id
)
SELECT pg_notify(%(channel)s, %(payload)s) FROM mine
"""
TAKE_BACK = """
WITH mine AS (
    SELECT id FROM passes_pass WHERE id = %(pass_id)s AND run_token = %(token)s FOR NO KEY UPDATE
), marked AS (
    INSERT INTO passes_patchmark (pass_of_id, index, held, again_after)
    SELECT id, %(index)s, false, (SELECT max(id) FROM passes_reading WHERE pass_id = %(pass_id)s) FROM mine
    ON CONFLICT (pass_of_id, index) DO UPDATE SET again_after = EXCLUDED.again_after
)
SELECT id FROM mine
"""
PARK = """
UPDATE passes_pass SET run_token = NULL
WHERE id = %(pass_id)s AND run_token = %(token)s AND pause_asked_at IS NULL AND stop_asked_at IS NULL
    AND (answer IS NULL OR answer->>'n' IS DISTINCT FROM %(number)s)
RETURNING id
"""


FULL = (
    "The disk of Fenvik’s database is full. The pass waits with what it has read and goes on as soon as there is room; "
    "whoever runs Fenvik must make some."
)
FULL_AGAIN_S = 1.0
log = structlog.get_logger(__name__)


class LostPassError(Exception):
    """Another worker has taken the pass over: this one must not store anything any more."""


@dataclass(frozen=True)
class Asked:
    """What people have asked of a running pass."""

    pause: bool
    stop: bool
    patches: list[dict[str, Any]] | None
    answer: dict[str, Any] | None = None  # of the person whom the pass asks to show or to type something


@dataclass(frozen=True)
class Taken:
    """A reading as the engine took it."""

    index: int
    patch: Patch
    xyz: tuple[float, float, float]
    too_dark: bool
    seconds: float
    clock: float
    started_at: datetime
    average: int = 1
    effort: str = ""
    part: str = "main"
    knew: int | None = None  # the newest change of the controls when it was begun


class Store:
    """Stores the readings of one pass for as long as this worker holds it."""

    def __init__(self, pass_id: int, tuning_id: int, token: UUID, *, ending: Callable[[], bool] = lambda: False) -> None:
        self.ending = ending  # whether the worker is being ended, which waits for nothing
        self._connection = psycopg.connect(**own_line(), autocommit=True, prepare_threshold=1)
        self._base = {
            "pass_id": pass_id,
            "token": token,
            "channel": CHANNEL,
            "payload": payload(tuning_id, **{"pass": pass_id}, reading=0),
            "trouble": payload(tuning_id, trouble=FULL),
        }

    def close(self) -> None:
        """Let go of the connection."""
        self._connection.close()

    def row(self, statement: str, **values: Any) -> tuple[Any, ...]:
        """Return the row of a statement that gives one only to whoever holds the pass, by ``pass_id`` and ``token``.

        Raises LostPassError for anybody else.
        """
        while True:
            try:
                row = self._connection.execute(statement, self._base | values).fetchone()
            except psycopg.errors.DiskFull as error:
                # What was read is in hand: it is stored as soon as there is room, and whoever looks is told meanwhile.
                if self.ending():
                    raise
                log.warning("the database's disk is full", pass_id=self._base["pass_id"], error=str(error).strip())
                self._connection.execute("SELECT pg_notify(%(channel)s, %(trouble)s)", self._base)
                time.sleep(FULL_AGAIN_S)
                continue
            if row is None:
                raise LostPassError
            told: tuple[Any, ...] = row
            return told

    def add(self, taken: Taken) -> Asked:
        """Store a reading, tell it, and return what is asked. Raises LostPassError."""
        row = self.row(
            STORE,
            index=taken.index,
            label=taken.patch.label,
            part=taken.part,
            **dict(zip("rgb", taken.patch.rgb, strict=True)),
            **dict(zip("xyz", taken.xyz, strict=True)),
            too_dark=taken.too_dark,
            average=taken.average,
            effort=taken.effort,
            seconds=taken.seconds,
            clock=taken.clock,
            started_at=taken.started_at,
            at=datetime.now(UTC),
            knew=taken.knew,
        )
        return Asked(row[1], row[2], row[3], row[4])

    def knows(self) -> int:
        """Return the newest change of the tuning's controls, 0 before any. Raises LostPassError."""
        return int(self.row(KNOWS)[0])

    def asked(self) -> Asked:
        """Return what is asked. Raises LostPassError."""
        return Asked(*self.row(ASKED))

    def append(self, index: int, row: dict[str, Any]) -> None:
        """Add a patch to the pass's list, unless it stands there already from before an end. Raises LostPassError."""
        self.row(APPEND, index=index, row=Jsonb([row]))

    def drop(self, index: int) -> None:
        """Take a patch off the end of the pass's list that could not be read. Raises LostPassError."""
        self.row(DROP, index=index)

    def amend(self, rows: list[dict[str, Any]]) -> None:
        """Keep what has turned out of the pass's patches. Raises LostPassError."""
        self.row(AMEND, rows=Jsonb(rows))

    def note_state(self, state: dict[str, Any], mend: str = "") -> None:
        """Keep how the display stood when the pass began, and the act that would set it right. Raises LostPassError."""
        self.row(NOTE, mend=mend, **{name: state.get(name) for name in ("mode", "signal", "input")})

    def ask(self, asks: dict[str, Any]) -> None:
        """Ask the person for something, and forget what was answered to anything else. Raises LostPassError."""
        self.row(ASK, asks=Jsonb(asks), number=asks["n"])

    def take_back(self, index: int) -> None:
        """Remember that a patch is to be read once more, whoever holds the pass then. Raises LostPassError."""
        self.row(TAKE_BACK, index=index)

    @contextmanager
    def listening(self) -> Iterator[Callable[[float], None]]:
        """Give a function that waits until anything is told of any pass, at most so many seconds."""
        self._connection.execute(f"LISTEN {CHANNEL}")

        def wait(seconds: float) -> None:
            for _ in self._connection.notifies(timeout=max(seconds, 0.0), stop_after=1):
                pass

        try:
            yield wait
        finally:
            self._connection.execute(f"UNLISTEN {CHANNEL}")

    def park(self, number: str) -> bool:
        """Let go of a pass that waits for an answer; return whether nothing has been said meanwhile, so that it is let go."""
        row = self._connection.execute(PARK, self._base | {"number": number}).fetchone()
        return row is not None

    def pause(self, reason: str = "", *, as_asked: bool = False) -> bool:
        """Let go of the pass until a person goes on with it; return whether it was let go of.

        It is not where a stop was asked for meanwhile, nor, ``as_asked``, where the person has taken the pause back by now.
        """
        return self._connection.execute(PAUSE, self._base | {"reason": reason, "as_asked": as_asked}).fetchone() is not None

    def set_state(self, state: PassState, reason: str = "") -> None:
        """Change the state of a pass that goes on or ends. Raises LostPassError."""
        self.row(
            SET_STATE,
            state=str(state),
            reason=reason,
            ends=state in (PassState.DONE, PassState.STOPPED),
            goes_on=state == PassState.RUNNING,
            at=datetime.now(UTC),
        )
