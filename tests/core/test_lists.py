import numpy as np
import pytest

from fenvik.core.colour.space import D65_XY, P3D65, rgb_to_xyz_matrix, xyz_to_uv
from fenvik.core.colour.target import TARGETS, Target
from fenvik.core.measure.drift import factors, size
from fenvik.core.signal.decoding import decode
from fenvik.core.signal.lists import LISTS, Plan, luminance_share, put_together
from fenvik.core.signal.patches import KNOWN
from fenvik.core.signal.stage import Stage


def made(*chosen, **more):
    return put_together(Plan(chosen, **more), 10, "limited")


def test_the_first_list_is_eleven_greys_and_six_colours():
    items = made("colours-100", "grey-11")
    assert len(items) == 17
    assert [s.patch.label for s in items[:2]] == ["100 %", "90 %"], "greys come first whatever was chosen first"
    assert [s.patch.label for s in items[-6:]] == ["red", "green", "blue", "cyan", "magenta", "yellow"]


def test_a_patch_that_two_lists_share_is_read_once():
    both = made("grey-11", "grey-21", "near-black", "colours-100", "luminances")
    codes = [s.patch.rgb for s in both]
    assert len(codes) == len(set(codes))


@pytest.mark.parametrize("name", sorted(LISTS))
@pytest.mark.parametrize(("bits", "range_"), [(8, "limited"), (10, "limited"), (8, "full"), (12, "full")])
def test_every_list_can_be_made_for_every_signal(name, bits, range_):
    items = put_together(Plan((name,)), bits, range_)
    assert bool(items) != LISTS[name].is_hdr
    items += put_together(Plan((name,)), bits, range_, Stage(TARGETS["bt2020-pq"], 600.0))
    assert items
    assert LISTS[name].why
    for item in items:
        assert all(0 <= c < 2**bits for c in item.patch.rgb)
        assert item.as_row()["label"]


def test_dark_comes_after_bright_inside_a_list():
    for name in ("grey-21", "near-black", "volume", "luminances", "known"):
        shares = [luminance_share(s.patch, 10, "limited") for s in made(name)]
        assert shares == sorted(shares, reverse=True), name
    items = made("near-black", "grey-11", "known")
    assert [s.patch.label for s in items][-1] == "1 %", "0 % was read with the greyscale"


def test_whites_for_drift_lie_between():
    items = made("grey-21", drift_every=5)
    at = [i for i, s in enumerate(items) if s.part == "drift"]
    assert at[0] == 0
    assert at[-1] == len(items) - 1
    assert max(np.diff(at)) == 6
    assert not [s for s in made("grey-21") if s.part == "drift"]


def test_ladders_have_their_steps():
    saturations = {s.patch.label: s.patch.percent for s in made("saturations")}
    assert saturations["red 50 % sat"] == (75.0, 37.5, 37.5)
    assert saturations["yellow 100 % sat"] == (75.0, 75.0, 0.0)
    assert len(saturations) == 24
    assert [s.window for s in made("windows")] == [1, 2, 5, 10, 18, 25, 50, 75, 100]
    assert len(made("volume", options={"edge": 5})) == 124
    assert len(made("grey-own", options={"steps": 41})) == 41


def test_stability_waits_between_its_whites():
    items = made("stability", options={"minutes": 2})
    assert len(items) == 9
    assert [s.wait_s for s in items] == [0.0, *[15.0] * 8]
    assert items[1].as_row()["wait_s"] == 15.0


def test_near_white_goes_above_white_where_the_signal_does():
    assert made("near-white")[0].patch.label == "108 %"
    assert put_together(Plan(("near-white",)), 8, "full")[0].patch.label == "100 %"


def test_the_meter_is_carried_the_shortest_way():
    places = [s.place for s in made("uniformity")]
    assert len(set(places)) == 9
    steps = np.hypot(*np.diff(np.array(places), axis=0).T)
    assert steps.max() < 0.34
    assert made("uniformity")[0].hold.startswith("Put the meter at upper left")
    assert len(made("uniformity", options={"grid": 5})) == 25


def test_a_checkerboard_has_a_whole_field_in_the_middle():
    from fenvik.core.signal.patterns import pattern_of
    from fenvik.core.signal.patterns.board import Signal

    white, black = made("checkerboard")
    for item, wanted in ((white, 940), (black, 64)):
        board = pattern_of(item.chart["name"]).drawn(1920, 1080, Signal(10, "limited"), item.chart["options"]).codes
        height, width, _ = board.shape
        assert (board[height // 2 - 20 : height // 2 + 20, width // 2 - 20 : width // 2 + 20] == wanted).all()


def test_own_patches_join_and_repeats_are_left_out():
    items = made("grey-11", own=(("mine", (12.0, 34.0, 56.0)), ("again", (50.0, 50.0, 50.0))))
    assert [s.patch.label for s in items][-1] == "mine"
    assert len(items) == 12


def test_known_colours_are_twelve_and_none_is_grey():
    assert len(KNOWN) == 12
    assert all(len(set(v)) > 1 for v in KNOWN.values())


def test_drift_is_taken_out_between_whites():
    whites = np.array([[95.0, 100.0, 109.0], [95.0 * 1.02, 102.0, 109.0]])
    f = factors([-5, 0, 50, 100, 200], [0, 100], whites)
    np.testing.assert_allclose(f[:, 1], [1, 1, 1 / 1.01, 1 / 1.02, 1 / 1.02])
    np.testing.assert_allclose(f[:, 2], 1)
    assert size(whites) == pytest.approx(0.02)
    np.testing.assert_allclose(factors([1, 2], [0], whites[:1]), 1)
    assert size(whites[:1]) == 0


@pytest.mark.parametrize("name", ["bt2020-pq", "p3d65-pq", "bt2020-hlg"])
def test_hdr_colours_are_placed_by_their_light_below_the_peak(name):
    target, peak = TARGETS[name], 420.0
    stage = Stage(target, peak)
    shown = put_together(Plan(("saturations", "luminances", "known", "colours-75")), 10, "limited", stage)
    by = {s.patch.label: target.xyz(decode(s.patch.rgb, 10, "limited"), peak, 0.0) for s in shown}
    linear = np.array(list(by.values())) @ target.inverse_matrix.T
    assert linear.max() < peak
    white, red = xyz_to_uv(target.white), xyz_to_uv(target.matrix[:, 0])
    half = xyz_to_uv(by["red 50 % sat"])
    np.testing.assert_allclose(half, 0.5 * (white + red), atol=8e-4)  # ten bits
    assert by["red 25 % sat"][1] == pytest.approx(by["red 50 % light"][1], rel=0.02)
    # Skin is what it is in a picture of BT.709, with diffuse white at 203 cd/m² (BT.2408).
    skin = Target("picture", curve="power", gamma=2.4).xyz(np.array([0.88, 0.74, 0.66]), 203.0, 0.0)
    np.testing.assert_allclose(by["pale skin"], skin, rtol=0.03)
    films = {s.patch.label: s.patch.rgb for s in put_together(Plan(("p3",)), 10, "limited", stage)}
    assert len(films) == 12
    corner = xyz_to_uv(target.xyz(decode(films["P3 green"], 10, "limited"), peak, 0.0))
    np.testing.assert_allclose(corner, xyz_to_uv(rgb_to_xyz_matrix(P3D65, D65_XY)[:, 1]), atol=1e-3)
    pale = xyz_to_uv(target.xyz(decode(films["P3 green, pale"], 10, "limited"), peak, 0.0))
    np.testing.assert_allclose(pale, 0.5 * (white + corner), atol=2e-3)
    assert by["green 10 cd/m²"][1] == pytest.approx(10 * target.matrix[1, 1], rel=0.03)
