"""What a person does at the screen: aiming the meter, changing the input, turning the lens."""

import numpy as np
import pytest

from bench.awaited import result_of
from fenvik.standins.bench import make_bench
from fenvik.standins.rpc import Refusal
from fenvik.standins.world import Picture


@pytest.fixture
def bench():
    made = make_bench(haste=float("inf"), seed=55)
    made.world.picture = Picture((235, 235, 235), 10.0)
    return made


def read(bench, meter=1):
    return result_of(bench.meters[meter].read({"average": 16}))["xyz"][1]


def test_a_meter_that_is_aimed_badly_reads_low(bench):
    aimed = read(bench)
    bench.world.aim["TS2-0031"] = (0.08, 0.0)
    slanted = read(bench)
    assert 0.975 * aimed < slanted < 0.995 * aimed
    bench.world.aim["TS2-0031"] = (0.16, 0.0)
    assert read(bench) < 0.7 * aimed, "half of what it sees is beside the window"
    bench.world.aim["TS2-0031"] = (0.0, 0.3)
    assert read(bench) < 0.02 * aimed, "only what leaks through black is left"
    assert read(bench, 0) == pytest.approx(aimed, rel=0.05), "the other meter is aimed well"


def test_one_display_keeps_its_settings_per_input_and_another_for_all(bench):
    lcd, oled = bench.displays[0], bench.displays[1]
    for one, mode in ((lcd, "m2"), (oled, "p2")):
        one.set_control(mode, "pic-1", 61)
        one.choose_input("Input 2")
    assert lcd.menu.values["m2"]["pic-1"] == 34
    assert oled.menu.values["p2"]["pic-1"] == 61
    lcd.choose_input("Input 1")
    assert lcd.menu.values["m2"]["pic-1"] == 61
    with pytest.raises(Refusal):
        lcd.choose_input("Aerial")


def test_a_reset_puts_back_one_mode_of_one_input(bench):
    lcd = bench.displays[0]
    lcd.set_control("m2", "pic-1", 61)
    lcd.choose_input("Apps")
    lcd.set_control("m2", "pic-1", 62)
    lcd.menu.reset("m2")
    assert lcd.menu.values["m2"]["pic-1"] == 34
    lcd.choose_input("Input 1")
    assert lcd.menu.values["m2"]["pic-1"] == 61


def test_settings_of_every_input_outlive_a_restart(tmp_path):
    bench = make_bench(haste=float("inf"), state=tmp_path)
    bench.displays[0].choose_input("Input 2")
    bench.displays[0].set_control("m2", "pic-1", 70)
    again = make_bench(haste=float("inf"), state=tmp_path).displays[0]
    assert again.menu.values["m2"]["pic-1"] == 34
    again.choose_input("Input 2")
    assert again.menu.values["m2"]["pic-1"] == 70


def test_a_lens_has_one_focus_in_every_mode(bench):
    projector = bench.displays[2]
    projector.set_control("c2", "ln-focus", 40)
    assert projector.menu.values["c1"]["ln-focus"] == 40


def test_motion_processing_changes_how_often_the_light_comes_and_goes(bench):
    def refresh():
        return result_of(bench.meters[0].refresh({}))["hz"]

    lcd = bench.displays[0]
    still = refresh()
    lcd.set_control("m2", "pq-4", "High")
    assert refresh() == pytest.approx(still / 2, rel=0.01)
    with pytest.raises(Refusal):
        result_of(bench.meters[1].refresh({}))


def test_a_lamp_loses_light_over_its_hours(bench):
    lamp = bench.displays[4]
    picture = Picture((235, 235, 235), 10.0)
    now = lamp.optics.white_luminance("l2", picture)
    bench.world._skipped += 1000 * 3600.0
    assert 0.6 < lamp.optics.white_luminance("l2", picture) / now < 0.9


def test_a_screen_is_darker_and_tinted_towards_its_edge_and_the_middle_is_as_it_was(bench):
    bench.world.picture = Picture((200, 200, 200), 100.0)
    middle = np.array(result_of(bench.meters[1].read({"average": 16}))["xyz"])
    bench.world.stand["TS2-0031"] = (0.1, 0.1)
    corner = np.array(result_of(bench.meters[1].read({"average": 16}))["xyz"])
    assert 0.85 < corner[1] / middle[1] < 0.97
    assert 0.0003 < np.abs(corner[:2] / corner.sum() - middle[:2] / middle.sum()).max() < 0.01
    assert (bench.displays[0].optics.evenness((0.5, 0.5)) == 1.0).all()
