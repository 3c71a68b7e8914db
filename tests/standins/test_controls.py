"""Points, colour management and what can be installed: what a step does on the stand-ins, told from the light."""

import base64

import numpy as np
import pytest

from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.colour.space import xyz_to_uv
from fenvik.standins.bench import make_bench
from fenvik.standins.installed import Installed
from fenvik.standins.rpc import Refusal
from fenvik.standins.world import Picture

OLED, QUANTUM, LAMP = "SW65-0112", "AQ75-0308", "CH2-0071"


@pytest.fixture
def bench():
    made = make_bench(haste=float("inf"), seed=55)
    for display in made.displays:
        for name, item in display.menu.items.items():
            if (item.role or "").startswith("process."):
                display.set_control(display.mode, name, item.off)
    return made


def display(bench, serial):
    return next(d for d in bench.displays if d.serial == serial)


def light(one, code, window=10.0):
    one.world.picture = Picture(tuple(code) if isinstance(code, tuple) else (code,) * 3, window)
    return spectrum_to_xyz(one.optics.radiance(one.mode, (0.5, 0.5)))


def code(percent):
    return round(16 + 2.19 * percent)


def turn(one, role, steps):
    name = next(item.id for item in one.menu.items.values() if item.role == role)
    before = one.menu.values[one.mode][name]
    one.set_control(one.mode, name, before + steps)


@pytest.mark.parametrize(("serial", "point", "near", "far"), [(OLED, 50, 55, 80), (QUANTUM, 50, 60, 90)])
def test_a_point_pulls_at_its_neighbours_and_not_at_far_levels(bench, serial, point, near, far):
    one = display(bench, serial)
    before = {level: light(one, code(level))[2] for level in (point, near, far)}
    turn(one, f"white.at.{point}.blue", 20)
    change = {level: light(one, code(level))[2] / before[level] - 1 for level in before}
    assert change[point] > 0.03
    assert 0.1 * change[point] < change[near] < change[point]
    assert abs(change[far]) < 0.05 * change[point]


def test_steps_of_points_are_not_equal(bench):
    one = display(bench, OLED)
    effects = []
    for point in (20, 40, 60, 80):
        before = light(one, code(point))[0]
        turn(one, f"white.at.{point}.red", 10)
        effects.append((light(one, code(point))[0] / before - 1) * point)
        turn(one, f"white.at.{point}.red", -10)
    assert max(effects) > 1.1 * min(effects)


def test_luminance_of_a_point_leaves_its_colour(bench):
    one = display(bench, OLED)
    before = light(one, code(40))
    turn(one, "gamma.at.40", 15)
    after = light(one, code(40))
    assert after[1] > 1.02 * before[1]
    assert np.abs(xyz_to_uv(after) - xyz_to_uv(before)).max() < 0.006


def test_a_colours_hue_saturation_and_luminance_do_what_they_say(bench):
    one = display(bench, OLED)
    red, white = (235, 16, 16), 235
    base, grey = light(one, red), light(one, white)
    turn(one, "colour.red.luminance", 15)
    assert light(one, red)[1] > 1.04 * base[1]
    turn(one, "colour.red.luminance", -15)
    turn(one, "colour.red.saturation", -20)
    towards = xyz_to_uv(light(one, red)) - xyz_to_uv(base)
    assert towards @ (xyz_to_uv(grey) - xyz_to_uv(base)) > 0
    turn(one, "colour.red.saturation", 20)
    turn(one, "colour.red.hue", 20)
    assert np.abs(xyz_to_uv(light(one, red)) - xyz_to_uv(base)).max() > 0.003
    np.testing.assert_allclose(light(one, white), grey, rtol=1e-3)  # a grey has no hue to turn


def test_one_colour_of_the_oled_does_nothing(bench):
    one = display(bench, OLED)
    cyan = (16, 235, 235)
    before = light(one, cyan)
    for what in ("hue", "saturation", "luminance"):
        turn(one, f"colour.cyan.{what}", 25)
    np.testing.assert_allclose(light(one, cyan), before, rtol=1e-3)


def test_mixing_adds_light_to_one_colour(bench):
    one = display(bench, QUANTUM)
    yellow, blue = (235, 235, 16), (16, 16, 235)
    before, other = light(one, yellow), light(one, blue)
    turn(one, "colour.yellow.mix.red", 25)
    assert light(one, yellow)[0] > 1.02 * before[0]
    np.testing.assert_allclose(light(one, blue), other, rtol=1e-3)


def test_the_lamp_projector_has_gains_alone(bench):
    roles = {item.role for item in display(bench, LAMP).menu.items.values()}
    assert "white.gain.red" in roles
    assert not any((role or "").startswith(("white.offset", "white.at", "colour.")) for role in roles)


ABLE = {"curves": {"size": 4}, "matrix": True, "cube": {"sizes": [2]}, "tone": True}
RAMP = [0.0, 1 / 3, 2 / 3, 1.0]


def cube(values):
    return base64.b64encode(np.asarray(values, dtype="<f4").tobytes()).decode()


def identity(size=2):
    at = np.linspace(0, 1, size)
    return [(r, g, b) for b in at for g in at for r in at]


@pytest.mark.parametrize(
    ("what", "data"),
    [
        ("curves", {"size": 4, "r": RAMP, "g": RAMP, "b": RAMP[:3]}),
        ("curves", {"size": 5, "r": RAMP, "g": RAMP, "b": RAMP}),
        ("curves", {"size": 4, "r": RAMP, "g": RAMP, "b": [0, 1, 2, 3]}),
        ("curves", []),
        ("matrix", {"rows": [[1, 0, 0]] * 2}),
        ("matrix", {"rows": [[1, 0, 5]] * 3}),
        ("cube", {"size": 2, "values": "!!"}),
        ("cube", {"size": 3, "values": cube(identity(3))}),
        ("cube", {"size": 2, "values": cube([[2.0] * 3] * 8)}),
        ("tone", {"peak": 0, "knee": []}),
        ("tone", {"peak": 500, "knee": [[0.5, 0.5], [0.4, 0.6]]}),
        ("tone", {"peak": 500, "knee": [[0.1, 0.1]] * 4}),
    ],
)
def test_what_has_another_shape_is_refused_and_changes_nothing(what, data):
    one = Installed()
    with pytest.raises(Refusal) as caught:
        one.put(what, data, ABLE)
    assert caught.value.code == -32602
    assert one == Installed()


def test_what_a_display_does_not_take_is_refused_as_such():
    for what in ("curves", "paint"):
        with pytest.raises(Refusal) as caught:
            Installed().put(what, {}, {})
        assert caught.value.code == 8


def test_identities_change_nothing_and_red_runs_fastest():
    one = Installed()
    one.put("curves", {"size": 4, "r": RAMP, "g": RAMP, "b": RAMP}, ABLE)
    one.put("cube", {"size": 2, "values": cube(identity())}, ABLE)
    v = np.array([[0.2, 0.55, 0.9], [0.0, 1.0, 0.5]])
    np.testing.assert_allclose(one.bent(v), v, atol=1e-6)
    swapped = [(b, g, r) for r, g, b in identity()]
    one.put("cube", {"size": 2, "values": cube(swapped)}, ABLE)
    np.testing.assert_allclose(one.bent(v), v[:, ::-1], atol=1e-6)


def test_a_tone_clips_at_its_peak_and_bends_at_its_knees():
    one = Installed()
    one.put("tone", {"peak": 400}, ABLE)
    np.testing.assert_allclose(one.toned(np.array([10.0, 399.0, 1000.0])), [10, 399, 400])
    one.put("tone", {"peak": 400, "knee": [[0.5, 0.5], [0.75, 0.62]]}, ABLE)
    below, above = one.toned(np.array([50.0, 700.0]))
    assert below == pytest.approx(50.0, rel=1e-6)
    assert 92 < above < 400


def test_a_reset_takes_away_what_is_installed(bench):
    one = display(bench, OLED)
    flat = [0.5] * 1024
    before = light(one, 200)
    one.optics.installed.of(one.mode).put(
        "curves", {"size": 1024, "r": flat, "g": flat, "b": flat}, one.optics.build.installs
    )
    one.optics.installed.count += 1
    assert light(one, 200)[1] < 0.7 * before[1]
    one.optics.installed.by_mode.clear()
    one.optics.installed.count += 1
    np.testing.assert_allclose(light(one, 200), before, rtol=1e-3)
