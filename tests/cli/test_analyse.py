"""``fenvik analyse`` as a process: without a database, quick to start, one line for whatever is refused."""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
HEAD = "label,r,g,b,bits,range,X,Y,Z\n"
GOOD = (
    HEAD
    + "white,235,235,235,8,limited,95.05,100,108.9\nhalf,126,126,126,8,limited,20,21,23\nblack,16,16,16,8,limited,0.05,0.05,0.06\n"
)
GOOD += "red,235,16,16,8,limited,41.2,21.3,1.9\ngreen,16,235,16,8,limited,35.8,71.5,11.9\nblue,16,16,235,8,limited,18,7.2,95\n"


def run(*arguments):
    environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": os.environ["PATH"]}
    return subprocess.run(
        [sys.executable, "-m", "fenvik.cli", "analyse", *arguments],
        check=False,
        capture_output=True,
        text=True,
        env=environment,
    )


def test_json_has_every_member_and_no_number_that_is_none(tmp_path):
    path = tmp_path / "r.csv"
    path.write_text(GOOD)
    done = run(str(path), "--target", "bt709-bt1886", "--json")
    assert (done.returncode, done.stderr) == (0, "")
    told = json.loads(done.stdout, parse_constant=pytest.fail)
    assert set(told) == {"target", "white", "black", "contrast", "readings", "greyscale", "colours", "gamut"}
    assert set(told["readings"][0]) == {
        "label", "rgb", "signal", "xyz", "target_xyz", "de2000", "de2000_chroma", "de_itp", "balance", "gamma", "luminance_error",
    }  # fmt: skip
    assert told["readings"][0]["gamma"] is None
    assert told["contrast"] == 2000
    assert told["gamut"]["bt709"] > 0.98
    assert [row["label"] for row in told["readings"]] == ["white", "half", "black", "red", "green", "blue"]


def test_a_person_reads_a_table(tmp_path):
    path = tmp_path / "r.csv"
    path.write_text(GOOD.replace("half", "\x1b[31mhalf"))
    done = run(str(path), "--target", "bt709-2.2")
    assert done.returncode == 0
    assert "greyscale   CIEDE2000" in done.stdout
    assert "\x1b" not in done.stdout  # labels are data, not orders to a terminal


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (GOOD.replace("235,235,235", "200,200,200").encode(), "no 100 % white"),
        (
            (GOOD + "w,235,235,235,8,limited,110,120,130\n").encode(),
            "line 8, column Y: its 100 % whites are more than 5 % apart",
        ),
        (b"\x80\x81", "it is not UTF-8"),
        (b"", "there is nothing in it"),
    ],
)
def test_what_is_refused_gets_one_line_and_status_2(tmp_path, data, words):
    path = tmp_path / "r.csv"
    path.write_bytes(data)
    done = run(str(path), "--target", "bt709-2.2", "--json")
    assert (done.returncode, done.stdout) == (2, "")
    assert done.stderr.count("\n") == 1
    assert words in done.stderr


def test_a_target_that_is_none_is_a_wrong_argument(tmp_path):
    assert run(str(tmp_path / "x"), "--target", "mine").returncode == 2
    assert run(str(tmp_path / "x"), "--target", "bt709-2.2").returncode == 2
