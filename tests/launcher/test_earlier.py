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


def test_an_earlier_database_migrates_with_every_row(earlier):
    before = counted(earlier)
    assert before["passes_reading"] >= 40
    assert before["adjusting_controlchange"] > 10
    own = {"DATABASE_URL": earlier, "PYTHONPATH": str(ROOT / "src"), "FENVIK_SECRET_KEY": settings.SECRET_KEY}
    environment = os.environ | own
    migrate = [sys.executable, "-m", "fenvik.cli", "manage", "migrate", "--verbosity", "0"]
    done = subprocess.run(migrate, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    after = counted(earlier)
    wanted = before.keys() - OF_THE_SCHEMA
    lost = {name: (before[name], after.get(name)) for name in wanted if after.get(name) != before[name]}
    assert lost == {}
