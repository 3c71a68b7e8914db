"""A reference beside a quick meter that sees colours wrongly: what is read for it, what slips, and what is believed in the end."""

from functools import partial

import numpy as np
import pytest

from bench.handsfree import TARGET
from bench.reference import Referenced, ReferencedInHdr, job_on, truth_of
from fenvik.core.procedures.steps import TooBrightError

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


@pytest.mark.parametrize("slips", [1, 4])
def test_one_reading_of_the_reference_that_slips_costs_no_correction(slips):
    display = Referenced(SEED, slips=slips)
    job = job_on(display)
    assert not any("No correction was made" in note for note in job.desk.notes)
    assert display.truth(TARGET)[0] < 0.5


@pytest.mark.parametrize(("seed", "is_denied"), [(5001, True), (5002, False)])
def test_what_was_adjusted_by_a_meter_that_could_not_be_corrected_is_judged_by_the_reference(seed, is_denied):
    display = Referenced(seed, dims=0.25, is_late=True)
    found = display.truth(TARGET)[0]
    job = job_on(display)
    notes = job.desk.notes
    assert any(note.startswith("No correction was made: white is") for note in notes)
    said = next(note for note in notes if note.startswith("The meter was not corrected. By the reference 3 patches are off by"))
    assert (job.restored, "put back" in said) == (is_denied, is_denied)
    left = display.truth(TARGET)[0]
    assert left == pytest.approx(found, abs=0.05) if is_denied else left < 0.5 * found


@pytest.mark.parametrize(("fault", "since", "said", "is_restored"), [
    ("covered", 2, "the reference saw no light where white was shown", True),
    ("gone", 0, "The reference does not answer.", True),
    ("covered", 5, "The reference sees no light", False),
    ("gone", 5, "The reference does not answer. The corrected meter could not be held against it", False),
    ("bumped", 5, "The reference gives another light than when the meter was corrected by it, and the meter does not", False),
    ("dimmed", 5, "The reference gives another light than when the meter was corrected by it, and the meter does not", False),
    ("noisy", 0, "The reference does not give the same of one patch twice", True),
])  # fmt: skip
def test_a_reference_that_fails_spoils_nothing(fault, since, said, is_restored):
    display = Referenced(SEED, fault=fault)
    display.since, found, stood = since, display.truth(TARGET)[0], [c["value"] for c in display.controls]
    job = job_on(display)
    assert any(said in note for note in job.desk.notes), job.desk.notes
    assert job.restored == is_restored
    assert ([c["value"] for c in display.controls] == stood) == is_restored
    assert display.truth(TARGET)[0] < (found + 0.05 if is_restored else 0.5)


@pytest.mark.parametrize(("answers", "calls"), [([True], 1), ([None], 1), ([True, True, True], 3)])
def test_somebody_is_called_for_a_reference_that_sees_no_light(answers, calls):
    display = Referenced(SEED, fault="covered")
    display.since, said = 0, []

    def ask(words):
        said.append(words)
        display.since = 99 if answers == [True] else 0
        return answers[len(said) - 1]

    display.ask = ask
    job = job_on(display)
    assert len(said) == calls
    assert "the reference saw no light where white was shown" in said[0]
    assert job.restored == (answers != [True])


@pytest.mark.parametrize("is_there", [True, False])
def test_a_reference_that_gives_another_light_than_the_meter_is_asked_about_and_said(is_there):
    display = Referenced(SEED, fault="dimmed")
    display.since, asked = 0, []

    def ask(words):
        asked.append(words)
        display.since = 99 if is_there else 0
        return True if is_there else None

    display.ask = ask
    job = job_on(display)
    said = "more light than the reference: do both look at the same spot"
    assert [said in words for words in asked] == [True]
    assert sum(said in note for note in job.desk.notes) == (not is_there)
    assert display.truth(TARGET)[0] < 0.5


@pytest.mark.parametrize(("make", "seed"), [
    (ReferencedInHdr, 1064), (partial(Referenced, dims=0.25), 5001), (Referenced, 5011),
])  # fmt: skip
def test_colours_brighter_than_white_allows_cost_no_correction_where_both_meters_see_the_same(make, seed):
    display = make(seed)
    for control in display.controls if seed > 5001 else ():
        if control["role"].startswith("colour.") and control["role"].endswith(("luminance", "mix.red", "mix.green", "mix.blue")):
            control["value"] = round(0.7 * control["max"])
    found = truth_of(display)[0]
    job = job_on(display)
    assert sum("less than red, green and blue together" in note for note in job.desk.notes) == 1, job.desk.notes
    assert (job.corrected is not None and job.corrected.matrix is not None, job.restored) == (True, False)
    assert truth_of(display)[0] < max(0.5, 0.2 * found)


def test_a_slip_while_the_meter_is_corrected_is_found_by_white_beside_its_parts():
    display = Referenced(SEED, slips=3)
    job = job_on(display)
    assert display.read_as["reference"] > 9, "all of it was read once more"
    assert not job.restored
    assert display.truth(TARGET)[0] < 0.5


def test_what_is_too_bright_for_the_reference_is_left_out_of_what_it_is_held_by():
    display, reads = Referenced(SEED), Referenced.read_by

    def dazzled(meter, percent):
        if meter == "reference" and display.read_as["reference"] >= 5 and min(percent) == 100.0:
            raise TooBrightError("Too much.")
        return reads(display, meter, percent)

    display.read_by = dazzled
    job = job_on(display)
    assert (job.restored, job.agreed) == (False, True)
    assert display.truth(TARGET)[0] < 0.5
