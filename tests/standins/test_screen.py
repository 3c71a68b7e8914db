"""What the stand-in displays do to a picture, and the light of the OLED and the projector."""

import numpy as np
import pytest

from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.signal.patterns import Signal, pattern_of
from fenvik.standins.bench import make_bench
from fenvik.standins.screen import picture_of
from fenvik.standins.world import Picture

LIMITED = Signal(8, "limited")
SIZE = (640, 360)


@pytest.fixture
def bench():
    return make_bench(haste=float("inf"), seed=55)


def display(bench, serial):
    return next(d for d in bench.displays if d.serial == serial)


@pytest.fixture
def lcd(bench):
    made = display(bench, "OF55-0417")
    for name, item in made.menu.items.items():
        if (item.role or "").startswith("process."):
            made.set_control("m2", name, item.off)
    return made


def seen(one, name, **options):
    return picture_of(one.optics, one.mode, pattern_of(name).drawn(*SIZE, LIMITED, options).codes).astype(int)


def light(one, codes, window=10.0):
    one.world.picture = Picture(codes, window)
    return spectrum_to_xyz(one.optics.radiance(one.mode, (0.5, 0.5)))


def test_overscan_cuts_the_outer_frame_off(lcd):
    assert seen(lcd, "overscan")[180, 0].max() > 100  # the frame of one pixel at the edge
    lcd.set_control("m2", "pq-6", "Wide")
    assert seen(lcd, "overscan")[180, 0].max() < 100


def test_sharpness_draws_pale_borders_and_smooths_below_its_middle(lcd):
    def row():
        return seen(lcd, "sharpness")[60, :200, 1]

    plain = row()
    lcd.set_control("m2", "pq-5", 20)
    sharp = row()
    lcd.set_control("m2", "pq-5", 0)
    soft = row()
    ground = np.median(plain)
    assert plain.max() <= ground + 2
    assert sharp.max() > ground + 10
    assert soft.min() > plain.min() + 10


def test_dimming_swallows_stars_and_draws_halos(lcd):
    clean = seen(lcd, "corner-windows")
    lcd.set_control("m2", "pq-7", "High")
    dimmed = seen(lcd, "corner-windows")
    stars = clean[105:112].max()
    assert dimmed[105:112, 250:400].max() < stars
    beside = (slice(20, 60), slice(130, 170))  # black, next to a lit corner
    assert dimmed[beside].mean() > clean[beside].mean()


def test_black_level_lets_bars_below_black_through_or_swallows_those_above(lcd):
    shades = {}
    for name, value in (("right", 50), ("up", 85), ("down", 15)):
        lcd.set_control("m2", "pic-3", value)
        picture = seen(lcd, "black-level")[180]
        shades[name] = len({tuple(v) for v in picture.tolist()})
    assert shades["up"] > shades["right"] > shades["down"]


def test_noise_reduction_smears_single_pixels(lcd):
    def contrast():
        field = seen(lcd, "one-to-one")[100:200, 60:180, 1]
        return field.max() - field.min()

    clean = contrast()
    lcd.set_control("m2", "pq-3", "High")
    assert contrast() < 0.5 * clean


def test_colours_share_pixels_on_the_lcd_and_not_on_the_oled(bench, lcd):
    def sharpest(one):
        red = seen(one, "chroma-upsampling")[150:200, 350:600, 0]
        return np.abs(np.diff(red, axis=1)).mean()

    assert sharpest(display(bench, "SW65-0112")) > sharpest(lcd)


def test_the_projectors_colours_miss_each_other_until_they_are_converged(bench):
    projector = display(bench, "LL4-0093")
    projector.set_control("c2", "ln-focus", 37)

    def apart():
        row = seen(projector, "convergence")[100].astype(float)
        columns = np.arange(row.shape[0])
        window = slice(30, 50)  # around the second line
        centres = [(row[window, c] * columns[window]).sum() / max(row[window, c].sum(), 1) for c in range(3)]
        return max(centres) - min(centres)

    before = apart()
    for light_, axis, value in (("red", "x", -1.5), ("red", "y", -0.5), ("blue", "x", 0.5), ("blue", "y", -1.0)):
        projector.menu.values["c1"][f"cv-{light_}-{axis}"] = value
        projector.menu.values["c2"][f"cv-{light_}-{axis}"] = value
    assert before > 1.0
    assert apart() < 0.3 * before


def test_focus_is_sharpest_at_its_own_place(bench):
    projector = display(bench, "LL4-0093")

    def sharp(value):
        projector.menu.values["c1"]["ln-focus"] = projector.menu.values["c2"]["ln-focus"] = value
        return np.abs(np.diff(seen(projector, "focus")[180].astype(float)[:, 1])).sum()

    assert sharp(37) > sharp(31) > sharp(5)


def test_oled_white_is_more_than_the_sum_of_its_three(bench):
    oled = display(bench, "SW65-0112")
    oled.set_control("p2", "eco-2", False)
    white = light(oled, (235, 235, 235))[1]
    three = sum(light(oled, code)[1] for code in ((235, 16, 16), (16, 235, 16), (16, 16, 235)))
    assert three < 0.85 * white
    assert light(oled, (16, 16, 16))[1] < 0.001


def test_the_oled_gives_less_light_to_a_full_field_and_less_in_the_dark_with_its_sensor(bench):
    oled = display(bench, "SW65-0112")
    assert light(oled, (235, 235, 235), 100.0)[1] < 0.75 * light(oled, (235, 235, 235), 5.0)[1]
    dark = light(oled, (235, 235, 235))[1]
    oled.set_control("p2", "eco-2", False)
    assert dark < 0.7 * light(oled, (235, 235, 235))[1]


def test_an_hdr_signal_brings_its_own_mode_and_is_rolled_off(bench):
    oled = display(bench, "SW65-0112")
    bench.world.signal.format, bench.world.signal.bits = "hdr10", 10
    assert oled.mode == "p4"
    low, high = light(oled, (300, 300, 300), 2.0)[1], light(oled, (940, 940, 940), 2.0)[1]
    assert low < high < 900
    bench.world.signal.format = "sdr"
    assert oled.mode == "p2"


def test_dynamic_contrast_bends_the_curve_with_the_picture(lcd):
    plain = light(lcd, (120, 120, 120), 10.0)[1], light(lcd, (120, 120, 120), 100.0)[1]
    lcd.set_control("m2", "pq-1", "High")
    bent = light(lcd, (120, 120, 120), 10.0)[1], light(lcd, (120, 120, 120), 100.0)[1]
    assert plain[0] == pytest.approx(plain[1], rel=1e-3)
    assert bent[0] < 0.9 * bent[1]


def test_instruments_stand_in_front_of_whoever_was_last_worked_at(bench):
    meter = bench.meters[0]
    assert meter.display.serial == "OF55-0417"
    display(bench, "LL4-0093").set_control("c2", "pic-1", 50)
    assert meter.display.serial == "LL4-0093"


def test_a_chart_is_measured_where_the_meter_looks(lcd):
    board = pattern_of("checkerboard").drawn(*SIZE, LIMITED, {"across": "2"})
    lcd.world.picture = Picture(codes=board.codes, chart="checkerboard")
    left = spectrum_to_xyz(lcd.optics.radiance("m2", (0.25, 0.25)))[1]
    right = spectrum_to_xyz(lcd.optics.radiance("m2", (0.75, 0.25)))[1]
    assert left > 100 * right


def test_dynamic_contrast_bands_a_shallow_ramp(lcd):
    def shades():
        return len(np.unique(seen(lcd, "ramp-grey", extent="middle")[90, :, 1]))

    smooth = shades()
    lcd.set_control("m2", "pq-1", "High")
    assert shades() < 0.6 * smooth
