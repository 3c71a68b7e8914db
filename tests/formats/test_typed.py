import contextlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.formats.typed import TypedError, parse_typed


def test_three_numbers_are_taken_however_they_are_apart():
    for text in ("95.05 100 108.9", "95,05;100;108,9", " 95.05\t100  108.9 "):
        assert parse_typed(text, "XYZ") == (95.05, 100.0, 108.9)


def test_luminance_and_chromaticity_become_xyz():
    assert parse_typed("100 3127 3290", "Yxy") == parse_typed("100 0,3127 0,3290", "Yxy")
    x, y, z = parse_typed("100 0,3127 0,3290", "Yxy")
    assert (x, y, z) == pytest.approx((95.0456, 100.0, 108.9058), abs=1e-3)


@pytest.mark.parametrize("text", ["dark", "Dark", "-", "−"])
def test_a_meter_that_finds_it_too_dark_is_an_answer(text):
    assert parse_typed(text, "XYZ") is None


@pytest.mark.parametrize(
    ("text", "order", "says"),
    [
        ("", "XYZ", "there is none"),
        ("5", "XYZ", "there is one"),
        ("1 2", "Yxy", "there are 2"),
        ("1 2 3 4", "XYZ", "there are 4"),
        ("1 two 3", "XYZ", "no number"),
        ("nan 1 1", "XYZ", "no number"),
        ("inf 1 1", "XYZ", "no number"),
        ("-1 1 1", "XYZ", "below zero"),
        ("10 0 12", "XYZ", "no luminance"),
        ("95 100 108", "Yxy", "Choose what is typed"),
        ("100 0.31 0.329", "XYZ", "look like x and y"),
        ("200000 0.31 0.32", "Yxy", "between 0 and"),
    ],
)
def test_what_is_no_reading_is_said_in_one_sentence(text, order, says):
    with pytest.raises(TypedError, match=says):
        parse_typed(text, order)


@given(st.text(max_size=40), st.sampled_from(["XYZ", "Yxy"]))
def test_whatever_is_typed_is_a_reading_or_one_error(text, order):
    with contextlib.suppress(TypedError):
        made = parse_typed(text, order)
        assert made is None or all(v >= 0 for v in made)
