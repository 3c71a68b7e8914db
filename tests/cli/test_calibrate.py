"""``fenvik calibrate`` over real sockets: what it writes, what it refuses, and what a failing device does to it."""

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
MEMBERS = {
    "display", "mode", "target", "correction", "as_found", "as_left", "settings", "readings", "device_seconds", "restored", "notes",
}  # fmt: skip


class Shell:
    def __init__(self, *more):
        self.environment = os.environ | {"PYTHONPATH": str(ROOT / "src"), "PYTHONUNBUFFERED": "1"}
        command = [sys.executable, "-m", "fenvik.cli", "standins", "--haste", "inf", "--pair-code", "4711", *more]
        self.standins = subprocess.Popen(command, env=self.environment, stdout=subprocess.PIPE, text=True)
        self.directory = next(line.split()[1] for line in self.standins.stdout if line.startswith("directory"))

    def command(self, out, **changed):
        given = {
            "directory": self.directory, "display": "AQ75-0308", "pair": "4711", "mode": "q2", "source": "BP1-1180",
            "meter": "TS2-0031", "target": "bt709-bt1886", "settle": "0", "out": str(out),
        } | changed  # fmt: skip
        arguments = [part for name, value in given.items() if value for part in (f"--{name.replace('_', '-')}", value)]
        return [sys.executable, "-m", "fenvik.cli", "calibrate", *arguments]

    def run(self, out, **changed):
        return subprocess.run(
            self.command(out, **changed), env=self.environment, capture_output=True, text=True, timeout=120, check=False
        )

    def end(self):
        self.standins.kill()
        self.standins.wait(10)
        self.standins.stdout.close()


@pytest.fixture
def shell():
    made = Shell()
    yield made
    made.end()


def test_it_leaves_a_display_better_and_writes_what_it_did(shell, tmp_path):
    out = tmp_path / "out.json"
    done = shell.run(out, meter="PC1-2209", reference="TS2-0031")
    assert done.returncode == 0, done.stderr
    assert "as found" in done.stderr
    assert done.stdout == ""
    told = json.loads(out.read_text())
    assert set(told) == MEMBERS
    assert told["readings"] <= 150
    assert told["display"]["serial"] == "AQ75-0308"
    assert len(told["correction"]["matrix"]) == 3
    assert all(abs(row["dx"]) < 0.001 for row in told["correction"]["residuals"])
    found, left = (told[name]["summary"]["greyscale"]["mean_de2000"] for name in ("as_found", "as_left"))
    assert left < 0.8 < 3 < found
    assert told["as_left"]["readings"][0]["de2000"] is not None
    changed = [row for row in told["settings"] if row["before"] != row["after"]]
    assert any(row["role"].startswith("white.at.") for row in changed)
    assert any(row["role"].startswith("colour.") for row in changed)
    assert told["restored"] is False


@pytest.mark.parametrize(
    ("changed", "says"),
    [
        ({"steps": "white,magic"}, "--steps takes any of"),
        ({"directory": "nowhere"}, "HOST:PORT"),
        ({"budget": "10"}, "readings at least"),
        ({"display": "NOT-THERE"}, "no device NOT-THERE"),
        ({"display": "TS2-0031"}, "is a meter and not a display"),
        ({"mode": "zz"}, "has no mode zz"),
        ({"target": "bt2020-pq"}, "invalid choice"),
        ({"target": ""}, "required"),
    ],
)
def test_wrong_arguments_end_with_two_and_one_sentence(shell, tmp_path, changed, says):
    done = shell.run(tmp_path / "out.json", **changed)
    assert done.returncode == 2, done.stderr
    assert says in done.stderr
    assert "Traceback" not in done.stderr
    assert not (tmp_path / "out.json").exists()


def test_a_wrong_code_and_a_directory_that_is_not_there_are_said(shell, tmp_path):
    done = shell.run(tmp_path / "out.json", pair="0000")
    assert done.returncode == 3
    assert "not the code" in done.stderr


def test_ctrl_c_puts_everything_back(shell, tmp_path):
    out = tmp_path / "out.json"
    process = subprocess.Popen(
        shell.command(out, settle="0.05"), env=shell.environment, stderr=subprocess.PIPE, text=True
    )
    for line in process.stderr:
        if "points" in line:
            break
    time.sleep(0.5)
    process.send_signal(signal.SIGINT)
    process.wait(30)
    process.stderr.close()
    told = json.loads(out.read_text())
    assert process.returncode == 130
    assert told["restored"] is True
    assert all(row["before"] == row["after"] for row in told["settings"])
    assert told["as_left"] is None


def test_a_meter_that_drops_is_waited_for(tmp_path):
    shell = Shell("--fault", "drop", "--fault-after", "30", "--fault-for", "2")
    try:
        done = shell.run(tmp_path / "out.json", steps="white")
        assert done.returncode == 0, done.stderr
        assert json.loads((tmp_path / "out.json").read_text())["as_left"]["summary"]["greyscale"]["mean_de2000"] < 3
    finally:
        shell.end()
