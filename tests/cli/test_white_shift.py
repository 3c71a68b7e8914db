"""``fenvik white-shift`` over real sockets, and ``calibrate --white``: held against the stand-ins' true light."""

import json
import subprocess
import sys

import numpy as np
import pytest

from bench.site import Site
from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.colour.space import D65_XY, xy_to_uv, xyz_to_uv
from fenvik.core.measure.shift import Shift, base_for, shift_of
from tests.cli.test_calibrate import Shell


def true_shift(mode, beside, levels=((100.0,) * 3, (70.0,) * 3)):
    here = Site(1, mode, 1)
    seen = {}
    for name in (mode, beside):
        here.display.wanted_mode = here.mode = name
        rows = []
        for percent in levels:
            here._show(percent)
            rows.append(xyz_to_uv(spectrum_to_xyz(here.display.optics.radiance(name, (0.5, 0.5)))))
        seen[name] = np.mean(rows, axis=0)
    return seen[mode] - seen[beside]


@pytest.fixture(scope="module")
def shell():
    made = Shell("--seed", "1")
    yield made
    made.end()


def run(shell, out, **changed):
    given = {
        "directory": shell.directory, "display": "SW65-0112", "pair": "4711", "mode": "p3", "beside": "p2", "source": "BP1-1180",
        "meter": "PC1-2209", "settle": "0", "out": str(out),
    } | changed  # fmt: skip
    arguments = [part for name, value in given.items() if value for part in (f"--{name}", value)]
    command = [sys.executable, "-m", "fenvik.cli", "white-shift", *arguments]
    return subprocess.run(command, env=shell.environment, capture_output=True, text=True, timeout=120, check=False)


def test_the_shift_of_a_mode_is_found_and_what_the_base_must_be(shell, tmp_path):
    out = tmp_path / "out.json"
    done = run(shell, out)
    assert done.returncode == 0, done.stderr
    told = json.loads(out.read_text())
    assert np.hypot(*(np.array(told["shift_uv"]) - true_shift("p3", "p2"))) < 0.0005
    assert max(told["std_uv"]) < 0.0005
    np.testing.assert_allclose(xy_to_uv(told["wanted_base_xy"]) + told["shift_uv"], xy_to_uv(D65_XY), atol=1e-6)
    assert told["told"] is True
    assert told["readings"] < 60


@pytest.mark.parametrize(
    ("changed", "says"),
    [({"mode": "zz"}, "has no mode zz"), ({"preset": "Purple"}, "has no white preset Purple"), ({"directory": "x"}, "HOST:PORT")],
)
def test_what_is_not_there_is_one_sentence(shell, tmp_path, changed, says):
    done = run(shell, tmp_path / "out.json", **changed)
    assert done.returncode == 2
    assert says in done.stderr
    assert "Traceback" not in done.stderr


def test_a_shift_that_noise_could_be_is_told_as_none():
    rng = np.random.default_rng(3)
    white = np.array([95.0, 100.0, 108.0])
    none = [shift_of(*(white + rng.normal(0, 0.05, (2, 3, 2, 3)))).is_told for _ in range(200)]
    assert np.mean(none) <= 0.05
    moved = shift_of(np.repeat(white[None, None], 3, axis=0), np.repeat(white[None, None] * [0.98, 1.0, 0.95], 3, axis=0))
    assert moved.is_told
    with pytest.raises(ValueError, match="twice"):
        shift_of([white[None]], [white[None]])


def test_the_base_and_the_shift_make_the_white_that_is_wanted():
    shift = Shift(np.array([-0.0041, 0.0098]), np.array([1e-4, 1e-4]))
    np.testing.assert_allclose(xy_to_uv(base_for(D65_XY, shift)) + shift.uv, xy_to_uv(D65_XY), atol=1e-9)


def test_calibrate_aims_at_the_white_that_is_given(tmp_path):
    made = Shell()
    try:
        out = tmp_path / "out.json"
        done = made.run(out, white="0.3060,0.3196", steps="white,grey")
        assert done.returncode == 0, done.stderr
        told = json.loads(out.read_text())
        assert told["white_xy"] == [0.306, 0.3196]
        np.testing.assert_allclose(told["as_left"]["summary"]["white"]["xy"], [0.306, 0.3196], atol=0.0012)
        assert told["as_left"]["summary"]["greyscale"]["mean_de2000"] < 0.8
        refused = made.run(tmp_path / "no.json", white="white")
        assert refused.returncode == 2
        assert "--white takes x and y" in refused.stderr
    finally:
        made.end()
