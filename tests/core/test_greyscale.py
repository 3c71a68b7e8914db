import numpy as np
import pytest

from fenvik.core.analysis import greyscale
from fenvik.core.colour.science import cct_and_duv, daylight_65, spectrum_to_xyz
from fenvik.core.colour.target import TARGETS
from fenvik.core.errors import ShapeError

TARGET = TARGETS["bt709-bt1886"]


@pytest.mark.parametrize(
    ("x", "y", "kelvin"),
    [(0.4476, 0.4074, 2856), (0.3127, 0.3290, 6504), (0.3457, 0.3585, 5003)],  # CIE 15, rounded
    ids=["illuminant-A", "D65", "D50"],
)
def test_cct_agrees_with_published_whites(x, y, kelvin):
    white = 120 / y * np.array([x, y, 1 - x - y])  # 120 cd/m²
    np.testing.assert_allclose(cct_and_duv(white)[0], kelvin, rtol=1e-3)


def test_black_patch_is_nan_and_spares_its_neighbours():
    sweep = np.tile([114.0, 120.0, 131.0], (4, 5, 1))
    sweep[2, 3] = 0.0
    assert np.argwhere(np.isnan(cct_and_duv(sweep)[0])).tolist() == [[2, 3]]


def test_a_saturated_green_has_no_temperature_but_a_duv():
    cct, duv = cct_and_duv([30.0, 70.0, 10.0])
    assert np.isnan(cct)
    assert duv > 0.05


def test_another_shape_is_refused():
    with pytest.raises(ShapeError):
        cct_and_duv([1.0, 2.0])


def test_daylight_through_the_observer_is_d65():
    xyz = spectrum_to_xyz(daylight_65())
    np.testing.assert_allclose(xyz[:2] / xyz.sum(), [0.3127, 0.3290], atol=2e-4)


def test_target_white_is_in_balance_at_any_luminance():
    for luminance in (0.1, 3.0, 120.0):
        np.testing.assert_allclose(greyscale.balance(TARGET.white * luminance, TARGET), 100.0, atol=1e-9)


def test_more_blue_light_shows_as_blue():
    light = np.array([1.0, 1.0, 1.1])
    balance = greyscale.balance(TARGET.matrix @ light * 50, TARGET)
    # Y rises by a tenth of blue's share, 0.0722: all three are told at the reading's own Y.
    np.testing.assert_allclose(balance, 100 * light / (1 + 0.1 * 0.0722), rtol=1e-4)


def test_a_reading_without_light_has_no_balance():
    assert np.isnan(greyscale.balance(np.zeros(3), TARGET)).all()


def test_effective_gamma_of_a_power_is_the_power():
    signal = np.array([0.0, 0.1, 0.5, 0.9, 1.0])
    gamma = greyscale.effective_gamma(100 * signal**2.3, signal, 100.0)
    assert np.isnan(gamma[[0, 4]]).all()
    np.testing.assert_allclose(gamma[1:4], 2.3)


def test_contrast_is_a_bound_where_black_is_below_the_floor():
    assert greyscale.contrast(120, 0.06, 0.01) == (pytest.approx(2000), False)
    assert greyscale.contrast(120, 0.0, 0.003) == (pytest.approx(40_000), True)


def test_tolerance_is_wider_in_the_dark():
    at = greyscale.tolerance_percent([0.1, 0.5, 1.0], TARGET, 120, 0.04, 1.0)
    assert at[0] > at[1] > at[2] > 0.3
    assert (greyscale.visible_percent([0.1, 0.5], TARGET, 120, 0.04) > 0.5).all()
