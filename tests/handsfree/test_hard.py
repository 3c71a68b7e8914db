"""Displays that are hard each in one way: what the bench of hard displays draws, one of each, judged by the true light."""

import pytest

from bench.faults import Faulty
from bench.handsfree import BUDGET, TARGET
from bench.hard import WAYS, Hard
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import perform


@pytest.mark.parametrize("way", WAYS)
def test_no_way_of_being_hard_costs_the_greys(way):
    display = Faulty(60_005, "none", Hard(60_005, way))
    found = display.truth(TARGET)[0]
    job = Job(Desk(display.controls, budget=BUDGET), TARGET, ("white", "grey"))
    perform(job.run(), display)
    mean, worst, _, _ = display.truth(TARGET)
    most = 1.8 if way == "three points inverted" else 1.6  # what they do is known late
    assert (job.restored, mean < 0.6, worst < most) == (False, True, True), (found, mean, worst)


@pytest.mark.parametrize("seed", [60_003, 60_006, 60_012])
def test_points_that_work_backwards_are_turned_as_they_want_and_named(seed):
    hard = Hard(seed, "three points inverted")
    display = Faulty(seed, "none", hard)
    job = Job(Desk(display.controls, budget=BUDGET), TARGET, ("white", "grey"))
    perform(job.run(), display)
    mean, worst, _, _ = hard.truth(TARGET)
    assert (mean < 0.6, worst < 1.2) == (True, True), (mean, worst)
    told = next(note for note in job.desk.notes if note.endswith("more of it gives less light, and it was turned as that wants."))
    names = told.split(": ")[0].split(", ")
    turned = zip(*(hard.point_step < 0).nonzero(), strict=True)
    places = {(f"{hard.at[level]:g}", ("red", "green", "blue")[c]) for level, c in turned}
    assert len(names) >= 2
    assert {tuple(name.split("-")[1:]) for name in names} <= places
