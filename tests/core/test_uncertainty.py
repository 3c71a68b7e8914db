import numpy as np
import pytest

from fenvik.core.analysis.analysis import Readings, analyse
from fenvik.core.colour import difference
from fenvik.core.colour.target import TARGETS
from fenvik.core.errors import NoWhiteError, ShapeError
from fenvik.core.measure.uncertainty import Repeatability, interval_95, length_std, propagate, spread
from fenvik.core.signal.decoding import decode
from fenvik.core.signal.patches import first_list

TABLE = Repeatability.of([[100, 0.001, 0.0003, 0.0003], [0.01, 0.05, 0.005, 0.005], [1, 0.004, 0.001, 0.001]])
TARGET = TARGETS["bt709-bt1886"]
WHITE = TARGET.white * 120


def simulated(xyz, n, seed=1):
    draw = np.random.default_rng(seed)
    return draw.multivariate_normal(xyz, TABLE.covariance(xyz), n)


def test_repeatability_is_read_off_its_table_on_a_log_scale():
    np.testing.assert_allclose(TABLE.at(1.0), [0.004, 0.001, 0.001])
    np.testing.assert_allclose(TABLE.at(10.0), [0.0025, 0.00065, 0.00065])  # half way between 1 and 100
    np.testing.assert_allclose(TABLE.at(1e-5), [0.05, 0.005, 0.005])


def test_covariance_gives_back_the_table():
    xyz = TARGET.white * 30
    noisy = simulated(xyz, 40_000)
    total = noisy.sum(axis=1)
    wanted = TABLE.at(30.0)
    assert noisy[:, 1].std() / 30 == pytest.approx(wanted[0], rel=0.03)
    assert (noisy[:, 0] / total).std() == pytest.approx(wanted[1], rel=0.03)
    assert (noisy[:, 1] / total).std() == pytest.approx(wanted[2], rel=0.03)


def test_averaging_makes_it_smaller_by_the_root():
    xyz = TARGET.white * 30
    np.testing.assert_allclose(TABLE.covariance(xyz, 4), TABLE.covariance(xyz) / 4)


def test_propagation_agrees_with_monte_carlo_for_errors():
    reading = TARGET.matrix @ np.array([1.02, 1.0, 1.12]) * 30
    wanted = TARGET.white * 30

    def error(values):
        return difference.colour_only(wanted, values, WHITE).total

    noisy = error(simulated(reading, 20_000))
    std = propagate(error, reading[None], TABLE.covariance(reading)[None])
    assert std[0] == pytest.approx(noisy.std(), rel=0.05)


def test_an_error_of_zero_is_not_told_as_certain():
    exact = TARGET.white * 2

    def error(values):
        return difference.colour_only(exact, values, WHITE).total

    std = length_std(error, exact[None], TABLE.covariance(exact)[None])[0]
    noisy = error(simulated(exact, 20_000))
    assert 0.5 * noisy.mean() < std < 3 * noisy.mean()


@pytest.mark.parametrize("blue", [1.05, 1.12])
def test_a_95_percent_interval_holds_the_truth_in_93_to_97_of_100(blue):
    truth = TARGET.matrix @ np.array([1.0, 1.0, blue]) * 12
    wanted = TARGET.white * 12

    def error(values):
        return difference.colour_only(wanted, values, WHITE).total

    noisy = simulated(truth, 1000, seed=7)
    std = length_std(error, noisy, TABLE.covariance(noisy))
    low, high = interval_95(error(noisy), std)
    inside = ((low <= error(truth)) & (error(truth) <= high)).mean()
    assert 0.93 <= inside <= 0.97


def test_near_zero_the_interval_starts_at_zero():
    low, high = interval_95(np.array([0.1, 2.0]), np.array([0.2, 0.2]))
    assert low[0] == 0
    assert high[0] == pytest.approx(0.1 + 1.645 * 0.2, abs=1e-3)
    assert low[1] == pytest.approx(2 - 1.96 * 0.2, abs=1e-3)


def test_a_spread_wider_than_the_meters_own_counts():
    single = np.eye(3) * 0.01
    calm = np.tile([10.0, 10.0, 10.0], (5, 1))
    np.testing.assert_allclose(spread(calm, single), single / 5)
    wild = calm + np.array([[-1], [1], [-1], [1], [0]])
    assert np.trace(spread(wild, single)) > np.trace(single / 5)
    np.testing.assert_allclose(spread(wild[:2], single), single / 2)


def ideal(scale=(1.0, 1.0, 1.0)):
    patches = first_list(8, "limited")
    codes = np.array([patch.rgb for patch in patches])
    linear = TARGET.light(decode(codes, 8, "limited"), 120, 0.05) * scale
    xyz = linear @ TARGET.matrix.T
    return Readings(codes, xyz, 8, "limited", tuple(p.label for p in patches), np.ones(len(codes)), TABLE, 0.003)


def test_an_ideal_display_has_no_errors():
    found = analyse(ideal(), TARGET)
    np.testing.assert_allclose(found.whole.value, 0, atol=1e-6)
    np.testing.assert_allclose(found.balance[found.lit_grey], 100, atol=1e-6)
    assert found.contrast == (pytest.approx(2400), False)
    assert found.mean_gamma == pytest.approx(np.nanmean(found.target_gamma[found.grey]), abs=1e-9)


def test_too_much_blue_shows_at_every_level_but_black():
    found = analyse(ideal((1, 1, 1.1)), TARGET)
    lit = found.lit_grey
    assert (found.balance[lit, 2] > 105).all()
    assert (found.colour_only.value[lit][:8] > 2).all()
    assert (found.whole.std[:11] > 0).all()


def test_contrast_and_temperature_say_how_sure_they_are():
    readings = ideal()
    found = analyse(readings, TARGET)
    draw = np.random.default_rng(4)
    contrasts, kelvins = [], []
    for _ in range(300):
        xyz = readings.xyz.copy()
        for row in (0, 10):
            xyz[row] = draw.multivariate_normal(xyz[row], readings.covariance[row])
        noisy = analyse(
            Readings(readings.codes, xyz, 8, "limited", readings.labels, readings.average, TABLE, 0.003), TARGET
        )
        contrasts.append(noisy.contrast[0])
        kelvins.append(noisy.white_cct_and_duv[0])
    assert found.contrast_std == pytest.approx(np.std(contrasts), rel=0.15)
    assert found.white_cct_and_duv[2] == pytest.approx(np.std(kelvins), rel=0.15)
    assert found.white_cct_and_duv[0] == pytest.approx(6504, abs=3)
    assert 0 < found.white_cct_and_duv[3] < 0.001


def test_relative_targets_need_a_white():
    whole = ideal()
    dark = Readings(whole.codes[1:], whole.xyz[1:], 8, "limited", whole.labels[1:], whole.average[1:], TABLE)
    with pytest.raises(NoWhiteError):
        analyse(dark, TARGET)
    borrowed = analyse(dark, TARGET, white=whole.xyz[0])
    np.testing.assert_allclose(borrowed.whole.value, 0, atol=1e-6)


def test_readings_of_another_shape_are_refused():
    with pytest.raises(ShapeError):
        Readings(np.zeros((2, 3), dtype=int), np.zeros((3, 3)), 8, "limited", (), np.ones(2))
