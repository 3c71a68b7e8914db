"""A display that does not stay as it is set, and a meter that is moved: noticed, mended, and never left worse than found."""

import numpy as np
import pytest

from bench.awaited import result_of
from bench.faulty import Faulty
from bench.site import Site
from fenvik.core.colour.curves import pq
from fenvik.core.colour.space import xy_to_xyz
from fenvik.core.colour.target import TARGETS
from fenvik.core.measure.correction_patches import correction_list
from fenvik.core.procedures import job as job_module
from fenvik.core.procedures import reference
from fenvik.core.procedures.correcting import NAMED, correct
from fenvik.core.procedures.doubt import INSTALLED, agree, standing_out
from fenvik.core.procedures.greys import Greys
from fenvik.core.procedures.samelight import LOOK_S
from fenvik.core.procedures.steps import RefusedError, perform
from fenvik.core.procedures.taken import Taken
from fenvik.standins.rpc import Refusal
from tests.handsfree.jobs import adjusted

TARGET = TARGETS["bt709-bt1886"]


class Moody(Site):
    """A site at which something happens by itself: ``mood`` after so many sets, ``lapse`` after so many readings."""

    def __init__(self, *args, mood=None, sets=40, lapse=None, reads=60, **more):
        super().__init__(*args, **more)
        self.mood, self.lapse, self.after, self.reads_left = mood, lapse, sets, reads

    def set(self, control, value):
        made = super().set(control, value)
        if self.sets == self.after and self.mood is not None:
            self.mood(self)
        return made

    def read(self, percent):
        fraction, xyz = super().read(percent)
        self.reads_left -= 1
        return fraction, xyz if self.reads_left >= 0 or self.lapse is None else self.lapse(xyz)


class Compared(Site):
    """A site with a colorimeter, corrected by a reference beside it."""

    def __init__(self, *args, **more):
        super().__init__(*args, **more, meter=0)
        self.reference, self.matrix = self.bench.meters[1], np.eye(3)

    def read(self, percent):
        fraction, xyz = super().read(percent)
        return fraction, self.matrix @ xyz

    def read_by(self, meter, percent):
        fraction = self._show(percent)
        which = self.reference if meter == "reference" else self.meter
        try:
            return fraction, np.array(result_of(which.read({}))["xyz"])
        except Refusal:
            return fraction, np.zeros(3)

    def correct(self, matrix, made):
        self.matrix = matrix


def do(site, **more):
    job = adjusted(site, **more)
    return job, job.desk


def test_a_meter_that_has_lost_a_quarter_of_the_light_is_found_out_by_turning_everything_back_for_a_moment():
    site = Moody(3, "q2", 55, lapse=lambda xyz: 0.75 * xyz)
    found = dict(site.display.menu.values["q2"])
    job, desk = do(site)
    assert job.restored
    assert site.display.menu.values["q2"] == found
    assert any("Everything was turned back for a moment" in note for note in desk.notes)


@pytest.mark.parametrize("every", [25, 40])
def test_readings_that_slipped_are_read_again_and_nothing_is_learned_from_them(every):
    class Slipping(Moody):
        def read(self, percent):
            fraction, xyz = super().read(percent)
            slips, place = divmod(-self.reads_left, every)
            return fraction, xyz * ((0.7, 1.35)[slips % 2] if place == every // 2 else 1.0)

    site = Slipping(3, "q2", 55)
    _, desk = do(site)
    assert site.truth(TARGET)[0] < 0.6
    assert any("not confirmed by a second and a third" in note for note in desk.notes)
    assert desk.spent <= 150


@pytest.mark.parametrize(("light", "doubted"), [(1.4, []), (0.7, [4])], ids=["as its hue tells", "a slip"])
def test_a_full_colour_whose_controls_were_turned_is_doubted_only_where_the_newest_look_at_its_hue_denies_it(light, doubted):
    def patch(red, green, blue, share, green_at):
        fraction = np.array([red, green, blue]) / 100
        return Taken(fraction, share * 100 * fraction.max() ** 2.3 * np.array([0.9, 1.0, 1.1]), {"green-saturation": green_at})

    colours = [(100, 0, 0, 0.2), (0, 100, 0, 0.7), (0, 0, 100, 0.1), (0, 100, 100, 0.8), (100, 0, 100, 0.3), (100, 100, 0, 0.9)]
    before = [*(patch(*each, 0) for each in colours), patch(0, 75, 0, 0.7 * 1.4, 5)]
    greys = [patch(v, v, v, 1.0, 5) for v in (100, 80, 60)]
    now = [patch(*mix, share * (light if mix == [0, 100, 0] else 1.0), 5) for *mix, share in colours]
    assert standing_out([*greys, *now], before) == doubted


@pytest.mark.parametrize(
    ("made", "before", "doubted"),
    [
        ([(100, 100), (80, 61), (60, 32), (40, 12.5)], [], []),
        ([(100, 100), (80, 73), (60, 32), (40, 12.5)], [], [80]),
        ([(80, 73)], [(80, 61)], [80]),
        ([(80, 61.5)], [(80, 61)], []),
        ([(80, 73)], [], []),
        ([(5, 0.01)], [(5, 0.02)], []),
        ([(100, 0.2)], [], [100]),
        ([(100, 100), (80, 61), (74, 61.1), (70, 45), (40, 12.5)], [], [74]),
    ],
    ids=["a curve", "one beside it", "not as before", "as before", "alone", "too dark to tell", "no white", "the patch before"],
)
def test_what_stands_out_is_told_from_the_curve_or_from_what_was_read_before(made, before, doubted):
    of = [Taken(np.full(3, level / 100), np.full(3, light), {"g": 0}) for level, light in [*before, *made]]
    there = standing_out(of[len(before) :], of[: len(before)])
    assert set(doubted) <= {made[i][0] for i in there}
    assert bool(there) == bool(doubted)


@pytest.mark.parametrize(("level", "share", "is_doubted"), [
    (64, 1.0, False), (64, 0.88, False), (64, 1.4, True), (64, 0.5, True), (80, 0.95, False), (80, 0.5, True), (48, 1.3, True),
], ids=["as PQ has it", "already bent", "more than PQ has", "a slip", "at its end", "a slip there", "below its end"])  # fmt: skip
def test_a_pq_display_may_bend_down_anywhere_between_what_it_follows_and_its_end(level, share, is_doubted):
    gives = {at: min(float(pq(at / 100)), 700.0) * (share if at == level else 1.0) for at in (100, 80, 64, 48, 32, 16)}
    made = [Taken(np.full(3, at / 100), np.full(3, light), {"g": 0}) for at, light in gives.items()]
    assert bool(standing_out(made, [], is_hdr=True)) == is_doubted


def test_a_colour_that_comes_where_what_was_installed_should_bring_it_is_not_doubted():
    mixes = {(50, 30, 0): 1.0, (0, 40, 50): 1.03, (30, 0, 50): 1.5, (50, 50, 20): 1.0}
    lights = [20.0, 25.0, 32.0, 40.0]
    before, made = (
        [Taken(np.array(mix) / 100, np.full(3, light * (more if state else 1.0)), {INSTALLED: state})
         for (mix, more), light in zip(mixes.items(), lights, strict=True)] for state in (0, 1)
    )  # fmt: skip
    for aim, doubted in ((50.0, []), (32.0, [2])):
        assert standing_out(made, before, is_hdr=True, aims={(30, 0, 50): aim}) == doubted


@pytest.mark.parametrize(
    ("xy", "same", "doubted"),
    [
        ((0.3127, 0.3290), False, False), ((0.3200, 0.3340), False, False), ((0.3400, 0.3290), False, True),
        ((0.3140, 0.3290), True, False), ((0.3127, 0.3390), True, True),
    ],
    ids=["as those beside it", "a display's own tint", "a slip", "as before", "not as before"],
)  # fmt: skip
def test_a_slip_in_chromaticity_that_leaves_the_light_as_it_is_stands_out(xy, same, doubted):
    def grey(level, xy=(0.3127, 0.3290)):
        return Taken(np.full(3, level / 100), xy_to_xyz(xy, 100.0 * (level / 100) ** 2.3), {"g": 0})

    before = [grey(60)] if same else [grey(80), grey(40)]
    assert bool(standing_out([grey(60, xy)], before)) == doubted
    if same:
        assert agree(before[0], grey(60, xy)) == (not doubted)


def works(site):
    """The controls of processing that is at work on the picture, switched on."""
    known = [c for c in site.controls if (c.get("role") or "").startswith("process.") and c.get("off") is not None]
    return [c for c in known if c["kind"] in ("choice", "switch")]


def switch_on(site):
    for control in works(site):
        options = control["options"] if control["kind"] == "choice" else [True, False]
        on = [option for option in options if option != control["off"]][-1]
        site.display.set_control(site.mode, control["id"], on)


def flip(site):
    other = next(m for m in site.display.menu.modes.values() if "sdr" in m.signals and m.id != site.mode)
    site.display.choose_mode(other.id)


def test_a_display_that_leaves_its_mode_is_put_back_and_what_was_read_meanwhile_is_thrown_away():
    site = Moody(3, "q2", 55, mood=flip)
    before = site.truth(TARGET)
    job, desk = do(site)
    after = site.truth(TARGET)
    assert site.display.mode == "q2"
    assert any("left its picture mode by itself" in note for note in desk.notes)
    assert after[0] < 0.25 * before[0]
    assert not job.restored


def test_sensor_and_saver_that_come_back_are_set_off_again():
    site = Moody(3, "q2", 55, mood=switch_on, sets=60)
    switch_on(site)
    site.controls[:] = site.display.menu.described("q2")
    before = site.truth(TARGET)
    job, desk = do(site)
    assert len(works(site)) >= 2
    values = site.display.menu.values["q2"]
    assert all(values[c["id"]] == c["off"] for c in works(site))
    assert any("moved by themselves and were set again" in note for note in desk.notes)
    assert site.truth(TARGET)[0] < 0.4 * before[0]
    assert not job.restored


@pytest.mark.parametrize("share", [0.0, 0.2], ids=["something stands before it", "it looks past the screen"])
def test_a_meter_that_no_longer_sees_the_screen_ends_it_and_everything_is_put_back(share):
    site = Moody(3, "q2", 55, lapse=lambda xyz: share * xyz)
    found = dict(site.display.menu.values["q2"])
    job, desk = do(site)
    assert job.restored
    assert site.display.menu.values["q2"] == found
    assert any("lost its aim" in note for note in desk.notes)


@pytest.mark.parametrize("fault", ["curtain", "aim lost", "aim lost in colours", "door", "hand", "patch before"])
@pytest.mark.parametrize("is_attended", [True, False])
def test_light_that_becomes_another_is_noticed_and_whoever_stands_by_is_called(fault, is_attended):
    display = Faulty(80_003 if fault == "door" else 80_001, fault)
    display.is_attended = is_attended
    display.at_reading = 52 if fault == "hand" else display.at_reading
    found = display.truth(TARGET)[0]
    job = adjusted(display)
    is_called, is_brief = fault != "patch before", fault in ("door", "hand")
    assert display.calls == int(is_called)
    assert job.restored == (is_called and not is_attended and not is_brief)
    assert any("was waited for" in note for note in job.desk.notes) == (is_brief and not is_attended)
    assert display.truth(TARGET)[0] < (found + 0.01 if job.restored else 0.55 * found)


@pytest.mark.parametrize(
    ("fault", "at", "said"),
    [
        ("hand", 0, "not alike"), ("hand", 3, "not alike"), ("hand", 12, "not alike"),
        ("door", 0, "not alike"), ("door", 5, "begun anew"),
    ],
)  # fmt: skip
def test_what_is_found_while_the_light_is_another_is_read_again(fault, at, said):
    display = Faulty(80_003, fault)
    display.at_reading = at
    job = adjusted(display)
    assert display.truth(TARGET)[0] < 0.4, job.desk.notes
    assert any(said in note for note in job.desk.notes)
    assert not job.restored


def test_who_says_that_it_cannot_be_set_right_is_not_waited_for():
    display = Faulty(80_001, "hand")
    display.at_reading = 52
    display.ask, waited = lambda words: False, []
    display.wait = waited.append
    job = adjusted(display)
    assert (job.restored, LOOK_S in waited) == (True, False)


@pytest.mark.parametrize("late", [0.1, 1.0])
def test_what_moves_after_it_has_answered_is_waited_for_and_not_called_stuck(late):
    class Slow(Faulty):
        now, asked = 0.0, ()

        def wait(self, seconds):
            self.now += seconds
            for _, control, value in (each for each in self.asked if each[0] <= self.now):
                super().set(control, value)
            self.asked = [each for each in self.asked if each[0] > self.now]

        def set(self, control, value):
            self.wait(0.02)
            self.asked = [*self.asked, (self.now + late, control, value)]
            return self._real()[control]

        def read(self, percent):
            self.wait(1.0)
            return super().read(percent)

    rig = Slow(80_002, "none")
    job = adjusted(rig, TARGET, ("white", "grey"))
    assert (job.restored, rig.truth(TARGET)[0] < 0.5, job.desk.refused) == (False, True, set()), job.desk.notes
    assert not any("moved by" in note for note in job.desk.notes)
    assert rig.now < 400


def test_a_display_that_leaves_its_mode_whenever_it_is_turned_is_looked_at_before_it_is_read():
    class Leaving(Faulty):
        def set(self, control, value):
            self.is_elsewhere = True
            return super().set(control, value)

    rig = Leaving(80_002, "none")
    job = adjusted(rig)
    assert (job.restored, rig.truth(TARGET)[0] < 0.5, rig.readings < 120) == (False, True, True), rig.readings
    assert [note for note in job.desk.notes if "left its picture mode" in note][-1].endswith("It does so again and again.")


@pytest.mark.parametrize("refuses", [False, True])
def test_a_figure_among_the_controls_that_moves_all_the_time_is_left_to_itself(refuses):
    class Telling(Faulty):
        def __init__(self, seed):
            super().__init__(seed, "none")
            self.figure = {"id": "lux", "label": "Room light", "kind": "range", "role": None, "value": 40}
            self.figure |= {"min": 0, "max": 99, "step": 1}
            self.controls.append(dict(self.figure))
            self.rig.controls.append(self.figure)

        def set(self, control, value):
            if refuses and control == "lux":
                raise RefusedError("read only")
            return super().set(control, value)

        def look(self):
            self.figure["value"] = int(self.chance.integers(100))
            return super().look()

    rig = Telling(80_002)
    job = adjusted(rig, TARGET, ("white", "grey"))
    assert (job.restored, rig.truth(TARGET)[0] < 0.5) == (False, True), job.desk.notes
    assert sum("so it was left to itself" in note for note in job.desk.notes) == 1
    assert sum("thrown away" in note for note in job.desk.notes) <= 2


def test_a_setting_that_is_shown_in_two_places_is_one():
    site, plain = Site(0, "m2", 55), Site(0, "m2", 55)
    sets, looks = site.set, site.look
    shown = next(c for c in site.controls if c["role"] == "saturation")
    site.controls.insert(0, shown | {"id": "elsewhere"})

    def told():
        standing = looks()
        standing.values["elsewhere"] = standing.values[shown["id"]]
        return standing

    site.look = told
    site.set = lambda control, value: sets(shown["id"] if control == "elsewhere" else control, value)
    job, desk = do(site)
    do(plain)
    assert not job.restored, desk.notes
    assert not any("moved by" in note for note in desk.notes)
    assert site.display.menu.values["m2"] == plain.display.menu.values["m2"]


def test_a_display_that_never_stays_as_it_is_set_is_left_as_it_was_found():
    site = Site(3, "q2", 55)
    found, looks = dict(site.display.menu.values["q2"]), site.look

    def restless():
        standing = looks()
        standing.values["wb-gr"] = 17
        return standing

    site.look = restless
    job, desk = do(site)
    assert job.restored
    assert any("does not stay as it is set" in note for note in desk.notes)
    left = site.display.menu.values["q2"]
    assert {name for name in found if left[name] != found[name]} <= {"wb-gr"}


@pytest.mark.parametrize("seed", [55])
def test_a_correction_is_made_when_nothing_works_on_the_picture_any_more(seed):
    site = Compared(3, "q2", seed)
    switch_on(site)
    site.controls[:] = site.display.menu.described("q2")
    before = site.truth(TARGET)
    listed = [p for p in correction_list("four-colour", 10, "limited") if p.label in NAMED]
    job, desk = do(site, correction=listed)
    after = site.truth(TARGET)
    assert job.corrected.matrix is not None
    assert not any("off the sum of the three" in note for note in job.corrected.notes)
    assert after[0] < 0.7
    assert after[0] < 0.3 * before[0]
    assert len(desk.taken) + 2 * len(listed) <= 160


class Drifting(Compared):
    """A site whose colorimeter changes in the middle."""

    changed, count, when, until = np.diag([1.03, 1.0, 0.95]), 0, 70, 10**6

    @property
    def is_other(self):
        return self.when <= self.count < self.until

    def read_by(self, meter, percent):
        fraction, xyz = super().read_by(meter, percent)
        return fraction, xyz if meter == "reference" or not self.is_other else self.changed @ xyz

    def read(self, percent):
        fraction, xyz = super().read(percent)
        self.count += 1
        return fraction, self.matrix @ self.changed @ np.linalg.solve(self.matrix, xyz) if self.is_other else xyz


class DriftingBack(Drifting):
    """One that is as before after thirty readings."""

    when, until = 30, 60


@pytest.mark.parametrize(
    ("kind", "at", "said", "most"),
    [
        (Compared, (3, "q2"), "apart.", 0.7),
        (Drifting, (1, "p2"), "so the correction was made anew", 0.7),
        (DriftingBack, (3, "q2"), "in between", 0.7),
    ],
)
def test_the_reference_is_read_again_on_what_is_left_and_a_meter_that_changed_is_corrected_anew(kind, at, said, most):
    site = kind(*at, 77)
    listed = [p for p in correction_list("four-colour", 10, "limited") if p.label in NAMED]
    job, desk = do(site, correction=listed)
    assert any("The reference was read again" in note and said in note for note in desk.notes)
    assert site.truth(TARGET)[0] < most
    assert len(job.as_found) == len(job.as_left) == len(job.proof)


def test_when_a_meter_changed_is_found_and_what_it_read_before_counts_on():
    site, found, when = Drifting(1, "p2", 6), [], 40
    site.when = when
    listed = [p for p in correction_list("four-colour", 10, "limited") if p.label in NAMED]
    before = site.truth(TARGET)
    asks = Greys.changed_at

    class Watched(Greys):
        def changed_at(self, change):
            at, unlikely = asks(self, change)
            found.append(at)
            return at, unlikely

    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(job_module, "Greys", Watched)
        job, _ = do(site, correction=listed)
    assert abs(found[0] - when) <= 2
    mean, worst, colours, _ = site.truth(TARGET)
    assert (mean < 0.35 * before[0], worst < 0.6 * before[1], colours < before[2]) == (True, True, True)
    assert not job.restored


def test_a_correction_that_was_made_while_the_meter_changed_is_as_if_it_had_never_been(monkeypatch):
    """The reference is read again by chance, and just then the meter changes: the matrix that comes of it is right of nothing."""
    site, asks, compares, checks = Drifting(3, "q2", 20), reference._apart, reference.correct, []
    site.when, reads = 10**6, site.read_by
    listed = [p for p in correction_list("four-colour", 10, "limited") if p.label in NAMED]
    before = site.truth(TARGET)

    def check(*args, **more):
        off = yield from asks(*args, **more)
        checks.extend([off] if len(args[1]) > 1 else [])
        return off + 9.9 if len(checks) == 1 and len(args[1]) > 1 else off

    def correct(*args, **more):
        site.read_by = changing
        return (yield from compares(*args, **more))

    def changing(meter, percent):
        if percent[2] > max(percent[:2]):  # blue: white, red and green were read before
            site.when = 0
        return reads(meter, percent)

    monkeypatch.setattr(reference, "_apart", check)
    monkeypatch.setattr(reference, "correct", correct)
    job, desk = do(site, correction=listed)
    assert sum("made anew" in note for note in desk.notes) >= 2
    mean, worst, colours, _ = site.truth(TARGET)
    assert (mean < 0.7, worst < 1.3, colours < before[2]) == (True, True, True), (mean, worst, colours, desk.notes)
    assert not job.restored


@pytest.mark.parametrize(
    ("light", "said"),
    [
        (lambda label, n, meter: 0.8 if (label, meter) == ("white", "reference") else 1.0, "less than its parts together"),
        (lambda label, n, meter: 0.9 if n % 9 == 0 else 1.0, "read twice and is 10 % apart"),
        (lambda label, n, meter: 0.8 if label == "white" else 1.0, None),
        (lambda label, n, meter: 1.25 if label == "white" else 1.0, None),
    ],
    ids=["dimmed before the slow one", "dimmed with time", "dimmed alike before both", "a white sub-pixel"],
)
def test_a_correction_that_cannot_be_believed_is_refused_with_the_reason(light, said):
    native = np.array([[50.0, 25, 2], [35, 70, 12], [20, 8, 95]])
    reads = []

    class Rig:
        controls = []

        def read_by(self, meter, percent):
            reads.append(percent)
            share = light("white" if min(percent) == 100 else "other", len(reads), meter)
            xyz = share * (np.array(percent) / 100) @ native
            return np.array(percent) / 100, xyz * (1.0 if meter == "reference" else [1.03, 0.98, 1.05])

    listed = [p for p in correction_list("four-colour", 10, "limited") if p.label in NAMED]
    made = perform(correct(listed), Rig())
    assert (made.matrix is None) == (said is not None)
    assert said is None or said in made.notes[0]


def test_what_is_installed_follows_a_meter_that_changed_even_past_its_budget():
    target = TARGETS["bt2020-pq"]
    site = Drifting(1, "p4", 6, signal="hdr10")
    site.when = 95
    listed = [p for p in correction_list("four-colour", 10, "limited") if p.label in NAMED]
    _, _, peak, _ = site.hdr_truth(target)
    job = adjusted(site, target, correction=listed, by="install", takes=site.display.optics.build.installs, budget=140)
    greys, _, left, _ = site.hdr_truth(target)
    assert greys.mean() < 1.6
    assert left > 0.98 * peak
    assert any("readings more than were allowed" in note for note in job.desk.notes)
