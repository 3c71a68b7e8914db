import numpy as np
import pytest

from fenvik.core.analysis.analysis import Readings, analyse
from fenvik.core.colour import curves
from fenvik.core.colour.itp import delta_itp, delta_itp_colour_only, ictcp
from fenvik.core.colour.science import library
from fenvik.core.colour.target import TARGETS
from fenvik.core.models import points
from fenvik.core.signal.decoding import encode


def test_ictcp_is_that_of_the_standard():
    colour = library()
    xyz = np.abs(np.random.default_rng(1).normal(100, 80, (60, 3))) + 0.5
    rgb = xyz @ np.linalg.inv(colour.models.RGB_COLOURSPACE_BT2020.matrix_RGB_to_XYZ).T
    keep = (rgb > 0).all(axis=1)
    with colour.utilities.suppress_warnings(colour_usage_warnings=True):
        wanted = colour.RGB_to_ICtCp(rgb[keep])
    np.testing.assert_allclose(ictcp(xyz[keep]), wanted, atol=2e-4)


def test_one_is_about_what_can_be_seen_and_equal_light_has_none():
    white = np.array([95.05, 100.0, 108.9])
    assert delta_itp(white, white) == 0
    assert 0.5 < delta_itp(white, white * 1.01) < 2.0
    assert delta_itp_colour_only(white, white * 1.5) == pytest.approx(0, abs=1e-9)
    assert delta_itp_colour_only(white, white * [1.02, 1, 1]) > 1
    assert delta_itp_colour_only([0.0, 0.0, 0.0], white) == 0


@pytest.mark.parametrize(("peak", "mastered"), [(600.0, 1000.0), (300.0, 4000.0), (1000.0, 1000.0), (2000.0, 1000.0)])
def test_a_roll_off_keeps_the_dark_and_ends_at_the_peak(peak, mastered):
    signal = np.linspace(0, 1, 400)
    rolled = curves.roll_off(signal, peak, 0.005, (mastered, 0.005))
    assert (np.diff(rolled) >= -1e-12).all(), "never falls"
    reached = min(peak, 10_000.0 if peak >= mastered else mastered)  # a brighter display leaves the signal as it is
    assert min(curves.pq(rolled[-1]), peak) == pytest.approx(reached, rel=1e-3)
    dark = curves.pq(signal) < 0.1 * min(peak, mastered)
    np.testing.assert_allclose(rolled[dark & (signal > 0.1)], signal[dark & (signal > 0.1)], atol=2e-3)
    clipped = np.minimum(curves.pq(signal), peak)
    given = np.minimum(curves.pq(rolled), peak)
    assert (given <= clipped * 1.001 + 0.006).all(), "it gives detail above the knee for light below it"


def test_a_black_that_the_display_cannot_reach_lifts_the_dark_alone():
    signal = np.linspace(0, 1, 200)
    lifted = curves.roll_off(signal, 1000.0, 0.1, (1000.0, 0.005))
    plain = curves.roll_off(signal, 1000.0, 0.005, (1000.0, 0.005))
    assert curves.pq(lifted[0]) == pytest.approx(0.1, rel=0.02)
    assert (lifted >= plain - 1e-12).all()
    assert lifted[150] - plain[150] < 0.002


def readings(percent, xyz):
    codes = encode(percent, 10, "limited")
    return Readings(
        codes, np.asarray(xyz), 10, "limited", tuple(str(i) for i in range(len(codes))), np.ones(len(codes))
    )


def test_an_absolute_target_is_held_against_its_signal_and_clipped_at_the_peak():
    target = TARGETS["bt2020-pq"]
    levels = np.linspace(100, 0, 11)
    percent = np.repeat(levels[:, None], 3, axis=1)
    perfect = np.minimum(curves.pq(np.clip(levels / 100, 0, 1)), 700.0)[:, None] * target.white
    told = analyse(readings(percent, perfect), target)
    assert told.whole.value.max() < 0.5, "only what rounding to codes leaves"
    assert target.is_hdr
    off = perfect.copy()
    off[4] *= 1.2
    assert analyse(readings(percent, off), target).whole.value[4] > 5


def test_a_p3_picture_in_bt2020_aims_at_p3_colours():
    target = TARGETS["p3d65-pq"]
    red_in_2020 = np.array([[0.7, 0.0, 0.0]])
    wide, narrow = TARGETS["bt2020-pq"].xyz(red_in_2020, 1000, 0), target.xyz(red_in_2020, 1000, 0)
    xy = lambda v: (v / v.sum())[0, :2]  # noqa: E731
    assert np.hypot(*(xy(wide) - [0.708, 0.292])) < 1e-3
    assert np.hypot(*(xy(narrow) - [0.68, 0.32])) < 2e-2


def test_no_peak_of_hdr_is_given_away_for_its_balance():
    weak_blue = np.array([1.0, 1.0, 0.8])
    held = {name: points.held(TARGETS[name].matrix @ weak_blue, TARGETS[name]) for name in ("bt709-2.2", "bt2020-hlg", "bt2020-pq")}
    assert held["bt709-2.2"] == pytest.approx(0.8)
    assert held["bt2020-hlg"] == pytest.approx(0.996 * held["bt2020-pq"])
