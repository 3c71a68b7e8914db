"""What the benches share: a database and stand-ins of their own, and one way to print a ratio.

Run a bench with `./fenvik bench NAME`; it needs nothing but the launcher.
"""

import os
import socket
import statistics
import subprocess
import sys
import time
import uuid
from collections.abc import Callable
from pathlib import Path

import django
from django.core.management import call_command

ROOT = Path(__file__).resolve().parents[1]


def set_up() -> None:
    """Set Django up on the bench's own database."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "fenvik.web.settings")
    os.environ.setdefault("FENVIK_LOG_LEVEL", "ERROR")
    django.setup()
    call_command("migrate", verbosity=0)


def a_tuning(address: str):  # type: ignore[no-untyped-def]
    """Return a tuning of a new firm with the stand-ins at a directory's address."""
    from django.utils import timezone

    from fenvik.web.clients.models import Client, Display, Room
    from fenvik.web.controls.services import note_found
    from fenvik.web.demo.build import factory_sheet, standin_menu_map
    from fenvik.web.devices.services import take_up
    from fenvik.web.people.models import Firm, User
    from fenvik.web.visits.models import Tuning, Visit

    firm = Firm.objects.create(name=f"bench {uuid.uuid4()}")
    person = User.objects.create_user(username=str(uuid.uuid4()), firm=firm)
    client = Client.objects.create(firm=firm, name="A client")
    room = Room.objects.create(client=client, name="Snug")
    display = Display.objects.create(room=room, maker="Orrefall", model="55", menu_map=standin_menu_map(firm))
    visit = Visit.objects.create(firm=firm, client=client, on=timezone.localdate(), calibrator=person)
    found = take_up(actor=person, address=address, now=timezone.now())
    meter = next(d for d in found.devices if d.facts.get("kind") == "spectroradiometer")
    source = next(d for d in found.devices if d.role == "source")
    tuning = Tuning.objects.create(
        visit=visit, display=display, name="Snug, night", picture_mode="Film", meter=meter, source=source, settle_s=0
    )
    note_found(tuning_id=tuning.pk, actor=person, typed=factory_sheet(), now=timezone.now())
    return tuning, person


def web_and_worker() -> tuple[int, list[subprocess.Popen[bytes]]]:
    """Start the web on a free port and a worker; return the port and the processes."""
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
    environment = os.environ | {"PYTHONPATH": str(ROOT / "src")}
    commands = (["web", "--port", str(port)], ["worker"])
    return port, [subprocess.Popen([sys.executable, "-m", "fenvik.cli", *command], env=environment) for command in commands]


def seconds(function: Callable[[], object], times: int) -> list[float]:
    """Return how long each of so many calls took."""
    taken = []
    for _ in range(times):
        started = time.perf_counter()
        function()
        taken.append(time.perf_counter() - started)
    return taken


def p95(values: list[float]) -> float:
    """Return the 95th percentile."""
    return statistics.quantiles(values, n=20)[-1] if len(values) > 1 else values[0]


def say(what: str, value: float, unit: str = "", limit: str = "") -> None:
    """Print one figure."""
    print(f"{what:<62} {value:>10.3f} {unit:<6} {limit}", flush=True)
