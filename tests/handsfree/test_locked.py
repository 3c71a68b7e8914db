"""Displays that lock some controls by another: found out by turning them, and set right as far as a menu or a person can."""

import pytest

from bench.faults import IN_HDR, made
from bench.handsfree import TARGET
from bench.locked import Locked
from fenvik.core.procedures.steps import perform
from tests.handsfree.jobs import adjusted

SEED = 62_003
GREYS, ALL = ("white", "grey"), ("white", "grey", "colour")
LOCKED = (
    "white balance refused", "white balance does nothing", "white balance stays", "each preset has its own",
    "it chooses its preset, and does nothing elsewhere", "colours refused", "colours do nothing", "colours stay",
)  # fmt: skip


def done(way, steps=GREYS, **more):
    display = Locked(SEED, way, **more)
    job = adjusted(display, TARGET, steps)
    return display, job


@pytest.mark.parametrize("way", LOCKED)
def test_what_is_locked_by_a_choice_is_adjusted_where_it_is_not(way):
    of_colours = way.startswith("colours")
    display, job = done(way, ALL if of_colours else GREYS)
    mean, worst, colour, _ = display.rig.truth(TARGET)
    assert (mean < 0.5, worst < 1.2, colour < 0.8 or not of_colours) == (True, True, True), (mean, worst, colour)
    chosen = [note for note in job.desk.notes if "was chosen, for" in note or "by itself when" in note]
    assert len(chosen) == (way != "each preset has its own"), job.desk.notes
    assert not any("moved by" in note or "was left" in note for note in job.desk.notes)
    perform(job.desk.put(job.desk.found), display)
    assert {c["id"]: c["value"] for c in display.rig.controls} == {c["id"]: job.desk.found[c["id"]] for c in display.rig.controls}


@pytest.mark.parametrize("way", ["points do nothing", "points stay"])
def test_points_that_wait_for_a_switch_are_asked_for_and_else_left_alone_in_a_sentence(way):
    asked = []

    class Asked(Locked):
        def ask(self, words):
            asked.append(words)
            return super().ask(words)

    display = Asked(SEED, way, is_attended=True)
    job = adjusted(display, TARGET, GREYS)
    assert display.rig.truth(TARGET)[0] < 0.6
    assert len(asked) == 1
    assert asked[0].startswith("The points of the white balance ")
    assert "Here it may be Levels." in asked[0]
    assert not any("points" in note or "refuses" in note or "moved" in note for note in job.desk.notes), job.desk.notes
    perform(job.desk.put(job.desk.found), display)
    assert {c["id"]: c["value"] for c in display.rig.controls} == {c["id"]: job.desk.found[c["id"]] for c in display.rig.controls}
    display, job = done(way)
    assert display.rig.truth(TARGET)[0] < 1.2
    assert any("Here it may be Levels. They were left alone." in note for note in job.desk.notes), job.desk.notes
    one = sum("refuses" in note or "were left as they are" in note for note in job.desk.notes)
    assert one == ("nothing" not in way), "one note for all of them"


IN_HDR_TOO = [("white balance stays", 70_016), ("points do nothing", 70_035), ("points refused", 70_028)]


@pytest.mark.parametrize(("way", "seed"), IN_HDR_TOO)
def test_locks_are_found_in_hdr_too_where_what_is_turned_stands_in_many_others(way, seed):
    rig, target, more, error = made("hdr", seed)
    display = Locked(seed, way, rig, is_attended=True)
    job = adjusted(display, target, **more, budget=IN_HDR)
    assert error() < 1.6, job.desk.notes
    assert not job.desk.refused
