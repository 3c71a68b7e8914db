"""Other observers: white for them by value, peaks, and spectra that are none."""

import numpy as np
import pytest

from fenvik.core.colour.observers import SpectrumError, offset_for, on_grid, peak_of, white_for
from fenvik.core.colour.science import WAVELENGTHS_NM, daylight_65, observer, observer_1931, spectrum_to_xyz
from fenvik.core.colour.space import D65_XY, xyz_to_xy
from fenvik.core.measure.darkness import judge_dark
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.standins.spectra import laser_lines, phosphor_lcd


def test_the_observer_of_1931_wants_the_white_of_the_standard():
    np.testing.assert_allclose(observer("CIE 1931 2°"), observer_1931(), atol=2e-4)
    np.testing.assert_allclose(white_for(phosphor_lcd(), "CIE 1931 2°"), D65_XY, atol=1e-4)
    np.testing.assert_allclose(offset_for(phosphor_lcd(), "CIE 1931 2°"), 0.0, atol=1e-5)


def test_another_observer_sees_daylight_where_the_white_stands_as_told():
    lights = laser_lines()
    eye = observer("CIE 2015 10°")
    x, y = white_for(lights, "CIE 2015 10°")
    # Independently: drives that match daylight for that eye, by least squares over a fine search of the third.
    share = np.linalg.lstsq((lights @ eye).T, daylight_65() @ eye, rcond=None)[0]
    seen = share @ lights
    np.testing.assert_allclose(seen @ eye, daylight_65() @ eye, rtol=1e-6)
    np.testing.assert_allclose((x, y), xyz_to_xy(spectrum_to_xyz(seen)), atol=1e-6)
    assert 0.002 < np.hypot(*offset_for(lights, "CIE 2015 10°")) < 0.02  # narrow lights look otherwise than they measure


def test_peaks_and_widths():
    bump = np.exp(-0.5 * ((WAVELENGTHS_NM - 530.0) / 15.0) ** 2)
    peak = peak_of(bump)
    assert (peak.at, peak.width) == (530.0, pytest.approx(35.3, abs=1.0))  # 2.355 σ


def test_a_spectrum_comes_in_any_step_and_what_is_none_is_refused():
    told = on_grid(400.0, 5.0, np.ones(61))
    assert (told[0], told[20], told[320], told[321]) == (0.0, 1.0, 1.0, 0.0)
    for start, step, values in ((380, 5, [1.0] * 4), (380, 0, [1.0] * 60), (500, 5, [1.0] * 60), (380, 5, [float("nan")] * 60)):
        with pytest.raises(SpectrumError):
            on_grid(start, step, values)
    with pytest.raises(SpectrumError):
        white_for(np.ones((3, 401)), "CIE 2015 2°")


@pytest.mark.parametrize(
    ("readings", "words"),
    [
        ([0.003, 0.0031, 0.0029, 0.0030], "as steady as it says"), ([0.001, 0.006, 0.002, 0.0061], "twice as unsteady"),
        ([0.03, 0.031, 0.03, 0.03], "light gets in"), ([None, None, None, 0.003], "calls 3 of 4 readings"),
    ],
)  # fmt: skip
def test_a_meter_in_the_dark(readings, words):
    meter = Repeatability.of([(0.003, 0.08, 0.02, 0.02), (1.0, 0.002, 0.001, 0.001)])
    assert words in judge_dark(readings, 0.003, meter).says
