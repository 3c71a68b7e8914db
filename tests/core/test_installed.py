"""How a display ends, and the curves, cubes and matrices that are made for it."""

import numpy as np
import pytest
from scipy import ndimage

from fenvik.core.colour import curves as transfer
from fenvik.core.models.installed import CORNERS, Curves, Split, Wheel, balanced_peak, curves_for, matrix_towards
from fenvik.core.models.rolloff import roll_off_of

LEVELS = np.array([0.07, 0.2, 0.28, 0.36, 0.43, 0.5, 0.57, 0.64, 0.68, 0.71, 0.75, 0.8, 1.0])


def rolled(signal, knee, peak):
    nits = transfer.pq(signal)
    over = np.maximum(nits - knee, 0.0)
    return np.where(nits <= knee, nits, knee + (peak - knee) * over / (over + (peak - knee)))


@pytest.mark.parametrize(("knee", "peak"), [(450.0, 750.0), (200.0, 750.0), (600.0, 800.0)])
def test_where_a_display_rolls_off_is_found_and_undone(knee, peak):
    roll = roll_off_of(LEVELS, rolled(LEVELS, knee, peak) + 0.02, 0.02)
    assert 0.7 * knee < roll.follows_to < 1.15 * knee
    light = transfer.pq_inverse(rolled(LEVELS[:-2], knee, peak))
    reachable = light < transfer.pq_inverse(0.9 * peak)
    np.testing.assert_allclose(roll.course_of(light)[reachable], LEVELS[:-2][reachable], atol=0.012)
    np.testing.assert_allclose(roll.shown(roll.course_of(light)), light, atol=0.004)


def test_a_display_that_follows_to_its_end_has_nothing_to_undo():
    roll = roll_off_of(LEVELS, np.minimum(transfer.pq(LEVELS), 740.0), 0.0)
    below = LEVELS[LEVELS < 0.7]
    np.testing.assert_allclose(roll.course_of(below), below, atol=0.01)


def test_curves_undo_what_a_display_does_to_its_lights():
    s = np.linspace(0.05, 0.7, 17)
    bends = [lambda v: 0.97 * v + 0.004, lambda v: v**1.04, lambda v: 1.02 * v - 0.01 * np.sin(6 * v)]
    drives = np.stack([bend(s) for bend in bends], axis=-1)
    made = curves_for(Curves.none(1024), s, drives, lambda v: v, np.full(3, np.inf), open_top=[False] * 3)
    check = np.linspace(0.06, 0.66, 30)
    after = made.bent(np.repeat(check[:, None], 3, axis=1))
    for c, bend in enumerate(bends):
        np.testing.assert_allclose(bend(after[:, c]), check, atol=1e-3)
    assert (np.diff(made.values, axis=1) >= 0).all()
    assert (made.values[:, 0] == 0).all()
    data = made.data()
    assert (data["size"], len(data["r"]), min(data["g"]), max(data["b"]) <= 1) == (1024, 1024, 0.0, True)


@pytest.mark.parametrize(("cost", "light"), [(0.0, 1.0), (0.02, None), (0.5, 0.8)])
def test_a_peak_is_balanced_for_no_more_than_it_may_cost(cost, light):
    lights, weights = np.array([1.0, 0.95, 0.8]), np.array([0.26, 0.68, 0.06])
    cut = balanced_peak(lights, weights, cost)
    left = float(weights @ np.minimum(lights, cut)) / float(weights @ lights)
    assert left >= 1.0 - cost - 1e-6
    if light is not None:
        assert cut == pytest.approx(light, abs=1e-6)


def test_a_wheel_learns_what_a_white_sub_pixel_takes_from_colours_and_leaves_greys():
    rng = np.random.default_rng(2)
    boost = 0.45
    lights = np.concatenate([CORNERS, 0.25 + 0.75 * CORNERS, rng.random((20, 3))])
    needed = lights + boost * (lights - lights.min(axis=1, keepdims=True))
    wheel = Wheel.none()
    for _ in range(12):
        wheel = wheel.towards(lights, needed)
    np.testing.assert_allclose(wheel.corners, (1 + boost) * CORNERS, atol=0.03)
    greys = np.repeat(rng.random((5, 1)), 3, axis=1)
    np.testing.assert_allclose(wheel.turned(greys), greys)
    np.testing.assert_allclose(wheel.turned(CORNERS), (1 + boost) * CORNERS, atol=0.03)


def test_a_matrix_keeps_greys_and_turns_what_it_can():
    true = np.array([[1.1, -0.08, -0.02], [-0.03, 1.05, -0.02], [0.01, -0.06, 1.05]])
    lights = np.concatenate([CORNERS, 0.3 + 0.7 * CORNERS])
    made = matrix_towards(lights, lights @ true.T)
    np.testing.assert_allclose(made.sum(axis=1), 1.0)
    np.testing.assert_allclose(made, true, atol=0.01)


def test_a_cube_behind_a_shared_curve_leaves_greys_to_the_curves():
    s = np.linspace(0, 1, 1024)
    own = Curves(np.stack([np.clip(0.98 * s, 0, 1), s, np.clip(1.01 * s, 0, 1)]))
    split = Split.of(own, 0.7)
    values = split.cube(33, Wheel(1.4 * CORNERS), transfer.pq, transfer.pq_inverse).reshape(33, 33, 33, 3)
    shared = split.curves()
    for i in range(2, 22):
        grey = float(np.interp(i / 32, shared.values[0], s))
        np.testing.assert_allclose(values[i, i, i], own.bent(np.full((1, 3), grey))[0], atol=1e-3)
    red = values[0, 0, 16]  # blue and green none
    assert transfer.pq(red[0] / 0.98) > 1.3 * transfer.pq(0.5)
    assert red[1] < 0.02


def test_greys_between_the_points_of_a_cube_are_as_those_at_them():
    s = np.linspace(0, 1, 1024)
    split = Split.of(Curves(np.stack([0.99 * s, s, np.clip(1.01 * s, 0, 1)])), 0.7)
    grey = np.linspace(0.07, 0.66, 300)
    lit = []
    for wheel in (Wheel.none(), Wheel(1.4 * CORNERS)):
        cube = split.cube(33, wheel, transfer.pq, transfer.pq_inverse).reshape(33, 33, 33, 3)
        # Curves in front that were made better since: greys come a little beside the diagonal.
        at = np.stack([grey + 0.001, grey, grey - 0.001]) * 32.0
        lit.append([transfer.pq(ndimage.map_coordinates(cube[..., c], at, order=1)) for c in range(3)])
    np.testing.assert_allclose(lit[1], lit[0], rtol=0.004)


def test_white_that_curves_end_at_lies_between_the_points_of_a_cube_and_is_not_drawn_too_low():
    s = np.linspace(0, 1, 1024)
    own = Curves(np.stack([0.955 * s, s**1.05, np.where(s < 0.97, 0.93 * s, 0.9021 + 1.9 * (s - 0.97))]))
    split = Split.of(own, 1.0)
    cube = split.cube(33, Wheel.none(), lambda v: v**2.4, lambda v: v ** (1 / 2.4)).reshape(33, 33, 33, 3)
    white = split.curves().bent(np.ones((1, 3)))[0]
    drawn = [float(ndimage.map_coordinates(cube[..., c], white[::-1, None] * 32.0, order=1)[0]) for c in range(3)]
    np.testing.assert_allclose(drawn, own.values[:, -1], atol=0.003)


@pytest.mark.parametrize("ends", [1.0, 0.71])
def test_curves_that_a_cube_alone_holds_are_met_between_its_points(ends):
    s = np.linspace(0, 1, 1024)
    own = Curves(np.minimum(np.stack([0.96 * s**0.97, s + 0.03 * np.sin(9 * s), 1.01 * s**1.1]), 0.9 * ends))
    at = own.on_points(17, ends)
    needed = (s > 0.05) & (s <= 0.7 * ends)  # the corner above is cut, whichever way
    np.testing.assert_allclose(at.values[:, needed], own.values[:, needed], atol=0.003)
    assert ((at.values[:, 0] == own.values[:, 0]).all(), (np.diff(at.values, axis=1) >= 0).all()) == (True, True)
    cube = Split.none_before(at).cube(17, Wheel(1.4 * CORNERS), transfer.pq, transfer.pq_inverse).reshape(17, 17, 17, 3)
    grey = np.linspace(0.0, 1.0, 301)
    drawn = np.stack([ndimage.map_coordinates(cube[..., c], np.tile(grey * 16.0, (3, 1)), order=1) for c in range(3)], axis=-1)
    np.testing.assert_allclose(drawn, at.bent(np.repeat(grey[:, None], 3, axis=1)), atol=1e-3)


def test_a_split_says_what_its_shared_curve_was_given():
    s = np.linspace(0, 1, 1024)
    split = Split.of(Curves(np.stack([s**1.1, s, s**0.95])), 0.7)
    given = np.array([[0.2, 0.4, 0.6]])
    np.testing.assert_allclose(split.before(np.interp(given, s, split.shared)), given, atol=1e-6)
