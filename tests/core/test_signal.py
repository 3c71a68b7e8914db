import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.core.errors import SignalError
from fenvik.core.signal.decoding import decode, encode
from fenvik.core.signal.patches import first_list, greyscale


@pytest.mark.parametrize(
    ("code", "bits", "range_", "fraction"),
    [
        (16, 8, "limited", 0.0),
        (235, 8, "limited", 1.0),
        (64, 10, "limited", 0.0),
        (940, 10, "limited", 1.0),
        (0, 8, "full", 0.0),
        (255, 8, "full", 1.0),
        (1023, 10, "full", 1.0),
        (126, 8, "limited", 110 / 219),
        (4095, 12, "full", 1.0),
    ],
)
def test_codes_decode_as_the_recommendations_say(code, bits, range_, fraction):
    assert decode(code, bits, range_) == pytest.approx(fraction, abs=1e-12)


def test_foot_and_head_room_are_kept():
    low, high = decode([4, 251], 8, "limited")
    assert low == pytest.approx(-12 / 219)
    assert high == pytest.approx(235 / 219)


@pytest.mark.parametrize(
    ("percent", "code"),
    # 219 levels: 50 % lies at 125.5 and a half goes up; 10 % lies at 37.9, 30 % at 81.7.
    [(0, 16), (10, 38), (30, 82), (50, 126), (100, 235)],
)
def test_percentages_go_to_the_nearest_code_halves_up(percent, code):
    assert encode(percent, 8, "limited") == code


@given(st.integers(0, 4095), st.sampled_from([8, 10, 12]), st.sampled_from(["limited", "full"]))
def test_encoding_what_was_decoded_gives_the_code_back(code, bits, range_):
    code %= 2**bits
    assert encode(100 * decode(code, bits, range_), bits, range_) == code


@pytest.mark.parametrize(("bits", "range_"), [(9, "limited"), (8, "wide"), (0, "full")])
def test_a_signal_that_does_not_exist_is_refused(bits, range_):
    with pytest.raises(SignalError):
        decode(16, bits, range_)


def test_the_first_list_is_eleven_greys_and_six_colours():
    patches = first_list(8, "limited")
    assert [patch.is_grey for patch in patches] == [True] * 11 + [False] * 6
    assert patches[0].rgb == (235, 235, 235)
    assert patches[10].rgb == (16, 16, 16)
    assert [p.label for p in patches[11:]] == ["red", "green", "blue", "cyan", "magenta", "yellow"]
    assert patches[14].rgb == (16, 235, 235)


def test_a_greyscale_goes_from_bright_to_dark_in_even_steps():
    levels = [patch.percent[0] for patch in greyscale(21, 10, "full")]
    np.testing.assert_allclose(np.diff(levels), -5.0)
