"""Corrections: against matrices that are known, against the published method, and what is refused."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.core.errors import ShapeError
from fenvik.core.measure.believed import lights_apart
from fenvik.core.measure.correction import CorrectionError, additivity, condition_of, make_correction
from fenvik.core.measure.pairing import Side, correct, match

# Red, green, blue and white of a display, as a reference reads them.
TRUE = np.array([[43.8, 22.9, 2.4], [33.1, 68.4, 10.6], [19.7, 8.1, 103.0], [96.6, 99.4, 116.0]])
ADDITIVE = np.vstack([TRUE[:3], TRUE[:3].sum(axis=0)])
OFF = np.array([[1.03, -0.012, 0.004], [0.008, 0.985, -0.006], [-0.003, 0.01, 1.04]])


@pytest.mark.parametrize(
    ("method", "count"), [("primaries", 3), ("four-colour", 4), ("weighted", 4), ("least-squares", 4)]
)
def test_an_error_that_is_a_matrix_is_undone(method, count):
    reference = ADDITIVE[:count]
    made = make_correction(method, reference @ OFF.T, reference, white=3 if count == 4 else None)
    np.testing.assert_allclose(made.matrix, np.linalg.inv(OFF), atol=1e-9)
    np.testing.assert_allclose(made.dxy, 0, atol=1e-12)
    np.testing.assert_allclose(made.dy_percent, 0, atol=1e-9)


@pytest.mark.parametrize(("share", "said"), [
    (1.05, ""), (1.3, "The meter gives 30 % more light"), (0.8, "20 % less light"), (10.0, "900 % more light"),
    (3.426, "The reference gives as much light as if its values were foot-lamberts"), (1 / 3.3, "The meter gives as much light"),
])  # fmt: skip
def test_two_meters_that_give_far_from_the_same_light_are_asked_about(share, said):
    told = lights_apart(share * TRUE, TRUE)
    assert said in told[0] if said else told == ()


@given(st.lists(st.floats(-0.04, 0.04), min_size=9, max_size=9), st.floats(0.6, 1.6))
def test_four_colour_brings_every_chromaticity_back_whatever_the_luminances(noise, gain):
    """Ohno and Hardis: luminances of the four patches may drift between the two meters; chromaticities come out right."""
    off = np.eye(3) + np.reshape(noise, (3, 3))
    drift = np.array([[1.0], [gain], [0.8], [1.1]])
    made = make_correction("four-colour", (ADDITIVE * drift) @ off.T, ADDITIVE)
    np.testing.assert_allclose(made.dxy, 0, atol=1e-9)
    assert made.dy_percent[3] == pytest.approx(0, abs=1e-9)  # the one factor is white's


def test_weighted_fit_hits_white_where_the_display_is_not_additive():
    mixtures = np.vstack([TRUE, TRUE[:3].sum(axis=0) * 0.4, TRUE[0] + 0.5 * TRUE[1], TRUE[1] + 0.7 * TRUE[2]])
    bent = mixtures @ OFF.T * np.array([1.01, 0.99, 1.02, 1.0, 1.0, 1.005, 0.995])[:, None]
    plain = make_correction("least-squares", bent, mixtures)
    made = make_correction("weighted", bent, mixtures, white=3, repeatability=0.0005)
    assert abs(made.dy_percent[3]) < 0.06
    assert abs(made.dy_percent[3]) <= abs(plain.dy_percent[3]) + 1e-9
    crossed_xy, crossed_y = made.crossed
    assert np.isnan(crossed_y[3])
    assert np.isfinite(np.delete(crossed_y, 3)).all()
    assert np.abs(np.delete(crossed_xy, 3, axis=0)).max() < 0.02


def test_least_squares_is_the_weighted_normal_equation():
    rng = np.random.default_rng(4)
    reference = rng.uniform(1, 100, (9, 3))
    meter = reference @ OFF.T * rng.normal(1, 0.01, (9, 3))
    weight = 1.0 / reference.sum(axis=1) ** 2
    normal = np.linalg.inv((meter * weight[:, None]).T @ meter) @ (meter * weight[:, None]).T @ reference
    np.testing.assert_allclose(make_correction("least-squares", meter, reference).matrix, normal.T, rtol=1e-8)


def test_least_squares_leaves_patches_without_light_out():
    reference = np.vstack([ADDITIVE, np.zeros(3)])
    made = make_correction("least-squares", reference @ OFF.T, reference)
    np.testing.assert_allclose(made.matrix, np.linalg.inv(OFF), atol=1e-9)


@pytest.mark.parametrize(
    ("method", "meter", "words"),
    [
        ("primaries", TRUE[:2], "needs 3 patches"),
        ("four-colour", TRUE[:3], "needs 4 patches"),
        ("primaries", np.array([TRUE[3], TRUE[3] * 0.5, TRUE[3] * 0.25]), "one line of colours"),
        ("primaries", np.array([TRUE[0], TRUE[1], TRUE[0] + TRUE[1]]), "one line of colours"),
        ("four-colour", np.vstack([TRUE[:3], np.zeros(3)]), "must have light"),
        ("least-squares", np.array([TRUE[0], TRUE[1], TRUE[0] + TRUE[1]]), "one line of colours"),
    ],
)
def test_what_cannot_be_corrected_is_refused_in_one_sentence(method, meter, words):
    with pytest.raises(CorrectionError) as caught:
        make_correction(method, meter, meter)
    assert words in str(caught.value)


def test_shapes_are_checked():
    with pytest.raises(ShapeError):
        make_correction("primaries", np.zeros((3, 2)), np.zeros((3, 2)))
    with pytest.raises(ShapeError):
        additivity(np.zeros((3, 3)))


def test_stray_light_and_unsteady_repeats_are_warned_of():
    made = make_correction("primaries", TRUE[:3], TRUE[:3], black=(0.5, 100.0), repeats_apart=0.01, repeatability=0.001)
    assert len(made.warnings) == 2
    assert "0.5 % of white" in made.warnings[0]
    assert make_correction("primaries", TRUE[:3], TRUE[:3], black=(0.1, 100.0), repeats_apart=0.002).warnings == ()


def test_a_white_that_is_more_than_the_sum_is_told():
    assert not additivity(ADDITIVE)[1]
    off, is_more = additivity(np.vstack([ADDITIVE[:3], 1.4 * ADDITIVE[3]]))
    assert is_more
    assert off == pytest.approx(1 - 1 / 1.4)
    black = np.array([0.1, 0.1, 0.1])  # in each of the four readings
    assert additivity(ADDITIVE + black, black)[0] == pytest.approx(0, abs=1e-9)


def test_condition_tells_primaries_from_a_line():
    assert condition_of(TRUE[:3]) < 10
    assert condition_of(np.array([TRUE[0], TRUE[1], TRUE[0] + TRUE[1]])) > 1e10


def side(order, xyz, bits=8):
    table = {
        "red": (255, 0, 0), "green": (0, 255, 0), "blue": (0, 0, 255), "white": (255, 255, 255),
        "grey": (128, 128, 128),
    }
    codes = np.array([table[name] for name in order])
    return Side([(*map(int, c), bits, False) for c in codes], np.asarray(xyz, dtype=float), [*order], codes / 255.0)


def test_two_files_are_matched_by_what_was_shown_and_repeats_are_averaged():
    reference = side(["white", "red", "green", "blue"], ADDITIVE[[3, 0, 1, 2]])
    order = ["blue", "red", "red", "white", "green"]
    meter = side(order, np.array([ADDITIVE[2], ADDITIVE[0] * 0.9, ADDITIVE[0] * 1.1, ADDITIVE[3], ADDITIVE[1]]) @ OFF.T)
    matched = match(reference, meter)
    assert matched.labels == ["white", "red", "green", "blue"]
    np.testing.assert_allclose(correct(matched, "four-colour").matrix, np.linalg.inv(OFF), atol=1e-9)


def test_a_patch_that_only_one_file_has_is_refused():
    with pytest.raises(CorrectionError, match="128, 128, 128 of 8 bits, full range, is in the meter file alone"):
        match(side(["red"], TRUE[:1]), side(["red", "grey"], TRUE[:2]))
    with pytest.raises(CorrectionError, match="alone"):
        match(side(["red"], TRUE[:1]), side(["red"], TRUE[:1], bits=10))
    with pytest.raises(CorrectionError, match="no 100 % white"):
        correct(
            match(side(["red", "green", "blue"], TRUE[:3]), side(["red", "green", "blue"], TRUE[:3])), "four-colour"
        )


def test_noise_alone_does_not_make_a_display_non_additive():
    four = np.array([[41.0, 21.0, 2.0], [36.0, 72.0, 12.0], [18.0, 7.0, 95.0], [93.1, 98.0, 106.8]])
    assert additivity(four)[1], "2.04 % off, taken as exact"
    loose = np.tile(np.diag([0.3, 0.3, 0.3]), (4, 1, 1)) ** 2
    assert not additivity(four, covariance=loose)[1]
    assert additivity(four, covariance=loose)[0] == pytest.approx(0.0206, abs=0.001)
    assert additivity(four * [[1], [1], [1], [0.9]], covariance=loose)[1]
