"""Patterns: code values worked out by hand, options, and drawn examples that show what they say."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.core.signal.decoding import decode
from fenvik.core.signal.patterns import PATTERNS, PatternError, Signal, pattern_of
from fenvik.core.signal.patterns.options import three_primaries
from fenvik.core.signal.patterns.seen import example, with_fault

LIMITED, FULL = Signal(8, "limited"), Signal(8, "full")


def codes(name, signal=LIMITED, board=(640, 360), /, **options):
    return pattern_of(name).drawn(*board, signal, options).codes


@pytest.mark.parametrize("name", PATTERNS)
@pytest.mark.parametrize("signal", [LIMITED, FULL, Signal(10, "limited")], ids=["8-limited", "8-full", "10-limited"])
def test_every_pattern_draws_at_any_size_within_its_bits(name, signal):
    for size in ((960, 540), (333, 257), (64, 36)):
        made = codes(name, signal, size)
        assert made.shape == (size[1], size[0], 3)
        assert made.min() >= 0
        assert made.max() < 2**signal.bits


@pytest.mark.parametrize("name", PATTERNS)
def test_every_pattern_says_what_it_is_for_and_what_it_cannot_show(name):
    pattern = PATTERNS[name]
    assert pattern.purpose.endswith(".")
    assert pattern.look_for.endswith(".")
    assert pattern.cannot.endswith(".")
    assert pattern.right
    assert pattern.id == name


def test_black_level_has_bars_below_black_only_where_the_range_has_room():
    assert codes("black-level", LIMITED).min() == 3  # 16 - 6 % of 219
    assert codes("black-level", FULL).min() == 0
    # 1 % above black: 16 + 2.19 and 0 + 2.55, halves up
    assert 18 in codes("black-level", LIMITED)
    assert 3 in codes("black-level", FULL)


def test_white_level_reaches_above_white_only_where_the_range_has_room():
    assert codes("white-level", LIMITED).max() == 253  # 16 + 219 × 1.08 = 252.52
    assert codes("white-level", FULL).max() == 255
    assert (codes("white-level", LIMITED)[5, 5] == 235).all()


def test_colour_bars_at_75_percent():
    bars = codes("colour-bars")
    row = bars[5]
    # 16 + 219 × 0.75 = 180.25
    wanted = [
        (180, 180, 180),
        (180, 180, 16),
        (16, 180, 180),
        (16, 180, 16),
        (180, 16, 180),
        (180, 16, 16),
        (16, 16, 180),
    ]
    assert [tuple(int(v) for v in row[int((i + 0.1) * 640 / 7)]) for i in range(7)] == wanted


def test_small_fields_of_the_colour_bars_vanish_in_blue_alone():
    bars = codes("colour-bars")[..., 2]
    upper = bars[: int(0.7 * 360)]
    for i, lit in enumerate((True, False, True, False, True, False, True)):
        column = upper[:, int(i * 640 / 7) + 2 : int((i + 1) * 640 / 7) - 2]
        assert set(np.unique(column)) == {180 if lit else 16}


def test_a_full_ramp_has_every_code_and_a_shallow_one_only_its_own():
    assert set(np.unique(codes("ramp-grey", FULL, (1920, 1080)))) == set(range(256))
    shallow = codes("ramp-grey", FULL, (1920, 1080), extent="middle")
    assert (shallow.min(), shallow.max()) == (102, 128)  # 40 % and 50 % of 255, halves up


def test_a_checkerboard_is_half_lit_and_can_be_turned_round():
    one, other = codes("checkerboard"), codes("checkerboard", start="black")
    assert (one == 235).mean() == pytest.approx(0.5)
    assert ((one == 235) != (other == 235)).all()


def test_single_pixels_alternate():
    made = codes("one-to-one", FULL)
    top, left = int(0.15 * 360 + 0.5) + 3, int(0.06 * 640 + 0.5) + 4
    across = made[top, left : left + 6, 0]
    assert set(across.tolist()) == {0, 255}
    assert (np.diff(across) != 0).all()


def test_steps_are_the_greyscale_both_ways():
    made = codes("steps", FULL, count="6")
    assert made[10, [10, 630], 0].tolist() == [0, 255]
    assert made[350, [10, 630], 0].tolist() == [255, 0]
    assert sorted(np.unique(made)) == [0, 51, 102, 153, 204, 255]


@given(st.floats(0.5, 100), st.floats(0, 100), st.floats(0, 100))
def test_a_free_patch_has_its_area_wherever_it_is_put(size, x, y):
    made = codes("patch", FULL, (800, 450), size=str(size), x=str(x), y=str(y), red="50", green="50", blue="50")
    lit = (made[..., 0] == 128).mean() * 100
    assert lit == pytest.approx(size, abs=0.6)


def test_a_free_patch_has_the_codes_that_were_asked_for():
    made = codes("patch", LIMITED, red="100", green="50", blue="0", surround="10")
    assert made[180, 320].tolist() == [235, 126, 16]  # 16 + 109.5 rounds up
    assert made[2, 2].tolist() == [38, 38, 38]


def test_a_smaller_space_inside_a_container_is_less_saturated():
    made = codes("colour-space", FULL, (640, 360), inner="bt709", container="bt2020", level="100")
    outer, inner = made[60, 60], made[60, 160]
    assert outer.tolist() == [255, 0, 0]
    # BT.709 red in BT.2020 is 0.6274, 0.0691, 0.0164 in linear light (BT.2087, table 1), here coded with 1/2.4
    wanted = 255 * np.array([0.6274, 0.0691, 0.0164]) ** (1 / 2.4)
    np.testing.assert_allclose(inner, wanted, atol=1.0)


def test_custom_primaries_are_checked():
    assert three_primaries("0.64 0.33, 0.30 0.60; 0.15 0.06").green == (0.30, 0.60)
    for wrong in ("0.64 0.33", "a b c d e f", "0.1 0.1 0.2 0.2 0.3 0.3", "1.2 0.3 0.3 0.6 0.15 0.06"):
        with pytest.raises(PatternError):
            three_primaries(wrong)
    with pytest.raises(PatternError):
        codes("colour-space", inner="custom", primaries="no")


@pytest.mark.parametrize(
    ("name", "options"),
    [
        ("patch", {"size": "0"}),
        ("patch", {"red": "high"}),
        ("steps", {"count": "7"}),
        ("patch", {"x": "nan"}),
        ("patch", {"y": "1e9"}),
    ],
)
def test_a_wrong_option_is_refused_in_one_sentence(name, options):
    with pytest.raises(PatternError) as caught:
        codes(name, LIMITED, (64, 36), **options)
    assert str(caught.value).endswith(".")
    assert caught.value.option in options


def test_there_is_no_other_pattern():
    with pytest.raises(PatternError):
        pattern_of("../../etc")


def test_the_moving_bar_crosses_in_its_time():
    moving = PATTERNS["cadence"].movement(FULL, {"speed": "50", "rate": "23.976"})
    assert moving.seconds == 2.0
    assert moving.frames == 23.976
    assert PATTERNS["steps"].movement(FULL) is None


@pytest.mark.parametrize("name", PATTERNS)
def test_an_example_differs_from_right_wherever_it_says_so(name):
    pattern = PATTERNS[name]
    right = example(pattern, "right", 160, 90)
    assert right.shape == (90, 160, 3)
    assert right.min() >= 0
    assert right.max() <= 0.63  # it must not light a dark room
    for how, wrong in (("low", pattern.low), ("high", pattern.high)):
        seen = example(pattern, how, 160, 90)
        same = np.abs(seen - right).max() < 0.01
        nothing_to_see = (
            wrong.fault == "none" or wrong.amount == 0 or (name, how) == ("patch", "high")
        )  # white is white
        assert same == nothing_to_see, how


def test_faults_go_the_way_they_say():
    grey = np.full((40, 60, 3), 0.5)
    assert with_fault(grey, "black", 5).mean() > 0.5 > with_fault(grey, "black", -5).mean()
    assert with_fault(grey, "gamma", 1.3).mean() < 0.5
    edge = np.concatenate([np.full((40, 30, 3), 0.2), np.full((40, 30, 3), 0.8)], axis=1)
    sharp = with_fault(edge, "sharpen", 1.0)
    assert sharp.max() > 0.8
    assert sharp.min() < 0.2
    assert with_fault(edge, "sharpen", -2.0).max() <= 0.8 + 1e-9
    assert len(np.unique(with_fault(np.linspace(0, 1, 256)[None, :, None].repeat(3, 2), "bits", 3))) == 8
    red = np.zeros((9, 21, 3))
    red[:, 10] = 1.0
    moved = with_fault(red, "shift-red", 3)
    assert moved[4, 13, 0] == 1.0
    assert moved[4, 10, 1] == 1.0


def test_codes_decode_to_what_was_asked():
    made = codes("uniformity", Signal(10, "limited"), level="50")
    assert decode(made[0, 0], 10, "limited") == pytest.approx([0.5] * 3, abs=1e-3)


def test_a_gradient_runs_between_any_two_colours():
    made = codes("gradient-any", FULL, (101, 9), **{"from": "10", "to": "20 0 100", "along": "across"})
    assert made[4, 0].tolist() == [26, 26, 26]  # 255 × 0.10 = 25.5
    assert made[4, -1].tolist() == [51, 0, 255]
    assert made[4, 50].tolist() == [38, 13, 140]  # 15, 5 and 55 %
    corner = codes("gradient-any", FULL, (101, 101), **{"from": "0", "to": "100", "along": "corner"})
    assert (corner[0, 0, 0], corner[100, 100, 0], corner[0, 100, 0]) == (0, 255, 128)
    for wrong in ("", "1 2", "red", "0 0 200"):
        with pytest.raises(PatternError, match="A colour is"):
            codes("gradient-any", FULL, **{"from": wrong or "x"})


def test_boards_have_any_count():
    made = codes("checkerboard", FULL, (70, 30), across="7", down="3", level="100", dark="10")
    assert [made[5, 10 * i + 5, 0] for i in range(7)] == [255, 26, 255, 26, 255, 26, 255]
    assert [made[10 * i + 5, 5, 0] for i in range(3)] == [255, 26, 255]


def test_a_colour_space_is_chosen_once_for_all_patterns_and_leaves_greys_alone():
    inside = Signal(10, "full", "bt709 in bt2020")
    red = codes("patch", inside, (64, 36), size="100", red="100", green="0", blue="0")[10, 10]
    # BT.2087: 0.6274, 0.0691, 0.01639 of light, raised to 1 / 2.4
    assert red.tolist() == [round(1023 * part ** (1 / 2.4)) for part in (0.6274, 0.0691, 0.01639)]
    np.testing.assert_array_equal(codes("steps", inside), codes("steps", Signal(10, "full")))
    np.testing.assert_array_equal(codes("colour-space", inside), codes("colour-space", Signal(10, "full")))


def test_rows_of_moving_lines_are_as_wide_as_they_say():
    ground = codes("motion-lines", FULL, (640, 360))
    moving = pattern_of("motion-lines").movement(FULL)
    assert moving.rows == (8, 6, 5, 4, 3, 2, 1)
    for i, wide in enumerate(moving.rows):
        row = ground[int(360 * (0.1 + 0.8 * (i + 0.3) / 7)), :, 0]
        assert np.count_nonzero(row == 204) == 4 * wide  # 80 % of 255
