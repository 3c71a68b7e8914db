"""The launcher: what it starts it ends, what dies is replaced, and what it may not install it names."""

import io
import os
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "bin"))

from launcher import main as launcher
from launcher import setup
from launcher.postgres import Postgres, free_port
from launcher.processes import MOST_QUICK_DEATHS, Processes

SLEEPER = [sys.executable, "-c", "import time; print('ready 17', flush=True); time.sleep(60)"]


@pytest.fixture
def processes():
    made = Processes(io.StringIO())
    yield made
    made.stop()


def until(condition, seconds=90):
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end
        time.sleep(0.02)


def alive(number):
    try:
        os.kill(number, 0)
    except ProcessLookupError:
        return False
    return True


def test_a_part_that_is_killed_is_replaced(processes):
    part = processes.start("sleeper", SLEEPER, {})
    assert processes.wait_line(part, "ready", 8) == "17"
    first = part.process.pid
    part.started -= 60  # it has run for a while: no quick death
    part.process.kill()
    until(lambda: part.process.pid != first)
    assert alive(part.process.pid)
    assert not processes.stopping.is_set()


def test_stopping_ends_every_part_and_nothing_else(processes):
    other = subprocess.Popen(SLEEPER, stdout=subprocess.DEVNULL)
    try:
        parts = [processes.start(name, SLEEPER, {}) for name in ("one", "two")]
        for part in parts:
            processes.wait_line(part, "ready", 8)
        numbers = [part.process.pid for part in parts]
        processes.stop()
        until(lambda: not any(alive(number) for number in numbers))
        assert other.poll() is None
    finally:
        other.kill()
        other.wait()


def test_a_part_that_dies_again_and_again_is_given_up(processes):
    part = processes.start("broken", [sys.executable, "-c", "print('no'); raise SystemExit(1)"], {})
    until(processes.stopping.is_set)
    assert processes.failed == "broken"
    assert part.quick_deaths == MOST_QUICK_DEATHS


def test_where_nothing_may_be_installed_it_says_what_to_install(monkeypatch):
    monkeypatch.setattr(setup, "missing_packages", lambda *, browser: ["postgresql", setup.BROWSER] if browser else [])
    monkeypatch.setattr(os, "geteuid", lambda: 1000)
    setup.install_packages(browser=False)
    with pytest.raises(setup.SetupError, match="As root: apt-get install postgresql chromium-headless-shell"):
        setup.install_packages(browser=True)


def test_a_taken_port_is_avoided_and_a_free_one_kept(monkeypatch, tmp_path):
    monkeypatch.setattr(launcher, "STATE", tmp_path)
    wanted = free_port()
    with socket.create_server(("127.0.0.1", wanted)):
        other = launcher._kept_port("web", wanted)
        assert other != wanted
    assert launcher._kept_port("pages") == launcher._kept_port("pages")
    assert launcher._kept_port("web", wanted) == wanted


def test_two_that_start_at_the_same_moment_take_two_ports(monkeypatch, tmp_path):
    """Neither listens yet, so both see the port free: whoever claims it first has it."""
    wanted, taken = free_port(), []
    code = "import sys; sys.path.insert(0, 'bin'); from launcher import main; print(main._claim(int(sys.argv[1]))); input()"
    command = [sys.executable, "-c", code, str(wanted)]
    started = [subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) for _ in range(3)]
    try:
        taken = [process.stdout.readline().strip() for process in started]
    finally:
        for process in started:
            process.communicate("\n", timeout=90)
    assert sorted(taken) == ["False", "False", "True"]
    monkeypatch.setattr(launcher, "STATE", tmp_path)
    assert launcher._kept_port("web", wanted) == wanted, "free again once they have ended"


def test_two_checkouts_have_two_clusters(monkeypatch, tmp_path):
    here = Postgres("demo")
    monkeypatch.setattr("launcher.postgres.ROOT", tmp_path)
    there = Postgres("demo")
    assert os.geteuid() != 0 or here.home != there.home
    assert Postgres("test").home != there.home


@pytest.mark.parametrize("arguments", [["nonsense"], [], ["demo", "--colour"], ["demo", "--port", "x"]])
def test_a_wrong_command_shows_how_it_is_used(arguments, capsys, monkeypatch):
    assert launcher.main(arguments) == 2
    assert "usage: ./fenvik COMMAND" in capsys.readouterr().err


def test_words_after_a_bench_are_for_it_and_all_are_run_where_none_is_named():
    there = ["charts", "greys", "nudge"]
    assert launcher.benches_asked([], there) == [(name, []) for name in there]
    assert launcher.benches_asked(["greys", "1000", "--count", "5", "nudge"], there) == [
        ("greys", ["1000", "--count", "5"]),
        ("nudge", []),
    ]
    with pytest.raises(SystemExit, match="no bench named colours"):
        launcher.benches_asked(["colours"], there)
