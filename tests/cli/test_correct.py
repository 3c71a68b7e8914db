"""``fenvik correct`` as a process: JSON, a table, and one line with exit status 2."""

import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

ROOT = Path(__file__).resolve().parents[2]
TRUE = {"red": (43.8, 22.9, 2.4), "green": (33.1, 68.4, 10.6), "blue": (19.7, 8.1, 103.0), "white": (96.6, 99.4, 116.0)}
CODES = {"red": (235, 16, 16), "green": (16, 235, 16), "blue": (16, 16, 235), "white": (235, 235, 235)}
OFF = np.array([[1.03, -0.012, 0.004], [0.008, 0.985, -0.006], [-0.003, 0.01, 1.04]])


def write(path, rows):
    lines = ["label,r,g,b,bits,range,X,Y,Z"]
    lines += [
        f"{name},{','.join(map(str, CODES[name]))},8,limited,{','.join(map(repr, map(float, xyz)))}"
        for name, xyz in rows
    ]
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return str(path)


def run(*arguments):
    environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": os.environ["PATH"]}  # no database, no settings
    return subprocess.run(
        [sys.executable, "-m", "fenvik.cli", "correct", *arguments],
        check=False,
        capture_output=True,
        text=True,
        env=environment,
    )


@pytest.fixture
def files(tmp_path):
    reference = write(tmp_path / "reference.csv", TRUE.items())
    meter = write(
        tmp_path / "meter.csv", [(name, np.array(TRUE[name]) @ OFF.T) for name in ("white", "blue", "red", "green")]
    )
    return reference, meter


@pytest.mark.parametrize("method", ["primaries", "four-colour", "least-squares"])
def test_json_has_the_matrix_and_the_residuals_in_the_references_order(files, method):
    done = run(*files, "--method", method, "--json")
    assert (done.returncode, done.stderr) == (0, "")
    told = json.loads(done.stdout)
    assert set(told) == {"matrix", "residuals"}
    if method != "four-colour":
        np.testing.assert_allclose(told["matrix"], np.linalg.inv(OFF), atol=1e-9)
    assert [row["label"] for row in told["residuals"]] == list(TRUE)
    assert set(told["residuals"][0]) == {"label", "dx", "dy", "dY_percent"}


def test_without_json_a_person_reads_it(files):
    done = run(*files, "--method", "primaries")
    assert done.returncode == 0
    assert "corrected XYZ = matrix" in done.stdout
    assert "white" in done.stdout


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda p: p.write_bytes(b"\xff\xfe\x00"), "it is not UTF-8"),
        (lambda p: p.unlink(), "No such file"),
        (lambda p: p.write_text("label,r,g,b,bits,range,X,Y,Z\nx,1,1,1,8,full,1,1,1\n"), "file alone"),
        (lambda p: write(p, [(n, TRUE["white"]) for n in TRUE]), "one line of colours"),
    ],
)
def test_what_is_refused_gets_one_line_and_status_2(files, change, words):
    path = Path(files[1])
    change(path)
    done = run(*files, "--method", "four-colour", "--json")
    assert done.returncode == 2
    assert done.stdout == ""
    assert done.stderr.count("\n") == 1
    assert words in done.stderr
    assert "line " in done.stderr
    assert "column " in done.stderr
