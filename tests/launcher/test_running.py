"""docs/running.md, followed on an empty database: a firm, web and worker, sign-in, backup, restore, every row compared."""

import http.client
import http.cookiejar
import os
import re
import shlex
import subprocess
import sys
import time
import urllib.error
import urllib.parse
import urllib.request
from pathlib import Path

import psycopg
import pytest

from tests.launcher.filled import fill

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "bin"))
PAGE = (ROOT / "docs" / "running.md").read_text(encoding="utf-8")
PASSWORD = "seven grey herons"


def commands(which):
    """The lines of the page's blocks of commands, one list a block."""
    return [shlex.split(line) for line in re.findall(r"```sh\n(.*?)```", PAGE, re.S)[which].splitlines()]


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    from launcher.postgres import Postgres, free_port

    postgres = Postgres("running", throwaway=True)
    postgres.remove()
    postgres.start()
    fill(postgres)
    port = free_port()
    environment = {name: value for name, value in os.environ.items() if not name.startswith("FENVIK")} | {
        "DATABASE_URL": postgres.url, "FENVIK_SECRET_KEY": "only for tests " * 4, "PYTHONPATH": str(ROOT / "src"),
        "PYTHONUNBUFFERED": "1", "FENVIK_LOG_LEVEL": "WARNING", "FENVIK_POOL_PATIENCE_S": "90",
    }  # fmt: skip
    yield {"postgres": postgres, "port": port, "environment": environment, "folder": tmp_path_factory.mktemp("backup")}
    postgres.remove()


def run(place, line, typed="", **more):
    """A line of the page: what `./fenvik` runs, without setting the machine up anew."""
    assert line[0] == "./fenvik"
    words = [word.replace("/var/backups", str(place["folder"])) for word in line[1:]]
    command = [sys.executable, "-m", "fenvik.cli", *words]
    if words[0] in ("backup", "restore"):
        code = "import sys; from launcher.main import main; sys.exit(main(sys.argv[1:]))"
        command = [sys.executable, "-c", code, *words]
    environment = place["environment"] | {"PYTHONPATH": f"{ROOT / 'src'}:{ROOT / 'bin'}"} | more
    return subprocess.run(command, env=environment, input=typed, capture_output=True, text=True, check=False)


def fetch(place, path, **headers):
    request = urllib.request.Request(f"http://127.0.0.1:{place['port']}{path}", headers=headers)
    try:
        with urllib.request.urlopen(request, timeout=90) as answer:
            return answer.status, answer.read().decode(), answer.headers
    except urllib.error.HTTPError as problem:
        return problem.code, problem.read().decode(), problem.headers
    except (urllib.error.URLError, http.client.HTTPException, ConnectionError):  # what answers there may be no web server yet
        return 0, "", {}


def sign_in(place, says_it_is=""):
    browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
    address = f"http://127.0.0.1:{place['port']}/sign-in/"
    token = re.search(r'csrfmiddlewaretoken" value="([^"]+)', browser.open(address).read().decode()).group(1)
    form = urllib.parse.urlencode({"csrfmiddlewaretoken": token, "username": "maren", "password": PASSWORD}).encode()
    headers = {"Referer": address} | ({"X-Forwarded-For": says_it_is} if says_it_is else {})
    return browser.open(urllib.request.Request(address, form, headers)).read().decode()


def test_the_page_is_followed(place):
    migrate, start_firm, web, worker = commands(0)
    assert run(place, migrate).returncode == 0
    weak = run(place, start_firm, "12345\n")
    assert (weak.returncode, "too common" in weak.stderr) == (1, True)
    made = run(place, start_firm, f"{PASSWORD}\n")
    assert "Birch Row Pictures is there" in made.stdout
    web = ["--port", str(place["port"])] if web[2] == "--port" else web
    running = [start(place, *line) for line in (["web", *web], worker[1:])]
    try:
        wait_until_ready(place, *running)
        assert fetch(place, "/health/")[:2] == (200, "alive\n")
        assert "Birch Row" not in sign_in(place)
        assert "Visits" in sign_in(place)
        status, text, _ = fetch(place, "/metrics")
        assert status == 200
        assert 'fenvik_requests_total{method="POST",status="302",view="sign-in"} 2.0' in text
        assert fetch(place, "/sign-in/", **{"X-Request-Id": "proxy-mark-17"})[2]["X-Request-Id"] == "proxy-mark-17"
        _see_whom_it_believes(place)
        assert [process.poll() for process in running] == [None, None]
        _back_up_and_restore(place)
    finally:
        for process in running:
            process.terminate()
            process.wait(20)


def start(place, *words, **more):
    with (place["folder"] / f"{words[0]}.log").open("a") as log:
        return subprocess.Popen([sys.executable, "-m", "fenvik.cli", *words], env=place["environment"] | more, stderr=log)


def wait_until_ready(place, *running):
    end = time.monotonic() + 180
    while (answer := fetch(place, "/ready/")[:2])[0] != 200:
        logs = [log.read_text()[-2000:] for log in place["folder"].glob("*.log")]
        assert [process.poll() for process in running] == [None] * len(running), logs
        assert time.monotonic() < end, (answer, logs)
        time.sleep(0.1)


def _see_whom_it_believes(place):
    """What a client says of its address counts only where the one that it comes through was named as a proxy."""
    from launcher.postgres import free_port

    addresses = "SELECT DISTINCT address FROM people_signedin ORDER BY 1"
    port = free_port()
    behind = start(place, "web", "--port", str(port), FENVIK_PROXIES="127.0.0.1")
    try:
        sign_in(place, "10.1.2.3")
        with psycopg.connect(place["postgres"].url) as line:
            assert line.execute(addresses).fetchall() == [("127.0.0.1",)]
        wait_until_ready(place | {"port": port}, behind)
        sign_in(place | {"port": port}, "10.1.2.3")
        with psycopg.connect(place["postgres"].url) as line:
            assert line.execute(addresses).fetchall() == [("10.1.2.3",), ("127.0.0.1",)]
    finally:
        behind.terminate()
        behind.wait(20)


def _back_up_and_restore(place):
    backup, restore = commands(1)
    assert run(place, backup).returncode == 0
    again = run(place, backup)
    assert (again.returncode, "is there already" in again.stderr) == (1, True)
    assert "is not empty" in run(place, restore).stderr
    url = place["postgres"].url
    with psycopg.connect(url, autocommit=True) as line:
        line.execute("CREATE DATABASE empty")
    other = url.removesuffix("/fenvik") + "/empty"
    assert run(place, restore, DATABASE_URL=other).returncode == 0
    first, second = _everything(url), _everything(other)
    assert len(first) > 40
    assert first["people_firm"] == second["people_firm"]
    changing = {"procrastinate_workers", "django_session", "axes_accesslog"}  # what goes on while it is compared
    assert {k: v for k, v in first.items() if k not in changing} == {k: v for k, v in second.items() if k not in changing}
    cut = place["folder"] / "cut.dump"
    cut.write_bytes((place["folder"] / "fenvik.dump").read_bytes()[:-2000])
    with psycopg.connect(url, autocommit=True) as line:
        line.execute("CREATE DATABASE other")
    refused = run(place, ["./fenvik", "restore", str(cut)], DATABASE_URL=other.replace("/empty", "/other"))
    assert refused.returncode == 1
    assert _everything(other.replace("/empty", "/other")) == {}, "all of it or nothing"


def _everything(url):
    """Every row of every table, and every sequence."""
    with psycopg.connect(url) as line:
        tables = line.execute("SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY 1").fetchall()
        rows = {name: line.execute(f'SELECT t::text FROM "{name}" t ORDER BY 1').fetchall() for (name,) in tables}
        sequences = line.execute("SELECT sequencename, last_value FROM pg_sequences ORDER BY 1").fetchall()
    return rows | ({"sequences": sequences} if rows else {})


@pytest.mark.parametrize(
    ("command", "wrong", "says"),
    [
        ("web", {"FENVIK_SECRET_KEY": ""}, "FENVIK_SECRET_KEY is not set"),
        ("worker", {"FENVIK_TLS": "yes"}, "FENVIK_TLS is 1 or 0"),
        ("web", {"DATABASE_URL": "mysql://x"}, "DATABASE_URL is written postgresql://"),
        ("worker", {"FENVIK_POOL_SIZE": "many"}, "FENVIK_POOL_SIZE is a number"),
        ("web", {"FENVIK_PROXIES": "the proxy"}, "FENVIK_PROXIES holds addresses"),
        ("worker", {"FENVIK_TIME_ZONE": "Lake"}, "FENVIK_TIME_ZONE is a name"),
    ],
)  # fmt: skip
def test_a_wrong_setting_ends_the_start_with_a_sentence(place, command, wrong, says):
    ended = run(place, ["./fenvik", command], **wrong)
    assert ended.returncode == 2
    assert ended.stderr.startswith("fenvik: ")
    assert says in ended.stderr
    assert "Traceback" not in ended.stderr


def test_a_dead_database_of_the_demo_is_started_again_where_it_was():
    import signal
    import threading

    from launcher.postgres import Postgres

    postgres = Postgres("kept")
    postgres.remove()
    postgres.start()
    stopping = threading.Event()
    thread = threading.Thread(target=postgres.keep, args=(stopping,))
    thread.start()
    try:
        with psycopg.connect(postgres.url, autocommit=True) as line:
            line.execute("CREATE TABLE kept (n int); INSERT INTO kept VALUES (17)")
        os.kill(int((postgres.data / "postmaster.pid").read_text().splitlines()[0]), signal.SIGKILL)
        end = time.monotonic() + 90
        while True:
            assert time.monotonic() < end
            try:
                with psycopg.connect(postgres.url, connect_timeout=2) as line:
                    assert line.execute("SELECT n FROM kept").fetchone() == (17,)
                break
            except psycopg.OperationalError:
                time.sleep(0.2)
    finally:
        stopping.set()
        thread.join()
        postgres.remove()
