"""Displays that are hard each in one way: what the bench of hard displays draws, one of each, judged by the true light."""

import numpy as np
import pytest

from bench.faulty import Faulty
from bench.handsfree import BUDGET, TARGET
from bench.hard import WAYS, Hard
from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.controls import Grain, of_greys, steps_to
from fenvik.core.models import points
from fenvik.core.models.grey import Seen, drives_of
from fenvik.core.models.palette import SDR
from fenvik.core.procedures import choices
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import perform
from tests.handsfree.jobs import adjusted

BELOW = ("felt", "long", "three", "too much", "points turned", "gains turned", "colours turned")
OTHERWISE = ("none", "saturation off")  # as every display of the others, in its greys


@pytest.mark.parametrize("way", [way for way in WAYS if not way.startswith((*BELOW, *OTHERWISE))])
def test_no_way_of_being_hard_costs_the_greys(way):
    display = Faulty(60_005, "none", Hard(60_005, way))
    found = display.truth(TARGET)[0]
    job = adjusted(display, TARGET, ("light", "white", "grey"))
    mean, worst, _, _ = display.truth(TARGET)
    assert (job.restored, mean < 0.6, worst < 1.6) == (False, True, True), (found, mean, worst)


@pytest.mark.parametrize(("way", "low", "high"), [
    ("too much colour, turned the other way", 47, 53), ("too much colour, a dead control", 58, 58),
])  # fmt: skip
def test_saturation_of_all_colours_is_turned_by_what_it_does_and_left_where_it_does_nothing(way, low, high):
    display = Hard(60_003, way)
    site, found = Faulty(60_003, "none", display), display.truth(TARGET)[2]
    adjusted(site)
    assert low <= display._value("saturation") <= high
    assert display.truth(TARGET)[2] < 0.7 * found


@pytest.mark.parametrize(("way", "said"), [
    ("points turned before", "Points"), ("gains turned before", "Gains and offsets"),
    ("colours turned before", "Colour management"),
])  # fmt: skip
def test_what_was_turned_and_left_far_off_begins_at_its_defaults_and_what_was_left_well_does_not(way, said):
    display = Faulty(60_000, "none", Hard(60_000, way))
    for once in (True, False):
        job = adjusted(display)
        assert any(note.startswith(f"{said} had been turned before, and greys ") for note in job.desk.notes) == once
        mean, worst, colours, _ = display.truth(TARGET)
        assert (job.restored, mean < 0.5, worst < 0.9, colours < 0.8) == (False, True, True, True), (mean, worst, colours)


def test_defaults_that_are_none_are_left_again():
    hard = Hard(60_000, "gains turned before")
    for control in (c for c in hard.controls if c["role"].startswith("white.gain")):
        control["default"] = control["min"]
    display = Faulty(60_000, "none", hard)
    job = adjusted(display)
    assert any("at what the display calls their defaults white is worse" in note for note in job.desk.notes)
    mean, worst, _, _ = display.truth(TARGET)
    assert (job.restored, mean < 0.7, worst < 1.5) == (False, True, True), (mean, worst)


def test_a_last_list_by_hand_that_the_proof_denies_is_taken_back():
    display = Hard(80_005, "felt at every fourth step")
    job = adjusted(display, by_hand=True)
    assert any("The last move of the greys did not do what it should" in note for note in job.desk.notes)
    assert (job.restored, display.truth(TARGET)[0] < 1.5) == (False, True), job.desk.notes  # else 2.7 of 1.7


def test_what_was_turned_by_readings_of_another_light_is_taken_back_and_done_anew():
    hard = Hard(78_056, "±512 at 0.4 %")
    display = Faulty(78_056, "curtain", hard)
    display.is_attended = True
    job = adjusted(display)
    mean, worst, _, _ = hard.truth(TARGET)
    assert (job.restored, mean < 0.5, worst < 1.2) == (False, True, True), (mean, worst)  # else 4.8 and 12.5


def test_points_that_work_backwards_are_turned_as_they_want_and_named():
    hard = Hard(60_003, "three points inverted")
    display = Faulty(60_003, "none", hard)
    job = adjusted(display, TARGET, ("white", "grey"))
    mean, worst, _, _ = hard.truth(TARGET)
    assert (mean < 0.6, worst < 1.2) == (True, True), (mean, worst)
    told = next(note for note in job.desk.notes if note.endswith("more of it gives less light, and it is turned as that wants."))
    names = told.split(": ")[0].split(", ")
    turned = zip(*(hard.point_step < 0).nonzero(), strict=True)
    places = {(f"{hard.at[level]:g}", ("red", "green", "blue")[c]) for level, c in turned}
    assert len(names) >= 2
    assert {tuple(name.split("-")[1:]) for name in names} <= places


@pytest.mark.parametrize(("seed", "every"), [(60_004, "fourth")])
def test_a_display_that_counts_in_larger_steps_than_its_menu_is_turned_in_those_and_named(seed, every):
    hard = Hard(seed, f"felt at every {every} step")
    display = Faulty(seed, "none", hard)
    job = adjusted(display, TARGET, ("white", "grey"))
    mean, worst, _, _ = hard.truth(TARGET)
    assert (mean < 0.75, worst < 1.6) == (True, True), (mean, worst)
    assert any(f"Only every {every} step of " in note for note in job.desk.notes), job.desk.notes


@pytest.mark.parametrize(
    ("seed", "kind", "most"),
    [
        (60_001, "in order", 13), (60_002, "in order", 13), (60_100, "an end refused", 13), (60_001, "one listed twice", 13),
        (60_003, "shuffled", 24),
    ],
)  # fmt: skip
def test_what_a_long_menu_offers_is_found_without_reading_all_of_it(seed, kind, most):
    hard = Hard(seed, "long menus")
    readings = []
    for role, options in (("gamma", hard.gammas), ("white-preset", hard.presets)):
        control = next(c for c in hard.controls if c["role"] == role)
        if kind == "shuffled":
            np.random.default_rng(seed).shuffle(control["options"])
        elif kind == "one listed twice":
            control["options"].append(control["options"][5])
        desk = Desk(hard.controls, budget=BUDGET)
        chooses = choices.curve(desk, TARGET, SDR, 0.0) if role == "gamma" else choices.preset(desk, TARGET, SDR)

        def go(chooses=chooses, desk=desk):
            yield from desk.reads([(100.0,) * 3, (60.0,) * 3, (30.0,) * 3])
            yield from chooses

        before, white = hard.readings, hard.emitted(np.ones((1, 3)))[0, 1]
        rig = Faulty(seed, "none", hard)
        had = [o for o in options if kind != "an end refused" or o in (control["value"], *control["options"][:-1])]
        sets = rig.set
        rig.set = lambda name, value, control=control, had=had, sets=sets: (
            control["value"] if name == control["id"] and value not in had else sets(name, value)
        )
        perform(go(), rig)
        readings.append(hard.readings - before)
        far, chosen = {}, control["value"]
        for option in had:
            control["value"] = option
            far[option] = _far(hard, role, white)
        control["value"] = chosen
        assert sorted(far.values()).index(far[chosen]) <= 1, (role, chosen, far)
    assert max(readings) <= most


def _far(hard, role, white):
    """Return how far the true light of 60 and 30 % is from the curve to a white that was read, or that of 60 % from its colour."""
    shown = np.array([[0.6] * 3, [0.3] * 3])
    xyz = hard.emitted(shown)
    if role == "gamma":
        return float(np.abs(np.log(xyz[:, 1] / TARGET.xyz(shown, white, 0.0)[:, 1])) @ [0.6, 0.4])
    return float(np.hypot(*(xyz_to_uv(xyz[0]) - xyz_to_uv(TARGET.white))))


@pytest.mark.parametrize("seed", [62_001, 62_002])
def test_colours_that_are_felt_at_every_fourth_step_are_not_called_dead(seed):
    hard = Hard(seed, "felt at every fourth step")
    found = hard.truth(TARGET)[2]
    display = Faulty(seed, "none", hard)
    job = adjusted(display)
    dead = [note.split(" of ")[1].split(" do ")[0] for note in job.desk.notes if "do nothing that a reading can tell" in note]
    assert set(dead) <= {hard.dead}
    assert hard.truth(TARGET)[2] < 0.4 * found


def _moved(knobs, stood):
    return steps_to(knobs, np.array([float(stood[knob.id]) for knob in knobs]))


def _by_lists(hard, *, as_felt):
    """Enter four lists of all points and read after each; return the mean error by the true light, and the knobs."""
    values = {c["id"]: c["value"] for c in hard.controls}
    plain = of_greys(hard.controls, values, ("gain", "offset", "point"))
    levels, taken = points.to_read(plain), []
    white = black = 0.0

    def seen_by(knobs):
        return [
            Seen(level / 100, drives_of(xyz[None], TARGET, white, black)[0], _moved(knobs, stood), i)
            for i, (level, xyz, stood) in enumerate(taken)
        ]

    knobs = list(plain)
    for _ in range(5):
        stood = {c["id"]: c["value"] for c in hard.controls}
        taken += [(level, hard.read((level,) * 3)[1], stood) for level in levels]
        white = white or float((taken[0][1] @ TARGET.inverse_matrix.T).min())
        knobs = points.as_felt(plain, seen_by, TARGET) if as_felt else knobs
        moved = _moved(knobs, stood)
        allowed = points.turnable(knobs, SDR, TARGET, curve=True)
        plan = points.plan(knobs, seen_by(knobs), moved, TARGET, white, black, allowed=allowed)
        for knob, at, step in zip(knobs, moved, plan.steps, strict=True):
            if step:
                hard.set(knob.id, knob.value_at(at + step))
    return hard.truth(TARGET)[0], knobs


@pytest.mark.parametrize(("seed", "phase"), [(60_003, None)])
def test_lists_by_hand_are_in_the_steps_that_a_display_feels(seed, phase):
    way = "felt at every fourth step"
    left, knobs = _by_lists(Hard(seed, way), as_felt=True)
    assert left < _by_lists(Hard(seed, way), as_felt=False)[0]
    assert {knob.grain for knob in knobs if knob.kind == "point"} == {Grain(4, phase)}
