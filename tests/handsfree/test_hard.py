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
    most = 2.4 if way == "three points inverted" else 1.6  # what they do is known late
    assert (job.restored, mean < 0.6, worst < most) == (False, True, True), (found, mean, worst)
