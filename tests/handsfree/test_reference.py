"""A reference beside a quick meter that sees colours wrongly: what is read for it, what slips, and what is believed in the end."""

import numpy as np
import pytest

from bench.handsfree import TARGET
from bench.reference import Referenced, job_on

SEED = 5000


def test_what_was_found_is_not_read_again_for_a_correction_and_a_hundred_readings_are_enough():
    display = Referenced(SEED)
    found = display.truth(TARGET)
    job = job_on(display)
    mean, worst, colours, _ = display.truth(TARGET)
    assert (mean < 0.5, worst < 1.0, colours < 0.7) == (True, True, True), (mean, worst, colours, found)
    assert display.read_as["meter"] == 0
    assert display.read_as["reference"] <= 9
    assert display.readings <= 105
    assert job.corrected is not None
    reference, meter = job.corrected.sides["white"][1]
    np.testing.assert_allclose(job.corrected.matrix @ meter, reference, rtol=1e-9)  # the method holds white itself


@pytest.mark.parametrize("slips", [1, 2, 4])
def test_one_reading_of_the_reference_that_slips_costs_no_correction(slips):
    display = Referenced(SEED, slips=slips)
    job = job_on(display)
    assert not any("No correction was made" in note for note in job.desk.notes)
    assert display.truth(TARGET)[0] < 0.5


@pytest.mark.parametrize(("seed", "is_denied"), [(5001, True), (5002, False)])
def test_what_was_adjusted_by_a_meter_that_could_not_be_corrected_is_judged_by_the_reference(seed, is_denied):
    display = Referenced(seed, dims=0.25)
    found = display.truth(TARGET)[0]
    job = job_on(display)
    notes = job.desk.notes
    assert any(note.startswith("No correction was made: white is") for note in notes)
    said = next(note for note in notes if note.startswith("The meter was not corrected. By the reference 3 patches are off by"))
    assert (job.restored, "put back" in said) == (is_denied, is_denied)
    left = display.truth(TARGET)[0]
    assert left == pytest.approx(found, abs=0.05) if is_denied else left < 0.5 * found


def test_a_reference_that_sees_no_light_is_said_and_the_run_goes_on():
    display = Referenced(SEED)
    reads = display.read_by
    display.read_by = lambda meter, percent: (reads(meter, percent)[0], np.zeros(3))
    job = job_on(display)
    assert any("the reference saw no light where white was shown" in note for note in job.desk.notes)
    assert job.as_left
