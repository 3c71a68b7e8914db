"""Targets as values: what each asks for, and light to drive and back. Expected values by hand from the standards."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.core.analysis import greyscale
from fenvik.core.analysis.analysis import Readings, analyse
from fenvik.core.analysis.report import Sheet, report
from fenvik.core.colour import curves
from fenvik.core.colour.itp import delta_itp
from fenvik.core.colour.space import BT2020, D65_XY, P3D65, rgb_to_xyz_matrix
from fenvik.core.colour.target import TARGETS, Target
from fenvik.core.colour.unread import unread
from fenvik.core.signal.decoding import decode

ROLLED = Target("free", BT2020, curve="pq", rolls_off=True)
EVERY = [
    *TARGETS.values(),
    ROLLED,
    Target("free", BT2020, curve="pq", rolls_off=True, mastered=(4000.0, 0.0001)),
    replace(ROLLED, rolled_by="greatest"),
    replace(ROLLED, primaries=P3D65, rolled_by="luminance", mastered=(4000.0, 0.005)),
    replace(ROLLED, diffuse=60.0),
    replace(ROLLED, diffuse=60.0, rolled_by="greatest"),
    Target("free", P3D65, (0.3064, 0.3159), "hlg"),
    Target("free", curve="srgb"),
]


@given(
    target=st.sampled_from(EVERY), white=st.floats(40, 2000), black=st.sampled_from([0.0, 0.0004, 0.05]),
    mix=st.tuples(*[st.floats(0.3, 1.0)] * 3),  # P3's own red lies a hair outside BT.2020
)  # fmt: skip
def test_light_to_drive_to_light_comes_back_for_every_target(target, white, black, mix):
    linear = black + (white - black) * np.array(mix) ** 2.4
    xyz = target.matrix @ linear
    back = target.xyz(target.drive(xyz, white, black), white, black)
    assert delta_itp(xyz, back) < 1e-3


@pytest.mark.parametrize(("peak", "gamma"), [(48, 0.7567), (400, 1.0329), (1000, 1.2), (2000, 1.3264), (4000, 1.4812)])
def test_hlgs_system_gamma_has_its_extended_formula_outside_its_range(peak, gamma):
    # BT.2390: 1.2·1.111^log2(peak/1000) below 400 and above 2000; BT.2100: 1.2 + 0.42·log10(peak/1000) in between
    assert curves.hlg_gamma(peak) == pytest.approx(gamma, abs=1e-4)


def test_a_display_that_reaches_beyond_the_master_leaves_the_signal_as_it_is():
    signal = np.array([0.0, float(curves.pq_inverse(0.001)), 0.5, float(curves.pq_inverse(1500.0)), 0.95])
    np.testing.assert_allclose(ROLLED.light(signal, 1500.0, 0.0), np.minimum(curves.pq(signal), 1500.0), atol=1e-12)
    # One end alone: a dim panel with a perfect black keeps the foot, and rolls off to its own peak.
    dim = ROLLED.light(np.array([0.0, float(curves.pq_inverse(1000.0))]), 300.0, 0.0)
    np.testing.assert_allclose(dim, [0.0, 300.0], rtol=1e-6)
    # The mastering display's own black is a part of the target.
    lifted = Target("free", BT2020, curve="pq", rolls_off=True, mastered=(1000.0, 0.0))
    assert lifted.light(0.0, 1000.0, 0.01) == pytest.approx(0.01, rel=1e-6)


@pytest.mark.parametrize("name", list(TARGETS))
def test_page_and_command_line_hold_readings_against_the_same_target(name):
    """Colours beyond the peak, super-white and the foot of limited range among them."""
    rng = np.random.default_rng(5)
    codes = np.vstack([[940] * 3, [64] * 3, [1019] * 3, [20] * 3, [940, 64, 64], [64, 940, 64], rng.integers(64, 941, (30, 3))])
    xyz = np.abs(rng.normal(100, 60, (len(codes), 3)))
    xyz[:2] = [[570, 600, 650], [0.05, 0.05, 0.06]]
    readings = Readings(codes, xyz, 10, "limited", ("",) * len(codes), np.ones(len(codes)))
    page = analyse(readings, TARGETS[name])
    sheet = Sheet([None] * len(codes), codes, decode(codes, 10, "limited"), xyz, np.full(len(codes), np.nan))
    told = report(sheet, TARGETS[name])
    np.testing.assert_allclose(page.target_xyz, [row["target_xyz"] for row in told["readings"]], atol=1e-9)
    key = "de_itp" if TARGETS[name].is_hdr else "de2000"
    np.testing.assert_allclose(page.whole.value, [row[key] for row in told["readings"]], atol=1e-9)


def test_p3_beyond_the_peak_is_cut_off_in_p3():
    green = rgb_to_xyz_matrix(P3D65, D65_XY)[:, 1]
    asked = TARGETS["bt2020-pq"].drive(1500.0 * green, 10_000.0, 0.0)
    np.testing.assert_allclose(TARGETS["p3d65-pq"].xyz(asked, 600.0, 0.0), 600.0 * green, rtol=1e-9)


def test_a_moved_white_keeps_greys_grey_in_a_container():
    moved = Target("free", P3D65, (0.3064, 0.3159), "pq")
    xyz = moved.xyz(np.full(3, 0.5), 800.0, 0.0)
    np.testing.assert_allclose(xyz / xyz[1], moved.white, rtol=1e-9)


def test_the_tolerance_is_the_metrics_own():
    """At 2.4 cd/m² of PQ three ΔE ITP are about six percent of a light; CIEDE2000 would forgive a quarter of it."""
    target = TARGETS["bt2020-pq"]
    level = curves.pq_inverse(np.array([2.4]))
    band = greyscale.tolerance_percent(level, target, 700.0, 0.0, 3.0)
    assert band == pytest.approx(6.3, abs=0.2)
    wanted, light = target.matrix @ np.full(3, 2.4), np.eye(3)
    reached = [float(delta_itp(wanted, w * 2.4 / w[1])) for w in (target.matrix @ (1 + 0.01 * band * row) for row in light)]
    assert max(reached) == pytest.approx(3.0, rel=0.03)


def test_signed_parts_of_itp_make_up_the_whole():
    metric = TARGETS["bt2020-pq"].metric
    rng = np.random.default_rng(2)
    wanted = np.abs(rng.normal(60, 30, (50, 3))) + 1
    seen = wanted * rng.normal(1, 0.05, (50, 3))
    np.testing.assert_allclose(metric.parts(wanted, seen, wanted).total, metric.whole(wanted, seen, wanted), rtol=1e-6)
    assert metric.parts(wanted, wanted * 1.1, wanted).lightness.min() > 0


def test_a_roll_off_of_points_is_as_it_is_below_them_straight_between_and_even_above():
    target = replace(TARGETS["bt2020-pq"], knees=((0.5, 0.5), (0.7, 0.6), (0.9, 0.65)))
    v = np.array([0.0, 0.3, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0])
    wanted = curves.pq(np.array([0.0, 0.3, 0.5, 0.55, 0.6, 0.625, 0.65, 0.65]))
    np.testing.assert_allclose(target.light(v, 5000.0, 0.0), wanted, rtol=1e-9)
    np.testing.assert_allclose(target.fraction(wanted[:7], 5000.0, 0.0), v[:7], atol=1e-6)
    np.testing.assert_allclose(target.light(v, 150.0, 0.0).max(), 150.0)


@pytest.mark.parametrize(("by", "leads"), [("greatest", 900.0), ("luminance", None)])
def test_a_roll_off_of_all_three_lights_keeps_their_proportions(by, leads):
    # BT.2390-10, 5.4.1: the curve is applied to the greatest of R, G, B or to luminance, and all three follow in proportion.
    target = replace(ROLLED, rolled_by=by, mastered=(4000.0, 0.0))
    film = np.array([900.0, 800.0, 200.0])
    leads = leads or float(film @ rgb_to_xyz_matrix(BT2020, D65_XY)[1])
    shown = target.xyz(curves.pq_inverse(film), 1000.0, 0.0) @ target.inverse_matrix.T
    np.testing.assert_allclose(shown / shown[0], film / film[0], rtol=1e-6)
    rolled = float(curves.pq(curves.roll_off(curves.pq_inverse(leads), 1000.0, 0.0, (4000.0, 0.0))))
    np.testing.assert_allclose(shown, film * rolled / leads, rtol=1e-6)
    alone = replace(target, rolled_by="light")
    paler = alone.xyz(curves.pq_inverse(film), 1000.0, 0.0) @ alone.inverse_matrix.T
    assert paler[1] / paler[0] > 1.02 * film[1] / film[0]  # each by itself: the strongest gives way, and the colour with it
    grey = curves.pq_inverse(np.full(3, 900.0))
    np.testing.assert_allclose(target.xyz(grey, 1000.0, 0.0), alone.xyz(grey, 1000.0, 0.0), rtol=1e-6)  # of a grey all three agree


def test_a_reference_white_of_ones_own_takes_every_light_in_proportion():
    # A projector of 80 cd/m²: 203 cd/m² of the film become 40, its 1000 become 197 before they are rolled off to 80.
    target = replace(ROLLED, diffuse=40.0)
    film = np.array([1.0, 10.0, 100.0, 203.0])
    np.testing.assert_allclose(target.light(curves.pq_inverse(film), 80.0, 0.0), film * 40.0 / 203.0, rtol=1e-6)
    assert target.light(curves.pq_inverse(1000.0), 80.0, 0.0) == pytest.approx(80.0, rel=1e-4)
    assert 55 < target.light(curves.pq_inverse(500.0), 80.0, 0.0) < 80
    clipped = replace(target, rolls_off=False)
    np.testing.assert_allclose(clipped.light(curves.pq_inverse([300.0, 900.0]), 80.0, 0.0), [300.0 * 40.0 / 203.0, 80.0], rtol=1e-6)


@pytest.mark.parametrize("name", ["bt709-bt1886", "bt2020-hlg"])
def test_a_black_that_is_too_dark_to_read_is_counted_as_is_usual_but_for_a_panel_that_lights_itself(name):
    plain, fraction = TARGETS[name], np.repeat(np.linspace(0.05, 1.0, 8)[:, None], 3, axis=1)
    told = replace(plain, unread=unread("lcd", 0.05))
    for white, counted in ((100.0, 0.02625), (30.0, 0.02)):
        np.testing.assert_allclose(told.xyz(fraction, white, 0.0), plain.xyz(fraction, white, counted))
        np.testing.assert_allclose(told.drive(told.xyz(fraction, white, 0.0), white, 0.0), fraction, atol=1e-9)
    np.testing.assert_array_equal(told.xyz(fraction, 100.0, 0.08), plain.xyz(fraction, 100.0, 0.08), "one that was read counts")
    assert [unread(*known)[0] for known in (("wrgb-oled", 0.05), ("", 0.05), ("lcd", 0.0))] == [0.0, 0.0, 0.0]


def test_what_is_told_counts_an_unread_black_as_none_and_has_the_usual_one_in_its_doubt():
    codes = np.repeat(np.array([235, 126, 60, 38, 16])[:, None], 3, axis=1)
    fraction = decode(codes, 8, "limited")
    xyz = TARGETS["bt709-bt1886"].xyz(fraction, 100.0, 0.04)
    xyz[-1] = 0.0
    sheet = Readings(codes, xyz, 8, "limited", ("",) * 5, np.ones(5), dark=np.array([False] * 4 + [True]))
    told, plain = (analyse(sheet, replace(TARGETS["bt709-bt1886"], unread=known)) for known in (unread("lcd", 0.05), (0.0, 0.0)))
    np.testing.assert_array_equal(told.target_xyz, plain.target_xyz)
    off = told.readings.xyz[3, 1] - told.target_xyz[3, 1]
    assert plain.apart_std[3] < 0.1 * off < off < 2 * told.apart_std[3], "too bright, and nobody can be sure of it"
    assert (told.unread, plain.unread) == (pytest.approx(0.02625), 0.0)
