"""A database of an earlier Fenvik, as its own `pg_dump` wrote it, migrates with every row."""

import gzip
import os
import subprocess
import sys
from pathlib import Path
from urllib.parse import urlsplit, urlunsplit

import psycopg
import pytest
from django.conf import settings

ROOT = Path(__file__).resolve().parents[2]
DUMPS = sorted((ROOT / "tests" / "data").glob("fenvik-*.sql.gz"))
# Written by Django itself about the models that there are, or by us about what has run.
OF_THE_SCHEMA = {"django_migrations", "django_content_type", "auth_permission"}


def counted(url):
    with psycopg.connect(url) as line:
        tables = line.execute("SELECT tablename FROM pg_tables WHERE schemaname = 'public'").fetchall()
        return {name: line.execute(f'SELECT count(*) FROM "{name}"').fetchone()[0] for (name,) in tables}


@pytest.fixture(params=DUMPS, ids=lambda path: path.name.removesuffix(".sql.gz"))
def earlier(request):
    sys.path.insert(0, str(ROOT / "bin"))
    from launcher.setup import postgres_bin

    server = os.environ["DATABASE_URL"]
    url = urlunsplit(urlsplit(server)._replace(path="/earlier"))
    with psycopg.connect(server, autocommit=True) as line:
        line.execute("DROP DATABASE IF EXISTS earlier WITH (FORCE)")
        line.execute("CREATE DATABASE earlier")
        restore = [str(postgres_bin() / "psql"), "-q", "-v", "ON_ERROR_STOP=1", "-d", url]
        subprocess.run(restore, input=gzip.decompress(request.param.read_bytes()), check=True, capture_output=True)
        yield url
        line.execute("DROP DATABASE earlier WITH (FORCE)")


def sent(text):
    """The signal of a row of columns, as it was remembered."""
    format_, colorimetry = text.strip("()").split(",")[:2]
    return {"format": format_, "colorimetry": colorimetry}


def test_an_earlier_database_migrates_with_every_row(earlier):
    before = counted(earlier)
    with psycopg.connect(earlier) as line:
        conditions = dict(line.execute("SELECT id, conditions FROM passes_pass"))
    assert before["passes_reading"] >= 40
    assert before["adjusting_controlchange"] > 10
    own = {"DATABASE_URL": earlier, "PYTHONPATH": str(ROOT / "src"), "FENVIK_SECRET_KEY": settings.SECRET_KEY}
    environment = os.environ | own
    migrate = [sys.executable, "-m", "fenvik.cli", "manage", "migrate", "--verbosity", "0"]
    done = subprocess.run(migrate, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    after = counted(earlier)
    with psycopg.connect(earlier) as line:
        passes = dict(line.execute("SELECT id, row(signal_format, colorimetry)::text FROM passes_pass"))
        warmth = dict(line.execute("SELECT pass_of_id, warm_up_watched FROM passes_circumstance"))
        knew = line.execute("SELECT count(*) FROM passes_reading WHERE knew IS NULL").fetchone()[0]
        ends = line.execute(
            "SELECT count(*) FROM passes_reading r JOIN adjusting_controlchange c ON c.id = r.knew WHERE c.at > r.started_at"
        ).fetchone()[0]
    # What was remembered with each pass has its own place now.
    assert len(passes) == len(warmth) == before["passes_pass"]
    assert {pk: told["signal"] for pk, told in conditions.items()} == {pk: sent(text) for pk, text in passes.items()}
    watched = {pk: told["warm_up"]["watched"] if told.get("warm_up") else None for pk, told in conditions.items()}
    assert watched == warmth
    assert (knew, ends) == (0, 0)
    wanted = before.keys() - OF_THE_SCHEMA
    lost = {name: (before[name], after.get(name)) for name in wanted if after.get(name) != before[name]}
    assert lost == {}
