"""The commands of ./fenvik."""

import contextlib
import fcntl
import os
import secrets
import signal
import socket
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FrameType
from typing import IO

from launcher import archive
from launcher.postgres import HOST, Postgres, free_port
from launcher.processes import Processes
from launcher.setup import PYTHON, ROOT, STATE, SetupError, install_packages, make_venv, run_python, say
from launcher.testing import run_tests

USAGE = """usage: ./fenvik COMMAND [...]

  demo [--fresh] [--port N]   the application with demo data, on loopback; Ctrl-C ends it
  test [PYTEST ARGUMENTS]     linters and tests; with arguments, those tests alone
  bench [NAME ... [OPTIONS]]  the benches named, or all; what is no name is for the one before it
  standins [...]              the simulated devices alone; --help tells more
  analyse FILE --target NAME  what a file of readings says about a display; --help tells more
  calibrate …                 hands-free over the device link, from a shell; --help tells more
  white-shift …               what a picture mode adds to white by itself
  correct REFERENCE METER     the correction of a field meter from two files of readings; --help tells more
  backup FILE                 the whole database of DATABASE_URL into a file, which is read through afterwards
  restore FILE                such a file into an empty database of DATABASE_URL
  web | worker | manage [...] run it in earnest, from DATABASE_URL and the settings in docs/running.md
"""
DEMO_PORT = 8642
DEMO_HASTE = "20"
START_S = 40.0


def _exec(*arguments: str) -> int:
    """Become another Python program, so signals and exit status are its own."""
    os.environ["PYTHONPATH"] = str(ROOT / "src")
    os.execv(str(PYTHON), [str(PYTHON), *arguments])


def _secret() -> str:
    STATE.mkdir(exist_ok=True)
    path = STATE / "secret"
    if not path.exists():
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(48))
    return path.read_text()


def _is_free(port: int) -> bool:
    try:
        with socket.create_server((HOST, port)):
            return True
    except OSError:
        return False


_claims: dict[int, IO[str]] = {}  # ports, each with a lock that is held until the launcher ends


def _claim(port: int) -> bool:
    """Claim a free port for this launcher, also against one of another checkout that starts in the same moment."""
    if not _is_free(port):
        return False
    if port in _claims:
        return True
    try:
        claim = (Path(tempfile.gettempdir()) / f"fenvik-port-{port}.lock").open("a+")
        fcntl.flock(claim, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    _claims[port] = claim
    return True


def _kept_port(name: str, wanted: int = 0) -> int:
    """Return a port that stays the same from start to start where nobody else has taken it."""
    path = STATE / f"{name}.port"
    kept = int(path.read_text()) if path.exists() else 0
    for port in (wanted, kept, *(free_port() for _ in range(20))):
        if port and _claim(port):
            path.write_text(str(port))
            return port
    raise SetupError("no free port was found on this machine")


def demo(arguments: list[str]) -> int:
    """Run the application with demo data until Ctrl-C."""
    fresh = "--fresh" in arguments
    rest = [a for a in arguments if a != "--fresh"]
    wanted = DEMO_PORT
    if rest[:1] == ["--port"] and len(rest) == 2 and rest[1].isdigit():
        wanted, rest = int(rest[1]), []
    if rest:
        print(USAGE, file=sys.stderr)
        return 2
    STATE.mkdir(exist_ok=True)
    with _alone("demo"):
        install_packages(browser=False)
        say("preparing: packages and Python's environment")
        make_venv("app")
        return _run_demo(fresh, wanted)


@contextlib.contextmanager
def _alone(name: str) -> Iterator[None]:
    """Hold a lock of this checkout, so whoever holds it may stop the database too. Raises SetupError."""
    STATE.mkdir(exist_ok=True)
    with (STATE / f"{name}.lock").open("a+") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise SetupError(f"`./fenvik {name}` of this checkout is running already; end that one first") from None
        yield


def _run_demo(fresh: bool, wanted: int) -> int:
    postgres = Postgres("demo")
    if fresh:
        postgres.remove()
        for kept in (STATE / "standins").glob("*.json"):
            kept.unlink()
    stopped: list[int] = []

    def on_signal(number: int, _: FrameType | None) -> None:
        stopped.append(number)
        processes.stopping.set()

    with (STATE / "demo.log").open("w", encoding="utf-8") as log:
        processes = Processes(log)
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, on_signal)
        say("starting the database")
        postgres.start()
        address = ""
        threading.Thread(target=postgres.keep, args=(processes.stopping,), daemon=True).start()
        try:
            address = _start_parts(processes, postgres, wanted)
            if address:
                print(
                    f"\nFenvik is at {address}\nSign in as  demo  with the password  lakeside\nCtrl-C ends it.\n",
                    flush=True,
                )
                processes.stopping.wait()
        finally:
            processes.stop()
            postgres.stop()
    if processes.failed or not (address or stopped):
        say(f"{processes.failed or 'the start'} failed; the last lines of .fenvik/demo.log:")
        tail = (STATE / "demo.log").read_text(encoding="utf-8").splitlines()[-12:]
        print("\n".join(line[:400] for line in tail), file=sys.stderr)
        return 1
    return 0


def _start_parts(processes: Processes, postgres: Postgres, wanted: int) -> str:
    environment = {
        "PYTHONPATH": str(ROOT / "src"),
        "PYTHONUNBUFFERED": "1",
        "MALLOC_ARENA_MAX": "2",  # large pictures come and go in threads: more arenas would keep them all
        "DATABASE_URL": postgres.url,
        "FENVIK_SECRET_KEY": _secret(),
    }
    port = _kept_port("web", wanted)
    if port != wanted:
        say(f"port {wanted} is taken; this one uses {port}")
    say("starting the stand-ins, bringing the database up to date")
    standins = processes.start(
        "standins",
        [
            str(PYTHON),
            "-m",
            "fenvik.cli",
            "standins",
            "--haste",
            DEMO_HASTE,
            "--port",
            str(_kept_port("directory")),
            "--web-port",
            str(_kept_port("pages")),
            "--state",
            str(STATE / "standins"),
        ],
        environment,
    )
    if run_python("-m", "fenvik.cli", "manage", "migrate", "--verbosity", "0", environment=environment) != 0:
        return ""
    directory = processes.wait_line(standins, "directory ", START_S)
    pages = processes.wait_line(standins, "pages ", START_S)
    if not directory or processes.stopping.is_set():
        return ""
    say("filling the guest house: the first time it is measured, which takes a minute")
    environment["FENVIK_STANDIN_PAGES"] = pages
    environment["FENVIK_ADDRESS"] = f"http://{HOST}:{port}"
    fill = ["-m", "fenvik.cli", "manage", "fill_demo", "--directory", directory]
    if run_python(*fill, environment=environment | {"FENVIK_LOG_LEVEL": "WARNING"}) != 0:
        return ""
    say("starting the application")
    processes.start("worker", [str(PYTHON), "-m", "fenvik.cli", "worker"], environment)
    processes.start("web", [str(PYTHON), "-m", "fenvik.cli", "web", "--port", str(port)], environment)
    end = time.monotonic() + START_S
    while time.monotonic() < end and not processes.stopping.is_set():
        if not _is_free(port):
            return f"http://{HOST}:{port}/"
        time.sleep(0.05)
    return ""


def test(arguments: list[str]) -> int:
    """Run linters and tests on a PostgreSQL of their own."""
    with _alone("test"):
        install_packages(browser=True)
        make_venv("dev")
        return run_tests(arguments)


def benches_asked(arguments: list[str], there: list[str]) -> list[tuple[str, list[str]]]:
    """Return the benches to run, all unless any are named, each with the words that follow its name."""
    asked: list[tuple[str, list[str]]] = []
    for word in arguments:
        if word in there:
            asked.append((word, []))
        elif asked:
            asked[-1][1].append(word)
        else:
            raise SystemExit(f"There is no bench named {word}. There are: {', '.join(there)}.")
    return asked or [(name, []) for name in there]


def bench(arguments: list[str]) -> int:
    """Run the benches named, or all, on a PostgreSQL of their own."""
    there = sorted(p.stem for p in (ROOT / "bench").glob("*.py") if p.stem not in ("common", "displays", "looped", "__init__"))
    asked = benches_asked(arguments, there)
    install_packages(browser=True)
    make_venv("dev")
    for name, words in asked:
        postgres = Postgres("bench")
        postgres.remove()
        postgres.start()
        environment = {"DATABASE_URL": postgres.url, "FENVIK_SECRET_KEY": secrets.token_urlsafe(48)}
        try:
            say(f"bench: {name}")
            if run_python(str(ROOT / "bench" / f"{name}.py"), *words, environment=environment) != 0:
                return 1
        finally:
            postgres.remove()
    return 0


def _in_earnest(command: str) -> Callable[[list[str]], int]:
    def run(arguments: list[str]) -> int:
        make_venv("app")
        return _exec("-m", "fenvik.cli", command, *arguments)

    return run


def backup(arguments: list[str]) -> int:
    """Write the whole database into a file."""
    return archive.backup(arguments)


def restore(arguments: list[str]) -> int:
    """Read such a file into an empty database."""
    return archive.restore(arguments)


COMMANDS: dict[str, Callable[[list[str]], int]] = {
    "demo": demo,
    "test": test,
    "bench": bench,
    "backup": backup,
    "restore": restore,
    **{
        name: _in_earnest(name)
        for name in ("standins", "analyse", "correct", "calibrate", "white-shift", "web", "worker", "manage")
    },
}


def main(arguments: list[str]) -> int:
    """Run a command of the launcher."""
    if not arguments or arguments[0] not in COMMANDS:
        print(USAGE, file=sys.stderr)
        return 0 if arguments[:1] in (["--help"], ["-h"]) else 2
    try:
        return COMMANDS[arguments[0]](arguments[1:])
    except SetupError as error:
        say(str(error))
        return 1
    except KeyboardInterrupt:
        return 130
