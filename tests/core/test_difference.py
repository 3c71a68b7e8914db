import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from fenvik.core.colour import difference
from fenvik.core.colour.science import reference_delta_e_2000

# Sharma, Wu, Dalal (2005), table 1: L*, a*, b* of both samples, and the difference.
PUBLISHED = """
50.0000 2.6772 -79.7751 50.0000 0.0000 -82.7485 2.0425
50.0000 3.1571 -77.2803 50.0000 0.0000 -82.7485 2.8615
50.0000 2.8361 -74.0200 50.0000 0.0000 -82.7485 3.4412
50.0000 -1.3802 -84.2814 50.0000 0.0000 -82.7485 1.0000
50.0000 -1.1848 -84.8006 50.0000 0.0000 -82.7485 1.0000
50.0000 -0.9009 -85.5211 50.0000 0.0000 -82.7485 1.0000
50.0000 0.0000 0.0000 50.0000 -1.0000 2.0000 2.3669
50.0000 -1.0000 2.0000 50.0000 0.0000 0.0000 2.3669
50.0000 2.4900 -0.0010 50.0000 -2.4900 0.0009 7.1792
50.0000 2.4900 -0.0010 50.0000 -2.4900 0.0010 7.1792
50.0000 2.4900 -0.0010 50.0000 -2.4900 0.0011 7.2195
50.0000 2.4900 -0.0010 50.0000 -2.4900 0.0012 7.2195
50.0000 -0.0010 2.4900 50.0000 0.0009 -2.4900 4.8045
50.0000 -0.0010 2.4900 50.0000 0.0010 -2.4900 4.8045
50.0000 -0.0010 2.4900 50.0000 0.0011 -2.4900 4.7461
50.0000 2.5000 0.0000 50.0000 0.0000 -2.5000 4.3065
50.0000 2.5000 0.0000 73.0000 25.0000 -18.0000 27.1492
50.0000 2.5000 0.0000 61.0000 -5.0000 29.0000 22.8977
50.0000 2.5000 0.0000 56.0000 -27.0000 -3.0000 31.9030
50.0000 2.5000 0.0000 58.0000 24.0000 15.0000 19.4535
50.0000 2.5000 0.0000 50.0000 3.1736 0.5854 1.0000
50.0000 2.5000 0.0000 50.0000 3.2972 0.0000 1.0000
50.0000 2.5000 0.0000 50.0000 1.8634 0.5757 1.0000
50.0000 2.5000 0.0000 50.0000 3.2592 0.3350 1.0000
60.2574 -34.0099 36.2677 60.4626 -34.1751 39.4387 1.2644
63.0109 -31.0961 -5.8663 62.8187 -29.7946 -4.0864 1.2630
61.2901 3.7196 -5.3901 61.4292 2.2480 -4.9620 1.8731
35.0831 -44.1164 3.7933 35.0232 -40.0716 1.5901 1.8645
22.7233 20.0904 -46.6940 23.0331 14.9730 -42.5619 2.0373
36.4612 47.8580 18.3852 36.2715 50.5065 21.2231 1.4146
90.8027 -2.0831 1.4410 91.1528 -1.6435 0.0447 1.4441
90.9257 -0.5406 -0.9208 88.6381 -0.8985 -0.7239 1.5381
6.7747 -0.2908 -2.4247 5.8714 -0.0985 -2.2286 0.6377
2.0776 0.0795 -1.1350 0.9033 -0.0636 -0.5514 0.9082
"""
PAIRS = np.array([[float(v) for v in row.split()] for row in PUBLISHED.strip().splitlines()])
LAB = arrays(np.float64, (20, 3), elements=st.floats(-90, 90).map(lambda v: round(v, 4)))


def test_ciede2000_gives_the_published_differences():
    total = difference.de2000_parts(PAIRS[:, :3], PAIRS[:, 3:6]).total
    np.testing.assert_allclose(total, PAIRS[:, 6], atol=1e-4)


@given(LAB, LAB)
def test_ciede2000_agrees_with_the_reference_everywhere(first, second):
    first, second = np.abs(first) * [1, 0, 0] + first * [0, 1, 1], np.abs(second) * [1, 0, 0] + second * [0, 1, 1]
    np.testing.assert_allclose(
        difference.de2000_parts(first, second).total, reference_delta_e_2000(first, second), atol=1e-7
    )


def test_parts_say_which_way():
    grey, lighter = np.array([50.0, 0.0, 0.0]), np.array([55.0, 0.0, 0.0])
    assert difference.de2000_parts(grey, lighter).lightness > 0
    red, redder = np.array([50.0, 40.0, 0.0]), np.array([50.0, 50.0, 0.0])
    assert difference.de2000_parts(red, redder).chroma > 0
    assert difference.de2000_parts(redder, red).chroma < 0
    assert difference.de2000_parts(red, np.array([50.0, 40.0, 5.0])).hue > 0


def test_lab_of_white_is_100_and_of_nothing_is_0():
    white = np.array([95.0, 100.0, 108.0])
    np.testing.assert_allclose(difference.xyz_to_lab(white, white), [100, 0, 0], atol=1e-12)
    np.testing.assert_allclose(difference.xyz_to_lab(np.zeros(3), white), [0, 0, 0], atol=1e-12)


def test_colour_only_does_not_see_luminance():
    white = np.array([95.05, 100.0, 108.9])
    target, reading = white * 0.2, white * 0.17
    assert difference.whole(target, reading, white).total > 1
    assert difference.colour_only(target, reading, white).total == pytest.approx(0, abs=1e-9)


def test_a_dark_target_is_judged_by_the_whites_colour():
    white = np.array([95.05, 100.0, 108.9])
    blueish = np.array([0.05, 0.05, 0.09])
    assert difference.colour_only(np.zeros(3), blueish, white).total > 0.1
    assert difference.colour_only(np.zeros(3), white * 0.0005, white).total == pytest.approx(0, abs=1e-9)
    assert difference.colour_only(white * 0.1, np.zeros(3), white).total == pytest.approx(0, abs=1e-9)
