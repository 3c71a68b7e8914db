"""What takes seconds to be brought about: once a process, and from then on put back into the emptied database of each test."""

from django.db import connection, transaction

from fenvik.web.demo.build import whole_job
from fenvik.web.devices.services import take_up
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning

TABLES = "SELECT quote_ident(tablename) FROM pg_tables WHERE schemaname = 'public' AND tablename <> ALL(%s)"
NOT_OF_A_TEST = ["django_migrations", "django_content_type", "auth_permission", "django_session"]
_finished = {}


def finished_job(equipped, bench, now):
    """Return a tuning whose whole job was read by the stand-ins of a bench; ``equipped`` makes the tuning it begins with."""
    kept = _finished.get(now.date())
    if kept is None:
        tuning = equipped()
        whole_job(tuning, tuning.visit.calibrator, bench, now)
        _finished.clear()
        _finished[now.date()] = tuning.pk, _rows()
        return tuning
    pk, rows = kept
    _put_back(rows)
    tuning = Tuning.objects.select_related("visit__calibrator").get(pk=pk)
    # These stand-ins listen elsewhere than those that were read.
    take_up(actor=User.objects.get(pk=tuning.visit.calibrator_id), address=bench.address, now=now)
    return tuning


def _rows():
    with connection.cursor() as cursor:
        cursor.execute(TABLES, [NOT_OF_A_TEST])
        tables = [name for (name,) in cursor.fetchall()]
        rows = {}
        for table in tables:
            with cursor.copy(f"COPY {table} TO STDOUT (FORMAT binary)") as told:
                rows[table] = b"".join(told)
    empty = min(len(held) for held in rows.values())
    return {table: held for table, held in rows.items() if len(held) > empty}


def _put_back(rows):
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("SET LOCAL session_replication_role = replica")  # rows of one table point to those of another
        for table, held in rows.items():
            with cursor.copy(f"COPY {table} FROM STDIN (FORMAT binary)") as taken:
                taken.write(held)
