"""PostgreSQL killed in the middle of a pass: what was stored is there, and the pass goes on by itself."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import psycopg
import pytest

from tests.launcher.filled import fill

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "bin"))

PREPARE = """
import django; django.setup()
from django.utils import timezone
from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.devices.models import Device
from fenvik.web.devices.services import take_up
from fenvik.web.passes.services import start_pass
from fenvik.web.people.models import Firm, User
from fenvik.web.visits.models import Tuning, Visit
import sys
now = timezone.now()
firm = Firm.objects.create(name="A firm")
person = User.objects.create_user(username="ina", firm=firm)
room = Room.objects.create(client=Client.objects.create(firm=firm, name="A client"), name="Snug")
display = Display.objects.create(room=room, maker="Orrefall", model="55")
visit = Visit.objects.create(firm=firm, client=room.client, on=now.date(), calibrator=person)
assert not take_up(actor=person, address=sys.argv[1], now=now).problems
tuning = Tuning.objects.create(visit=visit, display=display, name="Night", picture_mode="Film", settle_s=0,
    meter=Device.objects.get(serial="TS2-0031"), source=Device.objects.get(serial="BP1-1180"), lists={"chosen": ["grey-21"]})
print(start_pass(tuning_id=tuning.pk, actor=person, now=now).pk)
"""


class Site:
    """A database of its own that can be killed, stand-ins, and a worker that is started again when it ends."""

    def __init__(self):
        from launcher.postgres import Postgres

        self.postgres = Postgres("power-cut")
        self.postgres.remove()
        self.postgres.start()
        self.environment = os.environ | {
            "PYTHONPATH": str(ROOT / "src"), "DATABASE_URL": self.postgres.url, "FENVIK_SECRET_KEY": "only for tests " * 4,
            "FENVIK_LOG_LEVEL": "CRITICAL", "DJANGO_SETTINGS_MODULE": "fenvik.web.settings", "PYTHONUNBUFFERED": "1",
        }  # fmt: skip
        if not fill(self.postgres):
            subprocess.run([sys.executable, "-m", "django", "migrate", "-v0"], env=self.environment, check=True)
        self.running = {}

    def start(self, *command):
        process = subprocess.Popen(
            [sys.executable, "-m", "fenvik.cli", *command], env=self.environment, stdout=subprocess.PIPE, text=True
        )
        self.running[command[0]] = process
        return process

    def look_after(self):
        """Start the worker again where it has ended, as whatever runs Fenvik does."""
        if self.running["worker"].poll() is not None:
            self.running["worker"].stdout.close()
            self.start("worker")

    def rows(self, query):
        with psycopg.connect(self.postgres.url, connect_timeout=2) as line:
            return line.execute(query).fetchall()

    def cut(self):
        """Kill the server as a power cut would, and start it again where it was."""
        pid = int((self.postgres.data / "postmaster.pid").read_text().splitlines()[0])
        os.kill(pid, signal.SIGKILL)
        children = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True, check=False).stdout
        for child in children.split():
            os.kill(int(child), signal.SIGKILL)
        time.sleep(1.5)
        port = self.postgres.port_file.read_text().strip()
        settings = ["listen_addresses=127.0.0.1", "unix_socket_directories=", f"port={port}", "max_connections=120"]
        options = " ".join(f"-c '{setting}'" for setting in settings)
        for _ in range(20):
            log = str(self.postgres.home / "log")
            result = self.postgres._run(
                "pg_ctl", "start", "-w", "-D", str(self.postgres.data), "-l", log, "-o", options, check=False
            )
            if result.returncode == 0:
                return
            time.sleep(0.5)
        raise AssertionError(result.stdout)

    def end(self):
        for process in self.running.values():
            process.kill()
            process.wait(10)
            process.stdout.close()
        self.postgres.remove()


@pytest.fixture
def site():
    made = Site()
    yield made
    made.end()


def test_a_killed_database_costs_at_most_the_reading_in_flight(site):
    standins = site.start("standins", "--haste", "12")
    address = next(line.split()[1] for line in standins.stdout if line.startswith("directory"))
    prepared = subprocess.run(
        [sys.executable, "-c", PREPARE, address], env=site.environment, capture_output=True, text=True, check=True
    )
    pass_id = int(prepared.stdout.split()[-1])
    site.start("worker")
    stored = f"SELECT id, index, y FROM passes_reading WHERE pass_id = {pass_id} ORDER BY id"
    end = time.monotonic() + 90
    while len(before := site.rows(stored)) < 5:
        assert time.monotonic() < end
        time.sleep(0.05)
    site.cut()
    after = site.rows(stored)
    assert after[: len(before)] == before, "nothing that was stored is lost"
    state = f"SELECT state FROM passes_pass WHERE id = {pass_id}"
    end = time.monotonic() + 90
    while site.rows(state) != [("done",)]:
        assert time.monotonic() < end, site.rows(state)
        site.look_after()
        time.sleep(0.3)
    assert [index for _, index, _ in site.rows(stored)] == list(range(21)), "each patch once, in order"


def test_a_frozen_worker_comes_back_and_stores_nothing_twice(site):
    """Stopped for longer than its heartbeat and let go on, twice: another has the pass by then, and the frozen one lives on."""
    standins = site.start("standins", "--haste", "12")
    address = next(line.split()[1] for line in standins.stdout if line.startswith("directory"))
    command = [sys.executable, "-c", PREPARE, address]
    prepared = subprocess.run(command, env=site.environment, capture_output=True, text=True, check=True)
    pass_id = int(prepared.stdout.split()[-1])
    stored = f"SELECT index FROM passes_reading WHERE pass_id = {pass_id} ORDER BY id"
    token = f"SELECT run_token FROM passes_pass WHERE id = {pass_id}"

    def until(condition):
        end = time.monotonic() + 90
        while not condition():
            assert time.monotonic() < end, (site.rows(stored), site.rows(f"SELECT state FROM passes_pass WHERE id = {pass_id}"))
            time.sleep(0.05)

    first = site.start("worker")
    until(lambda: len(site.rows(stored)) >= 4)
    second = site.start("worker")
    for frozen, least in ((first, 6), (second, 12)):
        holder = site.rows(token)
        frozen.send_signal(signal.SIGSTOP)
        until(lambda holder=holder: site.rows(token) != holder)
        until(lambda least=least: len(site.rows(stored)) >= least)
        frozen.send_signal(signal.SIGCONT)
        time.sleep(1.0)  # what it would do wrong, it does now
    until(lambda: site.rows(f"SELECT state FROM passes_pass WHERE id = {pass_id}") == [("done",)])
    assert [index for (index,) in site.rows(stored)] == list(range(21)), "each patch once, in order"
    assert [worker.poll() for worker in (first, second)] == [None, None]
    until(lambda: site.rows("SELECT count(*) FROM procrastinate_jobs") == [(0,)])
    first.kill()
    first.wait(10)
    first.stdout.close()
