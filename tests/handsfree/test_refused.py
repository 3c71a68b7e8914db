"""A display that refuses what its menu offers, and a meter that cannot read so much light: said, and left out."""

import numpy as np
import pytest

from bench.displays import RandomDisplay
from bench.faults import IN_HDR, made
from bench.faulty import Faulty
from bench.handsfree import BUDGET, TARGET
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import RefusedError, TooBrightError, perform
from tests.handsfree.jobs import adjusted

SEED = next(s for s in range(80_000, 80_100) if (d := RandomDisplay(s)).at and d.cms == "attribute" and not d.boost and not d.dead)


class Refusing(Faulty):
    """One that refuses some of its controls, beyond a range of its own where that is said, and some of what it is given."""

    def __init__(self, seed, rig=None, *, roles=(), room=None, takes_not=(), ceiling=np.inf):
        super().__init__(seed, "none", rig)
        self.refuses = {c["id"] for c in self.controls if str(c.get("role")).startswith(tuple(roles))} if roles else set()
        self.most, self.takes_not, self.ceiling, self.refusals = room, takes_not, ceiling, 0

    def set(self, control, value):
        if control in self.refuses and (self.most is None or not self.most[0] <= value <= self.most[1]):
            self.refusals += 1
            raise RefusedError("not now", room=self.most)
        return super().set(control, value)

    def install(self, what, data):
        if what in self.takes_not:
            raise RefusedError("not that")
        super().install(what, data)

    def read(self, percent):
        fraction, xyz = super().read(percent)
        if xyz[1] > self.ceiling:
            raise TooBrightError("too bright")
        return fraction, xyz


@pytest.mark.parametrize(
    "roles", [("white.gain.green",), ("white.at.",), ("white-preset", "gamma"), ("colour.green", "colour.red.")], ids=str
)
def test_a_control_that_cannot_be_set_is_left_out_and_said_once(roles):
    site = Refusing(SEED, roles=roles)
    before = site.rig.truth(TARGET)
    job = adjusted(site)
    after = site.rig.truth(TARGET)
    assert not job.restored
    assert after[0] < (0.6 if roles[0] == "white.at." else 0.3) * before[0], job.desk.notes
    (said,) = [note for note in job.desk.notes if note.endswith(": not now")]
    more = said.split(" and ")[1].split()[0] if " more " in said else "0"
    assert said.count(",") + int(more) == len(job.desk.refused)
    assert site.refusals <= len(job.desk.refused) + 3, "nobody asks again and again"  # one of each preset, for the first of them


@pytest.mark.parametrize("goes", [(-3, 3), (-50, 50)], ids=str)
def test_what_ends_sooner_than_was_said_or_sticks_is_found_out_without_a_word_from_the_display(goes):
    class Short(Faulty):
        def set(self, control, value):
            if control.startswith("gain"):
                value = min(max(value, goes[0]), goes[1])
            return super().set(control, value) if control != "at-50-red" else self._real()[control]

    site = Short(SEED, "none")
    before = site.rig.truth(TARGET)
    job = adjusted(site)
    assert site.rig.truth(TARGET)[0] < 0.5 * before[0], job.desk.notes
    assert [note for note in job.desk.notes if "left as" in note] == [
        "at-50-red was left as it is: it does not move, whatever it is set to."
    ]
    assert all(goes[0] <= c["value"] <= goes[1] for c in site.controls if c["id"].startswith("gain"))


def test_an_option_that_a_menu_refuses_costs_none_of_the_others():
    class Picky(Faulty):
        def set(self, control, value):
            if (control, value) == (preset["id"], refused):
                raise RefusedError("not that one")
            return super().set(control, value)

    site = Picky(SEED, "none")
    preset = next(c for c in site.controls if c["role"] == "white-preset")
    refused = next(option for option in preset["options"] if option != preset["value"])
    desk = Desk(site.controls, budget=BUDGET)
    perform(Job(desk, TARGET).run(), site)
    assert (desk.refused, site.rig.truth(TARGET)[0] < 0.5) == (set(), True), desk.notes
    assert f"{preset['label']}: the display refuses {refused}: not that one" in desk.notes


def test_a_range_that_is_narrower_than_was_said_is_kept_to():
    site = Refusing(SEED, roles=("white.at.", "white.gain"), room=(-3, 3))
    before = site.rig.truth(TARGET)
    job = adjusted(site)
    assert site.rig.truth(TARGET)[0] < 0.5 * before[0]
    assert site.refusals > 0
    assert not job.desk.refused
    assert all(-3 <= c["value"] <= 3 for c in site.controls if c["id"] in site.refuses)


@pytest.mark.parametrize(
    ("takes_not", "given"),
    [
        (("cube",), ("curves", "tone")), (("curves",), ("cube", "tone")), (("tone",), ("curves", "cube")),
        (("cube", "matrix"), ("curves", "tone")),
    ],
    ids=str,
)  # fmt: skip
def test_what_a_display_does_not_take_after_all_is_left_out(takes_not, given):
    rig, target, more, error = made("installed", 303)
    site = Refusing(303, rig, takes_not=takes_not)
    before = error()
    job = adjusted(site, target, **more, budget=IN_HDR)
    assert set(job.desk.given) - {"matrix"} == set(given)
    assert all(any(f"did not take the {what}" in note for note in job.desk.notes) for what in takes_not)
    assert error() < (1.0 if "curves" in takes_not else 0.4) * before


def test_light_beyond_what_the_meter_reads_is_left_where_it_was():
    rig, target, more, _ = made("hdr", 90_001)
    site = Refusing(90_001, rig, ceiling=500.0)  # its light stands lower, and would come to 542
    light = next(c for c in site.controls if c["role"] == "light")
    found = light["value"]
    job = adjusted(site, target, **more, budget=IN_HDR)
    assert (light["value"], job.restored) == (found, False)
    assert any("at its top the meter cannot read the light" in note for note in job.desk.notes)


def test_a_meter_that_cannot_read_what_is_found_ends_it_with_everything_as_it_was():
    site = Refusing(SEED, ceiling=5.0)
    found = {c["id"]: c["value"] for c in site.controls}
    job = adjusted(site)
    assert job.restored
    assert {c["id"]: c["value"] for c in site.rig.controls} == found
    assert any(note.startswith("too bright Every control was put back") for note in job.desk.notes)


def test_what_was_installed_before_and_cannot_be_brought_back_is_said_and_all_else_is_put_back():
    rig, _, _, _ = made("installed", 303)
    site = Refusing(303, rig, takes_not=("curves",))
    desk = Desk(site.controls, given={"curves": {}})
    control = next(c for c in desk.controls if c["kind"] == "range")
    found = control["value"]
    desk.stands_with({})
    perform(desk.set(control, control["min"]), site)
    perform(desk.put(desk.found), site)
    assert (control["value"], desk.given) == (found, {})
    assert desk.notes == ["What was installed before (curves) could not be brought back: not that"]
