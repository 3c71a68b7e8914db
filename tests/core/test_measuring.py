import numpy as np
import pytest

from fenvik.core.measure.averaging import USUAL, LowLight, steady_average, typical_seconds, usual, worth
from fenvik.core.measure.correction_patches import AGAIN, MIXTURES, correction_list, rows_for
from fenvik.core.measure.screen import Screen, foot_lamberts
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.procedures.comparing import compare
from fenvik.core.procedures.steps import readings_of

TYPICAL = [[0.01, 30.0], [1.0, 6.0], [100.0, 2.0]]


def test_a_slower_effort_is_worth_what_its_time_says():
    luminance, average = np.array([100.0, 100.0, 1.0]), np.array([1.0, 4.0, 1.0])
    seconds = np.array([5.0, 8.0, 6.0])
    np.testing.assert_allclose(worth(TYPICAL, luminance, seconds, average), [2.5, 4.0, 1.0])


@pytest.mark.parametrize("seconds", [0.0, 0.001, 1e6])
def test_a_meter_that_tells_no_believable_time_counts_by_its_averages(seconds):
    assert worth(TYPICAL, np.array([100.0]), np.array([seconds]), np.array([3.0])) == [3.0]


def test_times_are_interpolated_on_log_luminance_and_held_beyond_the_table():
    np.testing.assert_allclose(typical_seconds(TYPICAL, np.array([1e-5, 0.1, 10.0, 1e4])), [30, 18, 4, 2])


def test_low_light_is_read_again_only_where_that_is_longer():
    rule = LowLight(1.0, 4)
    assert rule.wants(0.5, 1, "")
    assert rule.wants(None, 1, "")
    assert not rule.wants(1.5, 1, "")
    assert not rule.wants(0.5, 4, "")
    assert LowLight(1.0, 1, "slow").wants(0.5, 1, "fast")
    assert not LowLight(1.0, 1, "slow").wants(0.5, 1, "slow")


def test_every_technology_has_its_usual_and_an_unknown_one_a_careful_one():
    assert usual("projector").window == 100
    assert usual("plasma") == USUAL["other"]
    assert all(0 < u.window <= 100 and u.settle_s > 0 and u.low_average > u.average for u in USUAL.values())


@pytest.mark.parametrize("change_over", ["", "Let them change places."])
def test_a_correction_reads_every_patch_with_both_meters(change_over):
    listed = readings_of(compare(correction_list("four-colour", 8, "limited"), change_over=change_over))
    by = [step.by for step, _ in listed]
    assert by == (["reference"] * 6 + ["meter"] * 6 if change_over else ["reference", "meter"] * 6)
    assert [asked for _, asked in listed if asked] == ([change_over] if change_over else [])
    assert [step.percent for step, _ in listed if step.by == "meter"] == [
        p.percent for p in correction_list("four-colour", 8, "limited")
    ]


def test_rows_are_taken_in_the_order_of_the_method():
    labels = [p.label for p in correction_list("weighted", 8, "full")]
    assert [labels[i] for i in rows_for("primaries", labels)] == ["red", "green", "blue"]
    assert [labels[i] for i in rows_for("four-colour", labels)] == ["red", "green", "blue", "white"]
    weighted = [labels[i] for i in rows_for("weighted", labels)]
    assert weighted[:4] == ["red", "green", "blue", "white"]
    assert "black" not in weighted
    assert AGAIN not in weighted
    assert len(weighted) == 4 + len(MIXTURES)


QUICK = ([100.0, 0.25], [1.0, 0.9], [0.01, 3.0])


def noisy(of_y, of_xy):
    return Repeatability.of([(0.01, of_y, of_xy, of_xy), (100.0, of_y, of_xy, of_xy)])


def test_a_quick_meter_reads_a_grey_until_it_is_steady_and_a_colour_less():
    meter = noisy(0.001, 0.0006)
    assert steady_average(meter, QUICK, 100.0, grey=True) == 9  # three times as noisy as is wanted
    assert steady_average(meter, QUICK, 100.0, grey=False) == 4
    assert steady_average(noisy(0.003, 0.0001), QUICK, 100.0, grey=True) == 9, "luminance counts too"
    assert steady_average(noisy(0.02, 0.005), QUICK, 100.0, grey=True) == 16, "there is a most"


@pytest.mark.parametrize("grey", [True, False])
def test_a_steady_meter_or_one_that_takes_long_reads_once(grey):
    assert steady_average(noisy(0.001, 0.0002), QUICK, 100.0, grey=grey) == 1
    slow = ([100.0, 4.0], [0.01, 30.0])
    assert steady_average(noisy(0.01, 0.002), slow, 100.0, grey=grey) == 1
    assert steady_average(noisy(0.01, 0.002), QUICK, 0.01, grey=grey) == 2, "six seconds at the most"


def test_a_screen_needs_light_by_its_area_and_gain():
    screen = Screen(100.0, gain=1.3)
    assert screen.width_m == pytest.approx(2.214, abs=0.001)
    assert screen.area_m2 == pytest.approx(2.757, abs=0.001)
    assert screen.lumens(48.0) == pytest.approx(319.8, abs=0.3)
    assert screen.luminance(screen.lux(48.0)) == pytest.approx(48.0)
    assert foot_lamberts(48.0) == pytest.approx(14.01, abs=0.01)
