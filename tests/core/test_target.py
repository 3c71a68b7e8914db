import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.core import curves
from fenvik.core.colourspace import BT709, D65_XY, rgb_to_xyz_matrix, xyz_to_uv, xyz_to_xy
from fenvik.core.target import TARGETS


def test_bt709_matrix_is_the_published_one():
    published = [[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]]
    np.testing.assert_allclose(rgb_to_xyz_matrix(BT709, D65_XY), published, atol=6e-5)


def test_white_of_every_target_is_d65():
    for target in TARGETS.values():
        np.testing.assert_allclose(xyz_to_xy(target.white), D65_XY, atol=1e-12)
        assert target.white[1] == pytest.approx(1)


def test_d65_in_uv_is_the_published_point():
    np.testing.assert_allclose(xyz_to_uv(TARGETS["bt709-2.2"].white), [0.1978, 0.4683], atol=5e-5)


@pytest.mark.parametrize(
    ("white", "black", "signal", "luminance"),
    [
        (100.0, 0.0, 0.5, 100 * 0.5**2.4),
        (100.0, 0.1, 0.0, 0.1),  # Annex 1: black and white are met exactly
        (100.0, 0.1, 1.0, 100.0),
        (120.0, 0.05, 1.0, 120.0),
        # a = (100^(1/2.4) - 0.1^(1/2.4))^2.4, b = 0.1^(1/2.4) / (100^(1/2.4) - 0.1^(1/2.4)):
        # 6.42980^2.4 and 0.0595849, by hand
        (100.0, 0.1, 0.5, 21.6049),
    ],
)
def test_bt1886_follows_annex_1(white, black, signal, luminance):
    assert curves.bt1886(signal, white, black) == pytest.approx(luminance, rel=1e-4)


@given(st.floats(0, 1.1), st.floats(1, 1000), st.floats(0, 0.5))
def test_bt1886_can_be_turned_round(signal, white, black):
    light = curves.bt1886(signal, white, black)
    assert curves.bt1886_inverse(light, white, black) == pytest.approx(signal, abs=1e-6)


@pytest.mark.parametrize("name", TARGETS)
def test_fraction_is_the_inverse_of_light(name):
    target, signal = TARGETS[name], np.linspace(0, 1, 23)
    white = 10_000 if target.curve == "pq" else 120  # PQ is clipped at a display's own peak: there it has no inverse
    np.testing.assert_allclose(target.fraction(target.light(signal, white, 0.04), white, 0.04), signal, atol=1e-6)


def test_power_targets_have_no_black():
    assert TARGETS["bt709-2.2"].xyz(np.zeros(3), 100, 0.1)[1] == 0
    assert TARGETS["bt709-2.4"].xyz(np.full(3, 0.5), 100, 0.1)[1] == pytest.approx(100 * 0.5**2.4)


def test_red_is_as_bright_as_its_row_says():
    xyz = TARGETS["bt709-2.2"].xyz(np.array([1.0, 0, 0]), 100, 0)
    assert xyz[1] == pytest.approx(21.26, abs=0.01)
    np.testing.assert_allclose(xyz_to_xy(xyz), BT709.red, atol=1e-12)
