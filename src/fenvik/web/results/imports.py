"""Large files of readings: taken up by a worker, with progress, in chunks, and given up when nobody waits for them any more."""

from datetime import datetime, timedelta

import psycopg
import structlog
from django.db import IntegrityError, connections, transaction
from django.utils import timezone
from procrastinate.contrib.django import app as queue

from fenvik.core.errors import FenvikError
from fenvik.web.kit.database import own_line
from fenvik.web.kit.notify import CHANNEL, notify, payload
from fenvik.web.passes.models import ImportState, ReadingsImport
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results import files
from fenvik.web.visits.models import Tuning

log = structlog.get_logger(__name__)
AT_ONCE_BYTES = 256 * 1024  # smaller files are taken up while the page waits
NOBODY = timedelta(seconds=60)  # no page of the tuning has been open for so long
HEARD = """
WITH mine AS (
    UPDATE passes_readingsimport SET stored = %(stored)s, rows = %(rows)s
    WHERE id = %(id)s AND state = 'reading' AND seen_at > now() - %(nobody)s RETURNING id
)
SELECT pg_notify(%(channel)s, %(payload)s) FROM mine
"""


class ImportOpenError(FenvikError):
    """A file is on its way into this tuning already."""

    code = "import_open"

    def __init__(self) -> None:
        super().__init__("A file is being taken up here already. Wait until it has ended, or stop it; this one was not taken.")


class _GivenUpError(Exception):
    """Nobody waits, or somebody has stopped it."""


def defer(import_id: int) -> None:
    """Hand a file to the workers, in the same transaction as the row that says so."""
    queue.configure_task("take_up_file", queue="passes", lock=f"import-{import_id}").defer(import_id=import_id)


@needs(Right.MEASURE)
def begin(*, tuning_id: int, actor: User, data: bytes, purpose: str, name: str, now: datetime) -> ReadingsImport:
    """Hand a file to the workers. Raises ImportOpenError."""
    tuning = Tuning.objects.of_firm(actor.firm_id).get(pk=tuning_id)
    try:
        with transaction.atomic():
            # What earlier files had to say has been read by whoever sends another one.
            ReadingsImport.objects.filter(tuning=tuning).exclude(state__in=(ImportState.WAITING, ImportState.READING)).delete()
            made = ReadingsImport.objects.create(
                tuning=tuning, purpose=purpose, name=name[:120], data=data, rows=data.count(b"\n"), created_at=now,
                created_by=actor, seen_at=now,
            )  # fmt: skip
            defer(made.pk)
            notify(tuning.pk)
    except IntegrityError as error:
        raise ImportOpenError from error
    return made


def of_tuning(tuning_id: int) -> ReadingsImport | None:
    """Return the newest import of a tuning, without its data."""
    return ReadingsImport.objects.filter(tuning_id=tuning_id).defer("data").order_by("-pk").first()


def wait_for(tuning_id: int, now: datetime) -> None:
    """Remember that somebody still waits for what is taken up."""
    ReadingsImport.objects.filter(tuning_id=tuning_id, state__in=(ImportState.WAITING, ImportState.READING)).update(seen_at=now)


@needs(Right.MEASURE)
@transaction.atomic
def stop(*, tuning_id: int, actor: User) -> None:
    """Stop what is being taken up; nothing of it stays. What has ended is put away."""
    for one in ReadingsImport.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).filter(tuning_id=tuning_id):
        if one.is_open:
            _end(one, ImportState.STOPPED, "")
        else:
            one.delete()
    notify(tuning_id)


def _end(one: ReadingsImport, state: ImportState, problem: str) -> None:
    one.state, one.problem, one.data = state, problem, b""
    one.save(update_fields=["state", "problem", "data", "made"])


def run(import_id: int) -> None:
    """Take a file up. Ended before, it is left alone; cut off, it is begun anew, for what was stored was not committed."""
    with transaction.atomic():
        one = ReadingsImport.objects.select_for_update(of=("self",)).select_related("created_by").filter(pk=import_id).first()
        if one is None or not one.is_open:
            return
        one.state = ImportState.READING
        one.save(update_fields=["state"])
    # Progress is told on a line of its own: what is stored is not seen before all of it is there.
    with psycopg.connect(**own_line(), autocommit=True) as line:

        def heard(stored: int) -> None:
            told = {
                "id": import_id, "stored": stored, "rows": max(one.rows, stored), "nobody": NOBODY, "channel": CHANNEL,
                "payload": payload(one.tuning_id),
            }  # fmt: skip
            if line.execute(HEARD, told).fetchone() is None:
                raise _GivenUpError

        try:
            heard(0)
            made = files.take_up(
                tuning_id=one.tuning_id, actor=one.created_by, data=bytes(one.data), purpose=one.purpose, name=one.name,
                now=timezone.now(), heard=heard,
            )  # fmt: skip
        except FenvikError as problem:
            ended, says, made = ImportState.REFUSED, str(problem), None
        except _GivenUpError:
            ended, says, made = ImportState.STOPPED, "", None
        else:
            ended, says = ImportState.DONE, ""
    with transaction.atomic():
        now = ReadingsImport.objects.select_for_update(of=("self",)).filter(pk=import_id).first()
        if now is None or not now.is_open:
            return
        now.made = made
        _end(now, ended, says)
        notify(now.tuning_id)
    log.info("file taken up", import_id=import_id, ended=str(ended))


def without_a_job() -> list[int]:
    """Return imports that are open and that no job has: what a crash leaves behind."""
    with connections["default"].cursor() as cursor:
        cursor.execute(
            """
            SELECT i.id FROM passes_readingsimport i WHERE i.state IN ('waiting', 'reading') AND NOT EXISTS (
                SELECT 1 FROM procrastinate_jobs j WHERE j.status IN ('todo', 'doing') AND j.task_name = 'take_up_file'
                AND j.args @> jsonb_build_object('import_id', i.id)
            )
            """
        )
        return [row[0] for row in cursor.fetchall()]
