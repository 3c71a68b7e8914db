import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import least_squares

from fenvik.core.controls import Control, Grain
from fenvik.core.models.nudge import Level, clipping_channels, propose
from fenvik.core.models.state import GreyReading, as_felt, levels_now, nothing_came, steps_between
from fenvik.core.models.twopoint import Response, drive, light
from tests.core.simulated import AROUND, METER, Display, follow, pass_of

SEEDS = range(5)


def best_possible(display):
    def cost(values):
        return display.errors(values)[1:]

    found = least_squares(cost, display.values, bounds=(-50, 50), ftol=1e-4).x  # to less than a step
    return display.errors(np.round(found))[1:].mean()


@pytest.mark.parametrize("seed", SEEDS)
def test_following_the_nudges_reaches_what_the_controls_can_in_few_moves(seed):
    display = Display(seed)
    before = display.errors()[1:].mean()
    moves, _ = follow(display, pass_of(display))
    after = display.errors()[1:].mean()
    assert after <= before
    assert after <= best_possible(display) + 0.25
    assert max(moves.values()) <= 4


@pytest.mark.parametrize("grain", [Grain(2, None), Grain(3, 1), Grain(4, 2)])
def test_a_menu_finer_than_its_display_is_turned_in_the_display_s_steps_and_nothing_is_called_dead(grain):
    left = []
    for seed in range(8):
        display = Display(seed, grain=grain)
        readings = pass_of(display)
        follow(display, readings)
        controls, response = as_felt(readings, display.controls(), AROUND, METER, Response.prior)
        assert not [c.label for c in controls if response.does_nothing(c)]
        left.append((display.errors().mean(), controls[0].every))
    assert np.median([mean for mean, _ in left]) < 0.75
    assert [every for _, every in left].count(grain.every) >= 5, left


def test_a_dead_control_is_found_and_left_alone():
    display = Display(3, dead=(2,))
    _, nudge = follow(display, pass_of(display), ends=("gain",))
    assert nudge.idle == ("gain 2",)
    assert not any(move.control.id == "gain2" for move in nudge.moves)


def test_a_control_that_works_backwards_is_believed():
    display = Display(4, backwards=(2,))
    display.scale[2] = 1.08
    follow(display, pass_of(display), ends=("gain",))
    assert display.values[2] > 0  # up, because up means less here
    assert abs(display.drive(0.8)[2] - display.drive(0.8).mean()) < 0.01


def test_nothing_is_proposed_when_it_is_right_already():
    display = Display(5)
    display.scale[:], display.shift[:], display.bend[:] = 1, 0, 0
    readings = [*pass_of(display), display.read(0.8)]
    response = Response.prior(display.controls())
    nudge = propose(
        levels=levels_now(readings, display.controls(), AROUND, METER, response),
        controls=display.controls(), response=response, surroundings=AROUND,
    )  # fmt: skip
    assert nudge.moves == ()
    assert nudge.overall_after == nudge.overall_now


def test_the_expected_error_is_what_then_happens_once_the_controls_are_known():
    misses = []
    for seed in range(8):
        display = Display(seed)
        readings = pass_of(display)
        follow(display, readings, ends=("gain",), most=2)
        display.values[0] += 6
        readings.append(display.read(0.8))
        controls = display.controls()
        response = as_felt(readings, controls, AROUND, METER, Response.prior)[1]
        nudge = propose(
            levels=levels_now(readings, controls, AROUND, METER, response),
            controls=controls, response=response, surroundings=AROUND, allowed=["gain0", "gain1", "gain2"],
        )  # fmt: skip
        for move in nudge.moves:
            display.values[move.control.channel] = move.value
        at = nudge.at(0.8)
        truth = AROUND.errors(np.array([0.8]), display.drive(0.8)[None])[0]
        misses.append(abs(truth - nudge.after[at]) / nudge.after_std[at])
    assert np.median(misses) < 2


def test_at_most_three_controls_are_asked_of_a_person():
    display = Display(6)
    readings = [*pass_of(display), display.read(0.8)]
    response = Response.prior(display.controls())
    levels = levels_now(readings, display.controls(), AROUND, METER, response)
    nudge = propose(levels=levels, controls=display.controls(), response=response, surroundings=AROUND)
    assert 1 <= len(nudge.moves) <= 3


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000), st.integers(-50, 50), st.integers(-50, 50))
def test_moves_are_whole_steps_within_the_range(seed, first, second):
    display = Display(seed)
    display.values[0], display.values[4] = float(first), float(second)
    readings = [*pass_of(display), display.read(0.8)]
    response = Response.prior(display.controls())
    levels = levels_now(readings, display.controls(), AROUND, METER, response)
    nudge = propose(levels=levels, controls=display.controls(), response=response, surroundings=AROUND)
    for move in nudge.moves:
        assert move.steps == int(move.steps)
        assert move.steps != 0
        assert -50 <= move.value <= 50
    assert nudge.overall_after <= nudge.overall_now + 1e-9


def test_a_gain_is_not_raised_into_a_channel_that_clips():
    display = Display(7)
    display.scale[:] = [0.94, 1.0, 1.0]
    readings = [*pass_of(display), display.read(0.8)]
    response = Response.prior(display.controls())
    levels = levels_now(readings, display.controls(), AROUND, METER, response)
    ask = {"levels": levels, "controls": display.controls(), "response": response, "surroundings": AROUND}
    free = propose(**ask, allowed=["gain0"])
    held = propose(**ask, allowed=["gain0"], clipping=(0,))
    assert any(move.steps > 0 for move in free.moves)
    assert all(move.steps < 0 for move in held.moves)
    assert held.clipping == (0,)


def test_clipping_is_told_from_the_top_of_the_greyscale():
    levels = np.array([0.7, 0.8, 0.9, 1.0])
    drives = np.column_stack([levels, levels, np.minimum(levels * 1.05, 0.96)])
    assert clipping_channels(levels, drives) == (2,)
    assert clipping_channels(levels[:3], drives[:3]) == ()  # nothing reaches 100 %: nothing can be told


def test_learning_finds_the_effect_of_a_step():
    display = Display(8)
    controls = display.controls()
    readings = [display.read(0.8)]
    display.values[1] = 10.0
    readings.append(display.read(0.8))
    response = as_felt(readings, controls, AROUND, METER, Response.prior)[1]
    effect, std = response.own_effect(controls[1])
    before, _ = Response.prior(controls).own_effect(controls[1])
    truth = display.gain[1]
    assert abs(effect - truth) < 0.35 * abs(before - truth)
    assert std < 0.3 * before
    assert response.observed == (0, 1, 0, 0, 0, 0)


def test_what_else_was_turned_in_between_is_not_taken_for_the_controls_effect():
    display = Display(9)
    controls = display.controls()
    first = display.read(0.8)
    moved = GreyReading(0.8, first.xyz * 0.5, 1, (10.0, 0, 0, 0, 0, 0), era=1)
    response = as_felt([first, moved], controls, AROUND, METER, Response.prior)[1]
    assert response.observed == (0,) * 6


def test_what_was_learned_is_carried_as_a_wider_belief():
    controls = Display(1).controls()
    prior = Response.prior(controls)
    carried = prior.carried()
    assert np.trace(carried.covariance) > np.trace(prior.covariance)
    np.testing.assert_array_equal(carried.mean, prior.mean)


def test_drive_and_light_are_inverse():
    drives = np.linspace(0.02, 1.0, 30).reshape(10, 3)
    back = drive(light(drives, AROUND.target, 120, 0.05), AROUND.target, 120, 0.05)
    np.testing.assert_allclose(back, drives, atol=1e-9)


def test_steps_are_counted_in_the_controls_own_steps():
    control = Control("c", "C", "gain", 0, 3.0, -10, 10, 0.5)
    assert control.room == (-26, 14)
    np.testing.assert_allclose(steps_between([3.0], [1.5], [control]), [-3])


def test_a_nudge_without_a_reading_is_a_mistake():
    controls = Display(1).controls()
    with pytest.raises(ValueError, match="at least one level"):
        propose(levels=[], controls=controls, response=Response.prior(controls), surroundings=AROUND)


def test_one_level_is_enough_for_a_first_nudge():
    display = Display(2)
    level = Level(0.8, display.drive(0.8), np.eye(3) * 1e-8)
    nudge = propose(
        levels=[level], controls=display.controls(), response=Response.prior(display.controls()), surroundings=AROUND
    )
    assert nudge.after[0] < nudge.now[0]


@pytest.mark.parametrize(("half", "step", "left"), [(5, 0.004, 1.3), (5, 0.01, 0.9), (512, 0.004, 0.55)])
def test_a_range_that_says_little_of_a_step_costs_no_moves(half, step, left):
    """Menus of ±5 and of ±512: what a step does is learned at its own scale, and no control is called dead for it."""
    made = []
    for seed in range(12):
        display, draw = Display(seed, half=half), np.random.default_rng(seed + 9)
        display.gain, display.offset = step * draw.uniform(0.8, 1.25, 3), 0.45 * step * draw.uniform(0.8, 1.25, 3)
        readings = pass_of(display)
        moves, nudge = follow(display, readings)
        made.append((display.errors().mean(), max(moves.values()), len(nudge.idle)))
        assert not nothing_came(readings, display.controls(), AROUND, METER, "gain")
    error, most, idle = np.median(made, axis=0)
    assert (error < left, most <= 4, idle) == (True, True, 0)


@pytest.mark.parametrize(("dead", "grain", "is_locked"), [((0, 1, 2), None, 12), ((1,), None, 0), ((), None, 0), ((), 4, 0)])
def test_gains_of_which_nothing_comes_are_told_from_a_dead_one_and_from_small_moves(dead, grain, is_locked):
    told = []
    for seed in range(12):
        display = Display(seed, dead=dead, grain=None if grain is None else Grain(grain, None))
        readings = pass_of(display)
        follow(display, readings, ends=("gain",), most=3)
        told.append(nothing_came(readings, display.controls(), AROUND, METER, "gain"))
    assert abs(sum(told) - is_locked) <= (3 if is_locked else 0)  # where little was to be turned, nobody can tell
