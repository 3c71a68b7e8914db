"""The light of the stand-ins is made for the reasons for which it is made in life."""

import numpy as np
import pytest

from fenvik.core.colour.science import cct_and_duv, spectrum_to_xyz
from fenvik.core.colour.space import xyz_to_xy
from fenvik.standins.bench import make_bench
from fenvik.standins.world import Picture

GREY = {0: 16, 30: 82, 50: 126, 80: 191, 100: 235}


@pytest.fixture
def still():
    made = make_bench(haste=float("inf"))
    made.displays[0].set_control("m2", "eco-1", "Off")
    made.light = lambda rgb, mode="m2", window=10.0: spectrum_to_xyz(_radiance(made, rgb, mode, window))
    return made


def _radiance(bench, rgb, mode, window):
    bench.world.picture = Picture(rgb if isinstance(rgb, tuple) else (rgb,) * 3, window)
    return bench.displays[0].optics.radiance(mode, (0.5, 0.5))


def test_the_shop_mode_is_blue_and_bright_and_the_film_mode_near_the_target(still):
    shop, film = still.light(235, "m1"), still.light(235, "m2")
    assert cct_and_duv(shop)[0] > 7200
    assert 6400 < cct_and_duv(film)[0] < 7200
    assert shop[1] > 1.5 * film[1]


def test_the_shop_mode_is_over_saturated(still):
    film, shop = (xyz_to_xy(still.light((16, 235, 16), mode)) for mode in ("m2", "m1"))
    assert np.hypot(*(shop - [0.3127, 0.3290])) > np.hypot(*(film - [0.3127, 0.3290]))


def test_white_is_the_sum_of_the_three(still):
    parts = sum(still.light(rgb) for rgb in ((235, 16, 16), (16, 235, 16), (16, 16, 235)))
    black, white = still.light(16), still.light(235)
    np.testing.assert_allclose(parts - 2 * black, white, rtol=0.02)


@pytest.mark.parametrize("channel", range(3))
def test_a_gain_acts_most_on_the_bright_and_an_offset_on_the_dark(still, channel):
    display = still.displays[0]
    letter = "rgb"[channel]
    base = {level: still.light(code) for level, code in GREY.items()}
    display.set_control("m2", f"wb-g{letter}", 10)
    gain = {level: np.linalg.solve(display.optics.native, still.light(code))[channel] for level, code in GREY.items()}
    display.set_control("m2", f"wb-g{letter}", 0)
    display.set_control("m2", f"wb-o{letter}", 10)
    offset = {level: np.linalg.solve(display.optics.native, still.light(code))[channel] for level, code in GREY.items()}
    before = {level: np.linalg.solve(display.optics.native, xyz)[channel] for level, xyz in base.items()}
    assert 1.03 < gain[80] / before[80] < 1.15
    assert 1.02 < offset[30] / before[30] < 1.20
    assert offset[30] / before[30] > offset[80] / before[80]
    assert offset[100] / before[100] == pytest.approx(1, abs=0.01)


def test_high_gains_clip_at_white(still):
    still.displays[0].set_control("m2", "wb-gb", 50)
    top, below = still.light(235)[2], still.light(225)[2]
    assert top == pytest.approx(below, rel=0.02)


def test_energy_saving_moves_luminance_with_the_picture(still):
    still.displays[0].set_control("m2", "pq-7", "Off")  # dimmed zones leak less where little is lit
    full, small = still.light(235, window=100.0), still.light(235, window=5.0)
    np.testing.assert_allclose(full, small, rtol=1e-6)
    still.displays[0].set_control("m2", "eco-1", "High")
    assert still.light(235, window=5.0)[1] < 0.75 * still.light(235, window=100.0)[1]


def test_it_warms_up(still):
    optics = still.displays[0].optics
    warm = still.light(235)
    optics.on_since = still.world.now()
    cold = still.light(235)
    assert cold[1] < 0.96 * warm[1]


def test_the_label_misleads_contrast_is_the_light(still):
    before, black = still.light(235), still.light(16)
    still.displays[0].set_control("m2", "pic-1", 68)
    np.testing.assert_allclose(still.light(235) / before, still.light(16) / black, rtol=0.02)


def test_the_quick_meter_misses_the_observer_and_the_slow_one_does_not(bench):
    bench.displays[0].set_control("m2", "eco-1", "Off")
    bench.world.picture = Picture((235, 235, 235), 10.0)
    radiance = bench.displays[0].optics.radiance("m2", (0.5, 0.5))
    truth = xyz_to_xy(spectrum_to_xyz(radiance))
    quick, true, cheap = (xyz_to_xy(meter._seen(radiance)[0]) for meter in bench.meters)
    assert np.abs(true - truth).max() < 0.001
    assert 0.0008 < np.abs(quick - truth).max() < 0.02
    assert np.abs(cheap - truth).max() < 0.03
    bench.world.picture = Picture((235, 16, 16), 10.0)
    red = bench.displays[0].optics.radiance("m2", (0.5, 0.5))
    off = [np.abs(xyz_to_xy(meter._seen(red)[0]) - xyz_to_xy(spectrum_to_xyz(red))).max() for meter in bench.meters]
    assert off[2] > off[0] > off[1]


def test_samples_of_a_model_differ_and_a_seed_repeats(still):
    one, again, other = (make_bench(haste=1, seed=s).displays[0].optics for s in (1, 1, 2))
    np.testing.assert_array_equal(one.gain, again.gain)
    assert not np.allclose(one.gain, other.gain)


def test_settings_outlive_a_restart_when_asked_to(tmp_path):
    first = make_bench(state=tmp_path).displays[0]
    first.set_control("m2", "wb-gr", 9)
    first.choose_mode("m1")
    second = make_bench(state=tmp_path).displays[0]
    assert second.menu.values["m2"]["wb-gr"] == 9
    assert second.mode == "m1"
