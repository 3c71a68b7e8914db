"""Colours by hand on displays whose controls are known: whatever they do, it is learned and the set gets better."""

import numpy as np
import pytest

from bench.displays import RandomDisplay
from fenvik.core.colour.target import TARGETS
from fenvik.core.controls import Control, of_colour
from fenvik.core.models import hueprior, hues
from fenvik.core.models.foreseen import Foresight, lights_of
from fenvik.core.models.hues import HUES
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform

TARGET = TARGETS["bt709-bt1886"]


def turns_of(display, hue):
    return of_colour(display.controls, {c["id"]: c["value"] for c in display.controls}, hue)


def look(display, hue, white, black):
    read = [display.read(percent) for _, percent in hues.patches_for(hue)]
    fraction, xyz = np.array([f for f, _ in read]), np.array([x for _, x in read])
    parts = hues.parts_of(fraction, xyz, TARGET, white, black)
    return fraction, hues.Look(parts, np.array([t.value / t.step for t in turns_of(display, hue)]))


def by_hand(display, most=6):
    """Follow the nudges colour by colour, as a person would; return how many moves each took."""
    white = display.read((100.0,) * 3)[1][1]
    black = display.read((0.0,) * 3)[1][1]
    moves = {}
    for hue in HUES:
        looks, moves[hue] = [], 0
        while moves[hue] < most:
            fraction, now = look(display, hue, white, black)
            looks.append(now)
            turns = turns_of(display, hue)
            belief = hues.learn(hueprior.usual(turns, fraction, TARGET, white, black), looks)
            nudge = hues.propose(turns, belief, now.parts)
            if nudge is None:
                break
            moves[hue] += 1
            for turn, steps in zip(turns, nudge.steps, strict=True):
                if steps:
                    display.set(turn.id, turn.value + steps * turn.step)
    return moves


def displays(kind, count, start=0):
    found = []
    seed = start
    while len(found) < count:
        made = RandomDisplay(seed)
        if made.cms == kind and made.kind != "wrgb-oled" and not made.dead:
            # Spoilt on purpose: many of them are good by themselves once their greys are.
            made.mix = made.mix + np.random.default_rng(seed).normal(0.0, 0.03, (3, 3))
            found.append(made)
        seed += 1
    return found


@pytest.mark.parametrize("kind", ["attribute", "mix"])
def test_the_whole_set_gets_better_in_few_moves(kind):
    before, after, moves = [], [], []
    for display in displays(kind, 4, start=300):
        # As a person would: the greys first, for a cast is in every pale colour.
        perform(Job(Desk(display.controls, budget=150), TARGET, steps=("white", "grey")).run(), display)
        before.append(display.truth(TARGET)[2])
        moves += by_hand(display).values()
        after.append(display.truth(TARGET)[2])
    assert np.mean(after) < 0.75 * np.mean(before)
    assert max(np.array(after) - np.array(before)) < 0.15, "no display ends clearly worse"
    assert np.mean(moves) < 4


def test_a_look_without_its_skin_tone_teaches_and_what_was_read_of_it_before_is_carried_along():
    turns = [Control("s", "saturation", "saturation", -1, 0.0, -30.0, 30.0, 1.0)]
    fraction = np.array([np.array(percent) / 100.0 for _, percent in hues.patches_for("red")])
    mean, own, common = hueprior.usual(turns, fraction, TARGET, 100.0, 0.02)
    effect = 1.4 * mean[:, 0]
    first = np.full(9, 0.8)
    unread = np.where(np.arange(9) < 6, first + 15 * effect, np.nan)
    looks = [hues.Look(first, np.array([0.0])), hues.Look(unread, np.array([15.0]))]
    belief = hues.learn(hues.Prior(mean, own, common), looks)
    most = int(np.argmax(np.abs(effect[:6])))
    assert abs(belief.slope[most, 0] - effect[most]) < 0.3 * abs(mean[most, 0] - effect[most])
    ahead = (belief.slope[6:, 0] - mean[6:, 0]) / mean[6:, 0]
    assert np.all((ahead > 0.2) & (ahead < 0.4)), "a control that does more to two patches does more to the third"
    parts = hues.standing(belief, looks, np.array([15.0]))
    assert np.allclose(parts[:6], unread[:6])
    assert np.allclose(parts[6:], first[6:] + 15 * belief.slope[6:, 0])
    apart = [looks[0], hues.Look(unread, np.array([15.0]), era=1)]
    assert np.isnan(hues.standing(belief, apart, np.array([15.0]))[6:]).all(), "something else was turned in between"


def test_a_colour_whose_controls_do_nothing_is_left_alone():
    display = next(d for d in (RandomDisplay(s) for s in range(400, 600)) if d.dead and d.cms == "attribute")
    white, black = display.read((100.0,) * 3)[1][1], 0.0
    looks = []
    for shift in (0, 6, 0):
        control = next(c for c in display.controls if c["role"] == f"colour.{display.dead}.saturation")
        display.set(control["id"], control["default"] + shift * control["step"])
        fraction, now = look(display, display.dead, white, black)
        looks.append(now)
    turns = turns_of(display, display.dead)
    belief = hues.learn(hueprior.usual(turns, fraction, TARGET, white, black), looks)
    at = [t.kind for t in turns].index("saturation")
    assert belief.dead[at]
    nudge = hues.propose(turns, belief, now.parts)
    assert nudge is None or nudge.steps[at] == 0


def test_a_hue_that_also_darkens_is_not_blamed_on_luminance():
    """A turned blue takes green with it, which is most of the light."""
    names = ("hue", "saturation", "luminance")
    turns = [Control(what, what, what, -1, 0.0, -30.0, 30.0, 1.0) for what in names]
    fraction = np.array([[0.0, 0.0, 0.75], [0.375, 0.375, 0.75]])
    mean, own, common = hueprior.usual(turns, fraction, TARGET, 100.0, 0.0)
    true = mean.copy()
    true[:, 0] = [-0.15, 0.0, 0.2, -0.15, 0.0, 0.2]
    start = np.full(6, 0.5)
    steps = np.array([[10.0, -2.0, 8.0], [10.0, 3.0, 0.0], [0.0, 3.0, 8.0]])
    looks = [hues.Look(start, np.zeros(3)), *(hues.Look(start + true @ s, s) for s in steps)]
    belief = hues.learn(hues.Prior(mean, own, common), looks)
    np.testing.assert_allclose(belief.slope[0], true[0], atol=0.05)
    np.testing.assert_allclose(belief.slope[3], true[3], atol=0.05)


def test_a_sign_that_is_the_other_way_round_is_believed():
    turns = [Control("s", "Saturation", "saturation", -1, 0.0, -20.0, 20.0, 1.0)]
    fraction = np.array([[0.75, 0.0, 0.0], [0.75, 0.375, 0.375]])
    mean, own, common = hueprior.usual(turns, fraction, TARGET, 100.0, 0.0)
    assert mean[1, 0] > 0, "more saturation is expected to bring more chroma"
    start = np.array([0.0, 2.0, 0.0, 0.0, 1.0, 0.0])
    backwards = hues.Look(start + np.array([0.0, 1.2, 0.0, 0.0, 0.6, 0.0]), np.array([-6.0]))
    belief = hues.learn(hues.Prior(mean, own, common), [hues.Look(start, np.array([0.0])), backwards])
    assert belief.slope[1, 0] < 0
    nudge = hues.propose(turns, belief, start)
    assert nudge.steps[0] > 0


def hue_turned(name, slope):
    """A colour whose hue was turned by ten steps, with what came of it: its pale patch moved by the slope (of ΔH a step)."""
    turns = [Control("h", "hue", "hue", -1, 0.0, -50.0, 50.0, 1.0)]
    fraction = np.array([np.array(percent) / 100.0 for _, percent in hues.patches_for(name)])
    change = np.zeros(3 * len(fraction))
    change[[2, 5]] = 10 * slope
    return turns, fraction, [hues.Look(np.zeros(len(change)), np.zeros(1)), hues.Look(change, np.array([10.0]))]


def test_which_way_a_hue_turns_is_known_from_another_colour_but_not_from_one_whose_control_does_nothing():
    turns, fraction, _ = hue_turned("magenta", 0.0)
    alone = hueprior.usual(turns, fraction, TARGET, 100.0, 0.0)
    assert not alone.mean.any(), "nobody knows"
    for slope in (0.3, -0.3):
        taught = hueprior.taught([hue_turned("green", slope), hue_turned("cyan", 0.0)], TARGET, 100.0, 0.0)
        prior = hueprior.usual(turns, fraction, TARGET, 100.0, 0.0, taught)
        assert 0.7 < prior.mean[5, 0] / slope < 1.4
        assert prior.common[5, 0] < 0.6 * abs(prior.mean[5, 0]), "surely enough to turn it the right way"
    assert not hueprior.taught([hue_turned("cyan", 0.0)], TARGET, 100.0, 0.0)


@pytest.mark.parametrize("boost", [0.0, 0.3])
def test_colours_follow_from_how_they_were_found_and_from_the_greys(boost):
    """Three lights, each with a curve of its own that the greys then changed, one with a white sub-pixel."""
    primaries = 100.0 * TARGET.matrix
    white_pixel = boost * primaries.sum(axis=1)

    def display(gains, gammas):
        def xyz(patches):
            light = gains * np.asarray(patches) ** gammas
            return light @ primaries.T + np.outer(light.min(axis=1), white_pixel)
        return xyz

    then, now = display(np.array([0.9, 1.0, 1.1]), [2.1, 2.2, 2.4]), display(np.ones(3), [2.3, 2.3, 2.3])
    course = [lambda v, shown=shown: shown(np.repeat(v[:, None], 3, axis=1)) for shown in (then, now)]
    full = np.array([[0.75, 0, 0], [0, 0.75, 0], [0, 0, 0.75], [0, 0.75, 0.75], [0.75, 0, 0.75], [0.75, 0.75, 0]])
    wanted = np.vstack([full, [[0.75, 0.375, 0.375], [0.375, 0.75, 0.75], [0.72, 0.54, 0.44]]])
    foresight = Foresight.of(full, then(full), np.zeros(3), (course[0], course[1]), TARGET.matrix[1])
    np.testing.assert_allclose(foresight.xyz(wanted), now(wanted), rtol=0.004, atol=0.01)
    assert foresight.is_sure == (not boost)


def test_a_light_that_was_read_without_luminance_tells_of_no_lights():
    fraction = np.array([[1.0, 0, 0], [0, 1, 0], [0, 0, 1], [0, 1, 1], [1, 0, 1], [1, 1, 0]])
    lights = np.array([[41.0, 21.0, 2.0], [36.0, 72.0, 12.0], [18.0, 7.0, 95.0]])
    xyz = fraction @ lights

    def course(levels):
        return np.outer(levels**2.2, lights.sum(axis=0))

    shares = lights[:, 1] / lights[:, 1].sum()
    np.testing.assert_allclose(lights_of(fraction, xyz, np.zeros(3), course, shares).primaries.T, lights, rtol=1e-6)
    xyz[[0, 4, 5], 1] -= lights[0, 1]
    with pytest.raises(np.linalg.LinAlgError, match="without luminance"):
        lights_of(fraction, xyz, np.zeros(3), course, shares)
