"""``fenvik calibrate`` over real sockets: what it writes, what it refuses, and what a failing device does to it."""

import dataclasses
import json
import os
import signal
import subprocess
import sys
import time
from io import StringIO
from pathlib import Path

import numpy as np
import pytest

from fenvik.cli import calibrate
from fenvik.core.procedures.steps import RefusedError, TooBrightError
from fenvik.link.devices import MeterReading
from fenvik.link.faults import DeviceError
from fenvik.session.lines import Wanted
from fenvik.session.rig import LinkRig
from fenvik.standins import menu

ROOT = Path(__file__).resolve().parents[2]
MEMBERS = {
    "display", "mode", "target", "correction", "as_found", "as_left", "settings", "readings", "device_seconds", "restored", "notes",
    "installed", "white_xy",
}  # fmt: skip


class Shell:
    quick = True  # without waiting for a light that follows at once

    def __init__(self, *more):
        self.environment = os.environ | {"PYTHONPATH": f"{ROOT / 'src'}:{ROOT}", "PYTHONUNBUFFERED": "1"}
        command = [sys.executable, "-m", "fenvik.cli", "standins", "--haste", "inf", "--pair-code", "4711", *more]
        self.standins = subprocess.Popen(command, env=self.environment, stdout=subprocess.PIPE, text=True)
        self.directory = next(line.split()[1] for line in self.standins.stdout if line.startswith("directory"))

    def arguments(self, out, **changed):
        given = {
            "directory": self.directory, "display": "AQ75-0308", "pair": "4711", "mode": "q2", "source": "BP1-1180",
            "meter": "TS2-0031", "target": "bt709-bt1886", "settle": "0", "out": str(out),
        } | changed  # fmt: skip
        return [part for name, value in given.items() if value for part in (f"--{name.replace('_', '-')}", value)]

    def command(self, out, **changed):
        module = "tests.at_once" if self.quick else "fenvik.cli"
        return [sys.executable, "-m", module, "calibrate", *self.arguments(out, **changed)]

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


@pytest.fixture(scope="module")
def untouched():
    """Stand-ins that no test turns anything on."""
    made = Shell()
    yield made
    made.end()


def test_a_black_that_was_too_dark_is_none_in_the_figures_and_the_usual_one_beside_them(shell, tmp_path):
    out = tmp_path / "out.json"
    done = shell.run(out, meter="MM-0954", steps="white", budget="90")
    assert done.returncode == 0, done.stderr
    left = json.loads(out.read_text())["as_left"]
    assert left["summary"]["black"]["xyz"] == [0.0, 0.0, 0.0]
    assert 0.0 < left["usual_black"]["luminance"] < 0.05
    assert left["usual_black"]["greyscale"]["mean_de2000"] < 0.8 * left["summary"]["greyscale"]["mean_de2000"]


def test_it_leaves_a_display_better_and_writes_what_it_did(shell, tmp_path):
    out, shell.quick = tmp_path / "out.json", False
    done = shell.run(out, meter="PC1-2209", reference="TS2-0031", warm_up="0.02")
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
    assert told["notes"][0] == "The display had not settled after 0 minutes."
    assert done.stderr.index("warm-up") < done.stderr.index("as found")


@pytest.mark.parametrize(
    ("display", "named", "mode", "by", "installed", "share"),
    [
        ("AQ75-0308", "expert", "q3", "controls", None, 0.4),  # as its modes for SDR and HLG are named too
        ("SW65-0112", "p4", "p4", "install", {"tone", "curves", "cube"}, 0.3),
    ],
)
def test_an_hdr_mode_is_adjusted_by_its_controls_or_by_what_it_takes(shell, tmp_path, display, named, mode, by, installed, share):
    out = tmp_path / "out.json"
    done = shell.run(out, display=display, mode=named, target="bt2020-pq", by=by, budget="140")
    assert done.returncode == 0, done.stderr
    told = json.loads(out.read_text())
    assert told["mode"] == mode
    assert told["readings"] <= 140
    assert (told["installed"] is None) == (installed is None)
    assert set(told["installed"] or {}) == (installed or set())
    found, left = (told[name]["summary"]["greyscale"]["mean_de_itp"] for name in ("as_found", "as_left"))
    assert left < share * found, (left, found)
    peaks = [told[name]["summary"]["white"]["xyz"][1] for name in ("as_found", "as_left")]
    assert peaks[1] > 0.98 * peaks[0]


@pytest.mark.parametrize(
    ("changed", "says"),
    [
        ({"steps": "white,magic"}, "--steps takes any of"),
        ({"directory": "nowhere"}, "HOST:PORT"),
        ({"budget": "10"}, "readings at least"),
        ({"display": "NOT-THERE"}, "no device NOT-THERE"),
        ({"display": "TS2-0031"}, "is a meter and not a display"),
        ({"mode": "zz"}, "has no mode zz"),
        ({"target": "bt2020-pq"}, "this target is for hdr10"),
        ({"target": "nonsense"}, "invalid choice"),
        ({"roll_off": "bt2390"}, "are for PQ"),
        ({"target": "bt2020-pq", "roll_off": "0.7:0.6,0.6:0.7"}, "both rising"),
        ({"target": ""}, "required"),
    ],
)
def test_wrong_arguments_end_with_two_and_one_sentence(untouched, tmp_path, capsys, monkeypatch, changed, says):
    monkeypatch.setattr(calibrate.signal, "signal", lambda *_: None)  # this process is no command
    assert calibrate.run(untouched.arguments(tmp_path / "out.json", **changed)) == 2
    assert says in capsys.readouterr().err
    assert not (tmp_path / "out.json").exists()


def test_a_wrong_code_and_a_directory_that_is_not_there_are_said(untouched, tmp_path):
    done = untouched.run(tmp_path / "out.json", pair="0000")
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


def unpaired(tmp_path, seconds):
    """Run while the display withdraws its pairing for some seconds, 0 for good; return the process and what it wrote."""
    shell = Shell("--fault", "unpaired", "--fault-after", "25", "--fault-for", seconds)
    try:
        done = shell.run(tmp_path / "out.json", steps="white,grey")
        return done, json.loads((tmp_path / "out.json").read_text())
    finally:
        shell.end()


def test_a_pairing_that_is_withdrawn_is_made_again_with_the_same_code(tmp_path):
    done, told = unpaired(tmp_path, "2")
    assert done.returncode == 0, done.stderr
    assert told["as_left"]["summary"]["greyscale"]["mean_de2000"] < 0.8


def test_a_pairing_that_stays_withdrawn_ends_with_three_and_says_the_settings(tmp_path):
    done, told = unpaired(tmp_path, "0")
    assert done.returncode == 3, done.stderr
    assert told["as_found"]["summary"] is not None
    assert told["as_left"] is None
    assert any(row["before"] != row["after"] for row in told["settings"])
    assert any("pairing was withdrawn" in note for note in told["notes"])
    assert "The settings stand as the list says." in told["notes"]


def test_a_meter_that_drops_is_waited_for(tmp_path):
    shell = Shell("--fault", "drop", "--fault-after", "30", "--fault-for", "2")
    try:
        done = shell.run(tmp_path / "out.json", steps="white")
        assert done.returncode == 0, done.stderr
        assert json.loads((tmp_path / "out.json").read_text())["as_left"]["summary"]["greyscale"]["mean_de2000"] < 3
    finally:
        shell.end()


def test_how_long_the_light_takes_to_follow_is_learned(tmp_path):
    rig = LinkRig(Wanted(("127.0.0.1", 1), "D", "1", "m", "S", "M", 10.0, None))
    late_s, slow_s = 0.45, 0.06

    class Screen:
        """A picture that comes late, and a light that is on its way for a while."""

        began, light, was = 0.0, 0.0, 0.0

        def now(self):
            past = time.monotonic() - self.began - late_s
            return self.was if past < 0 else self.light + (self.was - self.light) * np.exp(-past / slow_s)

        def patch(self, codes, *, window):
            self.was, self.began = self.now(), time.monotonic()
            self.light = 100.0 * (max(codes) - 64) / 876 + 0.01

        def read(self, **_):
            begun = time.monotonic()
            time.sleep(0.05)
            light = 0.5 * (self.now() + self.now())
            return MeterReading((light, light, light), 0.05, begun)

    screen = Screen()
    rig._device = lambda serial, role: screen
    rig.facts = {"M": {"typical": [[100.0, 0.05]]}, "D": {"technology": "lcd"}}
    rig.bits = 10
    rig.learn_settling()
    assert late_s + 3 * slow_s < rig.settle_s < 1.6
    assert rig.readings < 22
    given = LinkRig(Wanted(("127.0.0.1", 1), "D", "1", "m", "S", "M", 10.0, 0.7))
    given.learn_settling()
    assert (given.settle_s, given.readings) == (0.7, 0)


@pytest.mark.parametrize(
    ("number", "data", "room"),
    [
        (DeviceError.UNSUPPORTED, {}, None), (DeviceError.UNKNOWN, {"name": "c"}, None), (-32602, {}, None),
        (DeviceError.OUT_OF_RANGE, {"min": -5, "max": 5}, (-5.0, 5.0)), (DeviceError.OUT_OF_RANGE, {"min": "low"}, None),
    ],
)  # fmt: skip
def test_what_a_display_or_a_meter_refuses_for_good_is_told_to_the_procedure(number, data, room):
    class Device:
        def set(self, *args, **known):
            raise DeviceError("The display", number, "No.", data)

        install = set

        def patch(self, *args, **more):
            pass

        def read(self, **more):
            raise DeviceError("The meter", DeviceError.TOO_BRIGHT, "Too much.", {"ceiling": 500.0})

    rig = LinkRig(Wanted(("127.0.0.1", 1), "D", "1", "m", "S", "M", 10.0, 0.0))
    rig.mode, rig.facts, rig.bits = "m", {"M": {"typical": [[100.0, 0.01]], "repeatability": [[100.0, 0.001, 0.001, 0.001]]}}, 10
    rig._device = lambda serial, role: Device()
    for act in (lambda: rig.set("c", 3), lambda: rig.install("cube", {})):
        with pytest.raises(RefusedError, match=r"No\.") as refused:
            act()
        assert refused.value.room == room
    with pytest.raises(TooBrightError, match=r"Too much\."):
        rig.read((100.0, 100.0, 100.0))


@pytest.mark.parametrize(("typed", "goes_on"), [("\n", True), ("q\n", False), ("", False)])
def test_whoever_sits_at_the_terminal_is_called_and_nobody_else_is(typed, goes_on, monkeypatch, capsys):
    told = StringIO(typed)
    monkeypatch.setattr(sys, "stdin", told)
    assert calibrate.call("The room has become lighter.") is None
    assert capsys.readouterr().err == ""
    told.isatty = lambda: True
    assert calibrate.call("The room has become lighter.") == goes_on
    assert "The room has become lighter." in capsys.readouterr().err


def test_what_a_display_shows_otherwise_is_sent_again_or_said(bench):
    host, port = bench.address.split(":")
    wanted = Wanted((host, int(port)), "AQ75-0308", "4711", "q2", "BP1-1180", "TS2-0031", 10.0, 0.0)
    rig, shown = LinkRig(wanted), bench.displays[3]
    rig.begin()
    try:
        assert rig.look().clash == ""
        bench.world.signal = dataclasses.replace(bench.world.signal, format="hdr10")
        seen = rig.look()
        assert (seen.sent_again, seen.left_mode, seen.clash, bench.world.signal.format) == (True, False, "", "sdr")
        first, other = menu.INPUTS[:2]
        shown.choose_input(other)
        assert rig.look().clash == f"The display shows {other}; what was read before was read on {first}."
        shown.choose_input(first)
        shown.choose_mode("q1")
        seen = rig.look()
        assert (seen.sent_again, seen.left_mode, seen.clash, shown.mode) == (False, True, "", "q2")
    finally:
        rig.close()
