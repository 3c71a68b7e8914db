"""Hands-free on displays drawn at random, which work otherwise than the stand-ins, judged by their true light."""

import itertools

import numpy as np
import pytest

from bench.displays import RandomDisplay
from bench.hard import Hard
from fenvik.core import controls
from fenvik.core.colour.target import TARGETS
from fenvik.core.controls import Control
from fenvik.core.models import greysolve
from fenvik.core.models.grey import Seen, drives_of, seen_of
from fenvik.core.models.greyfit import fit
from fenvik.core.models.greysolve import lift_of, solve
from fenvik.core.procedures import colours
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.greys import AT_A_LOOK
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import StoppedError, perform
from tests.handsfree.jobs import adjusted

TARGET, HLG = TARGETS["bt709-bt1886"], TARGETS["bt2020-hlg"]
SEEDS = (2001, 2010, 2030)
POINTS = [Control(f"p{p}{c}", "", "point", c, 0, -50, 50, 1, at=p / 10) for p in range(1, 11) for c in range(3)]
LEVELS = np.arange(1, 11) / 10


def do(seed, **more):
    display = RandomDisplay(seed)
    found = display.truth(TARGET)
    job = adjusted(display, **more)
    return display, job, found


@pytest.mark.parametrize("seed", SEEDS)
def test_an_unseen_display_ends_better_within_three_readings_a_level(seed):
    display, job, found = do(seed)
    left = display.truth(TARGET)
    assert left[0] < 0.5 * found[0]
    assert not display.at or (left[0] <= 0.7 and left[1] <= 1.3)
    assert display.readings <= 150
    # Beyond three a level only where greys were otherwise than expected.
    assert sum(np.ptp(t.fraction) == 0 for t in job.desk.taken) <= 63 + AT_A_LOOK * job.balance.looked_more


def test_the_last_look_goes_on_only_where_greys_are_otherwise_than_expected():
    usual, bent = do(2022)[1].balance, bent_like_an_s(2022).balance
    assert (usual.looked_more, bent.looked_more > 0) == (0, True)


def bent_like_an_s(seed):
    hard = Hard(seed, "bent like an S")
    return adjusted(hard)


def test_nine_of_ten_displays_with_points_end_at_half_a_difference_and_none_above_one():
    seeds = [seed for seed in range(2101, 2118) if RandomDisplay(seed).at]
    left = [do(seed, steps=("light", "white", "grey"))[0].truth(TARGET) for seed in seeds]
    assert len(left) > 10
    reached = sum(mean <= 0.5 and worst <= 1.0 for mean, worst, _, _ in left)
    assert reached >= 0.9 * len(left)


def test_a_job_of_greys_alone_takes_three_readings_a_level_with_everything():
    display, job, _ = do(2030, steps=("light", "white", "grey"))
    assert display.readings <= 63
    assert len(job.as_found) == len(job.as_left) == 9
    left = display.truth(TARGET)
    assert left[0] <= 0.5
    assert left[1] <= 1.0


@pytest.mark.parametrize("seed", [1022, 1037])
def test_black_is_not_raised_to_follow_the_curve(seed):
    display = RandomDisplay(seed)
    before = display.emitted(np.zeros((1, 3)))[0, 1]
    adjusted(display, steps=("white", "grey"))
    after = display.emitted(np.zeros((1, 3)))[0, 1]
    assert after < 1.2 * before, "without the guard it is half as bright again"


def test_a_colour_whose_controls_do_nothing_is_said_and_left_as_found():
    seed = next(s for s in range(3000, 3400) if (d := RandomDisplay(s)).dead == "red" and d.cms == "mix" and not d.boost)
    display = RandomDisplay(seed)
    display.mix = display.mix + np.array([[-0.06, 0, 0], [0.05, 0, 0], [0.04, 0, 0]])  # its red is far off
    desk = Desk(display.controls, budget=150)
    perform(Job(desk, TARGET).run(), display)
    assert any("controls of red do nothing" in note for note in desk.notes)
    assert all(c["value"] == desk.found[c["id"]] for c in desk.by_role("colour.red"))
    others = [c for c in desk.by_role("colour") if not c["role"].startswith("colour.red")]
    assert any(c["value"] != desk.found[c["id"]] for c in others)


def first_looks(seed, **job):
    """Return the colours of a run, and how many of them were looked at before anything was turned."""
    _, done, _ = do(seed, **job)
    return done.hues, sum(not hue.looks[0].foreseen for hue in done.hues)


def test_colours_are_first_read_where_they_have_been_moved_but_not_where_three_lights_do_not_explain_them(monkeypatch):
    seed = next(s for s in range(3000, 3400) if (d := RandomDisplay(s)).cms == "attribute" and d.kind == "lcd" and d.at)
    every, first = first_looks(seed)
    assert (len(every), first) == (6, 0)
    seed = next(s for s in range(3000, 3400) if (d := RandomDisplay(s)).boost > 0.2 and d.cms == "attribute" and d.at)
    every, first = first_looks(seed)
    assert first == 1, "one of them is read, and is as it was foreseen"
    monkeypatch.setattr(colours, "MISJUDGED", 0.0)
    every, first = first_looks(seed)
    assert first == 6


class Blind(RandomDisplay):
    """A display whose blue was too dark to be read as it was found: the meter says nothing of it."""

    def read(self, percent):
        fraction, xyz = super().read(percent)
        return fraction, np.zeros(3) if max(percent[:2]) == 0 < percent[2] else xyz


def test_colours_are_read_where_one_of_those_found_was_too_dark_to_be():
    seed = next(s for s in range(3000, 3400) if (d := RandomDisplay(s)).cms == "attribute" and d.kind == "lcd" and d.at)
    display = Blind(seed)
    found = display.truth(TARGET)
    job = adjusted(display)
    assert not any(look.foreseen for hue in job.hues for look in hue.looks)
    assert display.truth(TARGET)[0] < 0.5 * found[0]


def test_one_colour_goes_first_and_tells_the_others_which_way_a_hue_turns():
    right = []
    for seed in [s for s in range(3000, 3200) if (d := RandomDisplay(s)).cms == "attribute" and not d.boost and not d.dead][:6]:
        every, _ = first_looks(seed)
        for hue in every:
            first = hue.looks[:2]
            if len(first) > 1 and hue.name not in colours.SCOUTS and np.ptp([look.settings[0] for look in first]) > 0:
                before, after = (abs(parts[2]) + abs(parts[5]) for parts in hue.known[:2])
                right.append(after < before + 0.3)
    assert len(right) >= 6
    assert np.mean(right) > 0.6, "without the first it is one of eight"


def test_a_white_sub_pixel_is_told_from_white_and_the_three_lights():
    seed = next(s for s in range(3000, 3400) if RandomDisplay(s).boost > 0.3)
    _, job, _ = do(seed, steps=("white", "grey"))
    assert job.boost > 0.2
    plain = next(s for s in range(3000, 3400) if RandomDisplay(s).kind == "lcd")
    _, job, _ = do(plain, steps=())
    assert job.boost == 0


def test_drives_are_freed_of_a_white_sub_pixel():
    boost, light = 0.4, np.array([[0.52, 0.5, 0.47]])
    seen = (light + boost * light.min(axis=1, keepdims=True)) / (1 + boost)
    xyz = 100.0 * seen @ TARGET.matrix.T
    freed = drives_of(xyz, TARGET, 100.0, 0.0, boost)
    np.testing.assert_allclose(freed, drives_of(100.0 * light @ TARGET.matrix.T, TARGET, 100.0, 0.0), atol=1e-9)
    np.testing.assert_allclose(seen_of(boost) @ np.ones(3), np.ones(3), atol=1e-12)
    np.testing.assert_allclose(seen_of(boost) @ [1, -1, 0], np.array([1, -1, 0]) / 1.4, atol=1e-12)


def read_of(display, *states, seed):
    """Return what a meter sees of a display's drives at all levels, for moves of its knobs."""
    rng = np.random.default_rng(seed)
    return [
        Seen(float(v), d, moved)
        for moved in states
        for v, d in zip(LEVELS, display(LEVELS, moved) + rng.normal(0, 3e-4, (len(LEVELS), 3)), strict=True)
    ]


def test_points_that_do_more_at_brighter_levels_are_learned_as_such():
    rng = np.random.default_rng(2)
    step = 0.002 * (0.5 + LEVELS)  # from 0.6 to 1.5 of the usual

    def display(levels, moved):
        drives = np.repeat(levels[:, None], 3, axis=1).copy()
        for k, knob in enumerate(POINTS):
            drives[:, knob.channel] += moved[k] * step[k // 3] * np.exp(-0.5 * ((levels - knob.at) / 0.05) ** 2)
        return drives

    moved = rng.integers(-8, 9, len(POINTS)).astype(float)
    model = fit(POINTS, read_of(display, np.zeros(len(POINTS)), moved, seed=3))
    learned = model.step.reshape(-1, 3).mean(axis=1)
    assert np.corrcoef(learned, step)[0, 1] > 0.95
    assert learned[-1] > 1.3 * learned[1]


@pytest.mark.parametrize("follows", [True, False])
def test_it_is_learned_on_which_signal_points_act(follows):
    gains = [Control(f"g{c}", "", "gain", c, 0, -50, 50, 1, at=1.0) for c in range(3)]
    knobs, rng = [*gains, *POINTS], np.random.default_rng(5)

    def display(levels, moved):
        arrives = np.repeat(levels[:, None], 3, axis=1)
        left = arrives * (1.0 + 0.004 * moved[:3])
        drives = left.copy()
        for k, knob in enumerate(POINTS, 3):
            at = (left if follows else arrives)[:, knob.channel] - knob.at
            drives[:, knob.channel] += moved[k] * 0.003 * np.exp(-0.5 * (at / 0.05) ** 2)
        return drives

    turned = np.array([-12.0, 12.0, 9.0])  # by up to half of the way to the next point
    still, some = np.zeros(30), rng.integers(-8, 9, 30).astype(float)
    states = [np.concatenate(parts) for parts in ((0 * turned, still), (turned, some), (-turned / 2, some))]
    model = fit(knobs, read_of(display, *states, seed=6))
    assert model.follows is follows
    between = LEVELS[:-1] + 0.05
    off = model.at(between, states[-1]) - display(between, states[-1])
    assert np.abs(off).max() < 0.006


KEEP_LIGHT = np.eye(3) - np.array([0.2126, 0.7152, 0.0722])  # what one light gets, the others lose
RANDOMLY = np.array([[1.0, 0.2, -0.1], [-0.25, 1.0, 0.15], [0.1, -0.2, 1.0]])


@pytest.mark.parametrize(
    ("pushes", "at", "most"), [(KEEP_LIGHT, 1.0, 2.0), (RANDOMLY, 1.0, 0.7), (np.eye(3), 0.92, 0.5), (np.eye(3), 1.08, 0.5)]
)
def test_points_that_push_other_lights_or_act_elsewhere_than_their_labels_say_are_learned_as_such(pushes, at, most):
    rng = np.random.default_rng(8)

    def display(levels, moved):
        drives = np.repeat(levels[:, None], 3, axis=1).copy()
        for k, knob in enumerate(POINTS):
            pull = np.exp(-0.5 * ((levels - at * knob.at) / 0.05) ** 2)
            drives += moved[k] * 0.003 * pull[:, None] * pushes[:, knob.channel]
        return drives

    states = [np.zeros(len(POINTS)), *(rng.integers(-8, 9, len(POINTS)).astype(float) for _ in range(2))]
    model = fit(POINTS, read_of(display, *states, seed=9))
    assert model.residual < most * len(states) * len(LEVELS), "little is left to explain"
    off = model.at(LEVELS, states[-1]) - display(LEVELS, states[-1])
    assert np.abs(off).max() < 0.003
    other = states[-1] + rng.integers(-3, 4, len(POINTS))  # where nobody has read
    assert np.abs(model.at(LEVELS, other) - display(LEVELS, other)).max() < 0.006
    np.testing.assert_allclose(model.push / 0.003, pushes - np.diag(np.diag(pushes)), atol=0.16)


def test_a_point_that_does_nothing_is_known_and_left_alone_and_one_that_works_backwards_is_turned_back():
    rng, does = np.random.default_rng(11), np.ones(len(POINTS))
    does[13], does[20] = 0.0, -1.0

    def display(levels, moved):
        drives = np.repeat(levels[:, None], 3, axis=1).copy()
        for k, knob in enumerate(POINTS):
            drives[:, knob.channel] += moved[k] * does[k] * 0.003 * np.exp(-0.5 * ((levels - knob.at) / 0.05) ** 2)
        return drives

    states = [np.zeros(len(POINTS)), *(rng.integers(-8, 9, len(POINTS)).astype(float) for _ in range(2))]
    states[-1][13] = 8.0
    model = fit(POINTS, read_of(display, *states, seed=12))
    assert (model.dead, model.backwards) == ({13}, {20})
    wanted = solve(model, states[-1], TARGET, 100.0, 0.0, allowed=[True] * len(POINTS), levels=LEVELS)
    assert wanted[13] == states[-1][13]
    before, after = (np.abs(display(LEVELS, at) - LEVELS[:, None]).max() for at in (states[-1], wanted))
    assert after < 0.4 * before, "what the dead one leaves is left"


@pytest.mark.parametrize("end", [[np.inf, 0.985, np.inf], [0.99, 0.98, 0.985], [np.inf] * 3])
def test_lights_that_end_are_learned_as_such_and_white_comes_down_to_them_but_in_hlg(end):
    gains = [Control(f"g{c}", "", "gain", c, 0, -50, 50, 1, at=1.0) for c in range(3)]

    def display(levels, moved):
        return np.minimum(levels[:, None] * (np.array([1.0, 1.012, 1.004]) + 0.004 * moved[:3]), end)

    turned = np.array([0.0, 4.0, 2.0]), np.array([2.0, -3.0, 0.0])
    states = [np.concatenate([two, np.zeros(30)]) for two in (np.zeros(3), *turned)]
    model = fit([*gains, *POINTS], read_of(display, *states, seed=4))
    np.testing.assert_allclose(model.end, end, atol=0.002)
    wanted = solve(model, states[0], TARGET, 100.0, 0.0, allowed=[True] * 3 + [False] * 30, levels=LEVELS)
    beyond = display(np.ones(1), wanted)[0] - np.array([1.0, 1.012, 1.004]) - 0.004 * wanted[:3]
    assert np.abs(beyond).max() < 0.002, "no light is cut off any more"
    assert np.ptp(display(np.ones(1), wanted)) < 0.004
    kept = solve(model, states[0], HLG, 600.0, 0.0, allowed=[True] * 3 + [False] * 30, levels=LEVELS)
    assert (display(np.ones(1), kept)[0] == end)[np.isfinite(end)].all(), "in HLG, which keeps its peak, they stay there"


def test_greys_are_solved_in_relation_to_the_white_that_will_be_there():
    # White is one percent too bright in signal; a curve that follows it needs no change below.
    drives = LEVELS * 1.01
    model = fit(POINTS, [Seen(float(v), np.full(3, d), np.zeros(30)) for v, d in zip(LEVELS, drives, strict=True)])
    moved = solve(model, np.zeros(30), TARGET, 100.0, 0.0, allowed=[True] * 30, levels=LEVELS)
    left = model.at(LEVELS, moved).mean(axis=1)
    np.testing.assert_allclose(left / left[-1], LEVELS, atol=0.004)
    assert np.abs(moved).sum() < 30, "nothing is turned only to reach a white that was read brighter"


def test_a_level_that_stands_out_weighs_more_than_the_many_that_are_near(monkeypatch):
    # Two controls cannot mend one level that is off by itself: they may trade a little of all others for it.
    monkeypatch.setattr(controls, "OVER_ALL", 0.0)  # what they do is known
    knobs = [Control(kind, "", kind, 1, 0, -500, 500, 0.02, at=1.0) for kind in ("gain", "offset")]
    off = np.where(np.isclose(LEVELS, 0.5), 0.03, 0.0)
    model = fit(knobs, [Seen(float(v), v + np.array([0.0, d, 0.0]), np.zeros(2)) for v, d in zip(LEVELS, off, strict=True)])

    def left() -> np.ndarray:
        moved = solve(model, np.zeros(2), TARGET, 100.0, 0.0, allowed=[True] * 2, levels=LEVELS)
        return np.abs(model.at(LEVELS, moved)[:, 1] - LEVELS)

    fair = left()
    monkeypatch.setattr(greysolve, "OUTSTANDING", 1e6)
    assert fair.max() < left().max() - 0.001
    assert fair.mean() < 2 * left().mean()


def test_offsets_raise_black_no_more_than_they_may():
    offsets = [Control(f"o{c}", "", "offset", c, 0, -50, 50, 1, at=1.0) for c in range(3)]
    seen = [Seen(float(v), np.full(3, v - 0.03 * (1 - v)), np.zeros(3)) for v in LEVELS]
    model = fit(offsets, seen)
    free = solve(model, np.zeros(3), TARGET, 100.0, 0.05, allowed=[True] * 3, levels=LEVELS)
    held = solve(model, np.zeros(3), TARGET, 100.0, 0.05, allowed=[True] * 3, levels=LEVELS, lift=0.003)
    assert lift_of(model, free) @ free > 0.007
    assert lift_of(model, held) @ held < 0.0045


class CutOff(RandomDisplay):
    """A display whose meter ends with something at a reading; what is set after that is counted."""

    def __init__(self, seed, at, end):
        super().__init__(seed)
        self.at_reading, self.end, self.after = at, end, []

    def read(self, percent):
        if self.readings == self.at_reading:
            raise self.end
        return super().read(percent)

    def set(self, control, value):
        if self.readings == self.at_reading:
            self.after.append(control)
        return super().set(control, value)


def in_colours(end):
    """Run on a display with colour management until the second look at its colours, which ends like this."""
    seed = next(s for s in range(3000, 3400) if (d := RandomDisplay(s)).cms == "attribute" and not d.boost and not d.dead)
    whole = RandomDisplay(seed)
    desk = Desk(whole.controls, budget=150)
    perform(Job(desk, TARGET, steps=("colour",)).run(), whole)
    # In the middle of a look: what was turned for it has been turned.
    looks = [(a.settings, b.settings) for a, b in itertools.pairwise(desk.taken)]
    middle = next(i for i, (before, after) in enumerate(looks, start=1) if before == after != desk.found and i > 18)
    display = CutOff(seed, middle, end)
    desk = Desk(display.controls, budget=150)
    with pytest.raises(type(end)):
        perform(Job(desk, TARGET, steps=("colour",)).run(), display)
    return display


def test_a_run_that_may_go_on_later_turns_nothing_when_it_is_cut_off():
    assert in_colours(RuntimeError("paused")).after == []


def test_a_run_that_is_stopped_leaves_the_colours_where_they_were_best():
    display = in_colours(StoppedError())
    assert display.after, "what was tried for a look is brought to rest"
    assert all(name.split("-")[0] in ("red", "green", "blue", "cyan", "magenta", "yellow") for name in display.after)
