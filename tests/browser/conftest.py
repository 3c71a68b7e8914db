"""A whole system for a browser: worker and web as processes of their own, on the tests' database, and stand-ins in a thread."""

import asyncio
import os
import random
import socket
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from pathlib import Path

import pytest
import uvicorn

from fenvik.standins.bench import make_bench
from fenvik.standins.serve import running
from fenvik.standins.web import make_app

ROOT = Path(__file__).resolve().parents[2]


class Standins:
    """Stand-ins that nobody has touched, and their pages, on ports of their own until they are ended."""

    def __init__(self):
        self.bench, self._ready = make_bench(haste=60, pair_code="4711"), threading.Event()
        self._listening = socket.create_server(("127.0.0.1", 0))
        self._server = uvicorn.Server(uvicorn.Config(make_app(self.bench), log_level="error", timeout_graceful_shutdown=1))
        self._thread = threading.Thread(target=lambda: asyncio.run(self._serve()))
        self._thread.start()
        assert self._ready.wait(90)
        self.directory = f"127.0.0.1:{self.bench.directory.port}"
        self.pages = f"http://127.0.0.1:{self._listening.getsockname()[1]}/"

    async def _serve(self):
        async with running(self.bench, 0):
            self._ready.set()
            await self._server.serve(sockets=[self._listening])

    def end(self):
        self._server.should_exit = True
        self._thread.join()
        self._listening.close()


class System:
    """Processes that can be started and killed one by one."""

    def __init__(self, database_url):
        self.environment = os.environ | {
            "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}", "PYTHONUNBUFFERED": "1", "DATABASE_URL": database_url,
            "FENVIK_SECRET_KEY": "only for tests " * 4, "FENVIK_LOG_LEVEL": "ERROR", "FENVIK_POOL_PATIENCE_S": "30",
        }
        self.running = {}
        self.port = 0
        self.log = tempfile.TemporaryFile()  # noqa: SIM115 - what all of them say is wrong; closed with them
        self.read = 0

    def start(self, name, *arguments):
        command = [sys.executable, "-m", "tests.at_once", name, *arguments]
        self.running[name] = subprocess.Popen(command, env=self.environment, stdout=subprocess.PIPE, stderr=self.log, text=True)
        return self.running[name]

    def start_web(self):
        """Start the web where it was before. A port below those that the system gives away is taken by nobody meanwhile."""
        self.port = self.port or random.randrange(20_000, 30_000)
        process = self.start("web", "--port", str(self.port))
        end = time.monotonic() + 90
        while time.monotonic() < end:
            if process.poll() is not None:  # somebody's after all
                self.kill("web")
                self.port = 0
                return self.start_web()
            try:
                urllib.request.urlopen(f"{self.address}/health/", timeout=2).close()
                return None
            except OSError:
                time.sleep(0.05)
        raise AssertionError("the web did not start")

    def kill(self, name):
        """As a power cut would: no chance to tidy up."""
        process = self.running.pop(name)
        process.kill()
        process.wait(10)
        process.stdout.close()

    def end(self):
        for name in list(self.running):
            self.kill(name)
        self.log.close()

    def new_in_the_log(self):
        """What has been said since it was asked last. Those who write go on where they are: they are not moved by it."""
        said = os.pread(self.log.fileno(), os.fstat(self.log.fileno()).st_size - self.read, self.read)
        self.read += len(said)
        return said.decode("utf-8", "replace")

    @property
    def address(self):
        return f"http://127.0.0.1:{self.port}"


@pytest.fixture(scope="package")
def processes(django_db_setup):
    """Web and worker on the tests' database; they stay from test to test, for starting them costs more than most tests.

    They end with this folder: a worker that stays would do the work of the tests that come after it.
    """
    from urllib.parse import quote

    from django.conf import settings

    database = settings.DATABASES["default"]
    made = System(
        f"postgresql://{database['USER']}:{quote(database['PASSWORD'])}@{database['HOST']}:{database['PORT']}/{database['NAME']}"
    )
    yield made
    made.end()


@pytest.fixture
def system(transactional_db, processes, person):
    """The whole system with stand-ins that nobody has touched; what an earlier test killed is started again."""
    for name in ("worker", "web"):
        if name in processes.running and processes.running[name].poll() is not None:
            processes.running.pop(name)
    standins = Standins()
    processes.directory, processes.pages = standins.directory, standins.pages
    if "worker" not in processes.running:
        processes.start("worker")
    if "web" not in processes.running:
        processes.start_web()
    try:
        yield processes
    finally:
        processes.new_in_the_log()
        # Nobody is to work on what the next test's database no longer has.
        standins.end()
        if "worker" in processes.running and not _is_idle():
            processes.kill("worker")


def _is_idle():
    from fenvik.web.passes.models import Pass

    return not Pass.objects.filter(finished_at__isnull=True).exists()


@pytest.fixture
def context(chromium):
    made = chromium.new_context(viewport={"width": 1280, "height": 800})
    made.set_default_timeout(90_000)
    yield made
    made.close()


@pytest.fixture
def page(context, system):
    """A signed-in page that tolerates no error in its console."""
    made = context.new_page()
    complaints = []
    made.on("pageerror", lambda error: complaints.append(str(error)))

    def heard(message):
        # A refused form answers 422, which Chromium writes into the console: that is no mistake of the page.
        if message.type == "error" and "422" not in message.text:
            complaints.append(f"{message.text} {system.new_in_the_log()[-2000:]}")
            sys.stderr.write(complaints[-1])

    made.on("console", heard)
    made.complaints = complaints
    made.goto(f"{system.address}/sign-in/")
    made.fill("#id_username", "ina")
    made.fill("#id_password", "quiet water")
    made.press("#id_password", "Enter")
    made.wait_for_url("**/visits/")
    return made


@pytest.fixture
def equipped_for_browser(system, tuning, person, now):
    """The tuning with the system's own stand-ins, its settings noted."""
    from fenvik.web.controls.services import note_found
    from fenvik.web.demo.build import factory_sheet
    from fenvik.web.devices.services import take_up

    found = take_up(actor=person, address=system.directory, now=now)
    tuning.meter = next(d for d in found.devices if d.facts.get("kind") == "spectroradiometer")
    tuning.source = next(d for d in found.devices if d.role == "source")
    tuning.save()
    note_found(tuning_id=tuning.pk, actor=person, typed=factory_sheet(), now=now)
    return tuning
