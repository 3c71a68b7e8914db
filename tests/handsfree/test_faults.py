"""Faults in HDR and while something is installed, and what is installed already: noticed, and never left worse than found."""

from typing import ClassVar

import numpy as np
import pytest

from bench.faults import HDR, IN_HDR, made
from bench.faulty import BringsAlong, broken
from bench.site import Site
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import Standing, StoppedError, perform
from tests.handsfree.jobs import adjusted


@pytest.mark.parametrize(
    ("kind", "fault", "is_attended", "is_put_back"),
    [
        ("hdr", "aim lost a little", False, True), ("hdr", "curtain", True, False), ("hdr", "door", False, False),
        ("hdr late", "aim lost in colours", True, False), ("installed", "aim lost a little", False, True),
        ("installed", "aim lost in colours", True, False), ("installed", "hand", False, False),
        ("installed", "early hand", False, False), ("hdr", "other input", False, True), ("installed", "other input", True, False),
        ("sdr", "input for a while", False, False),
        ("installed", "patch before", False, False), ("installed", "follows late", False, False),
        ("hdr", "gains follow late", False, False), ("sdr", "other levels", False, True),
        ("hdr early", "other levels", False, True), ("installed", "other levels", True, False),
        ("sdr", "out of step", False, False), ("installed", "blanks", False, False), ("sdr", "answers late", False, False),
        ("sdr late", "peak rests", False, False), ("sdr late", "peak falls", False, True),
        ("installed", "brings along", False, False), ("installed", "fades", False, False),
    ],
)  # fmt: skip
def test_none_is_left_worse_than_found_in_hdr_or_by_what_is_installed(kind, fault, is_attended, is_put_back):
    seed = {"sdr": 300, "sdr late": 80_002, "hdr": 80_001, "hdr late": 80_002, "hdr early": 95_018, "installed": 300}[kind]
    rig, target, more, error = made(kind.split()[0], seed)
    display = broken(seed, fault, rig)
    display.is_attended = is_attended
    before = error()
    job = adjusted(display, target, **more, budget=IN_HDR)
    assert job.restored == is_put_back, job.desk.notes
    assert error() < (before + 0.1 if is_put_back else min(0.25 * before, 2.0)), job.desk.notes


def test_colours_that_are_seen_at_once_tell_nothing_of_gains_that_come_late():
    rig, target, more, error = made("sdr", 80_027)
    display, before = broken(80_027, "gains follow late", rig), error()
    job = adjusted(display, target, **more)
    assert (job.desk.following.came["turned"], job.desk.following.came["coloured"]) == (0, 1)
    display.wait(60.0)
    assert error() < 0.6 * before


@pytest.mark.parametrize("seed", [80_002, 80_005])
@pytest.mark.parametrize("fault", ["none", "aim lost"])
def test_what_a_choice_brings_along_is_put_back_too(seed, fault):
    rig, target, more, error = made("sdr", seed)
    display = BringsAlong(seed, fault, rig)
    before, found = error(), display._real()
    job = adjusted(display, target, **more)
    assert job.restored == (fault == "aim lost")
    stands = display._real()
    assert {name: job.desk.settings[name] for name in stands} == stands
    assert stands == found if job.restored else error() < 0.5 * before


def test_what_does_not_stay_where_it_is_put_is_said_once_it_was_tried():
    controls = [{"id": name, "label": name, "kind": "range", "min": 0, "max": 9, "step": 1, "value": 5} for name in "ab"]

    class Tied:
        """Two controls of which one follows the other."""

        values: ClassVar = {"a": 5, "b": 5}

        def set(self, control, value):
            self.values[control] = value
            self.values["a"] = self.values["b"]
            return value

        def look(self):
            return Standing(dict(self.values))

    desk = Desk(controls)
    perform(desk.put({"a": 2, "b": 7}), Tied())
    assert (desk.settings["a"], desk.settings["b"]) == (7, 7)
    assert [note for note in desk.notes if "does not stay" in note and note.endswith(": a.")]


def installed(site, given=None):
    desk = Desk(site.controls, budget=IN_HDR, given=given or {})
    job = Job(desk, HDR, by="install", takes=site.display.optics.build.installs)
    perform(job.run(), site)
    return job, site.hdr_truth(HDR)[0]


def test_what_is_installed_already_is_taken_away_first_and_comes_back_where_it_is_known():
    site = Site(1, "p4", 6, signal="hdr10")
    bare = site.hdr_truth(HDR)[0]
    first, one = installed(site)
    # Whoever knows what it was can bring it back.
    again, other = installed(site, first.desk.given)
    assert other.mean() < 1.1
    assert any("taken away first: tone, curves, cube" in note for note in again.desk.notes)
    perform(again.put_back(), site)
    np.testing.assert_allclose(site.hdr_truth(HDR)[0], one, atol=0.3)
    # Stopped just when the first of it was taken away, and before that was answered.
    away = site.uninstall

    def stops(what):
        away(what)
        raise StoppedError

    site.uninstall = stops
    third = Job(Desk(site.controls, budget=IN_HDR, given=first.desk.given), HDR, by="install", takes=again.takes)
    with pytest.raises(StoppedError):
        perform(third.run(), site)
    site.uninstall = away
    assert site.display.optics.installed.of("p4").tone is None
    perform(third.put_back(), site)
    np.testing.assert_allclose(site.hdr_truth(HDR)[0], one, atol=0.3)
    # Whoever does not has nothing to put back, and says so.
    unknown, other = installed(site)
    assert (unknown.has_lost, unknown.restored, other.mean() < 1.1) == (True, False, True)
    assert any("Fenvik knows nothing of" in note for note in unknown.desk.notes)
    # What is only said to be there, since the display was reset, is believed to be gone.
    for what in ("tone", "curves", "cube"):
        site.uninstall(what)
    stale, other = installed(site, first.desk.given)
    perform(stale.put_back(), site)
    np.testing.assert_allclose(site.hdr_truth(HDR)[0], bare, atol=0.4)


@pytest.mark.parametrize(("lost", "said"), [(0.7, "lost its aim"), (1.0, "room has become lighter")])
def test_light_that_is_lost_while_that_is_found_out_is_not_taken_for_something_installed(lost, said):
    site = Site(1, "p4", 6, signal="hdr10")
    read, away, calls = site.read, site.uninstall, []
    state = {"share": 1.0, "day": 0.0}

    def takes_away(what):
        away(what)
        if not calls:
            state.update(share=lost, day=0.0 if lost < 1.0 else 0.6)

    def ask(words):
        calls.append(words)
        state.update(share=1.0, day=0.0)
        return True

    def reads(percent):
        fraction, xyz = read(percent)
        return fraction, state["share"] * xyz + state["day"]

    site.uninstall, site.ask, site.read = takes_away, ask, reads
    job, left = installed(site)
    assert (job.has_lost, left.mean() < 1.2) == (False, True), job.desk.notes
    assert said in calls[0]
