"""HDR hands-free on the stand-ins, judged by their true light: by controls, by what can be installed, and by both."""

from dataclasses import replace
from fnmatch import fnmatch

import numpy as np
import pytest

from bench.hdr import Behind, HdrDisplay
from bench.hlg import HlgDisplay
from bench.installed import drawn
from bench.site import Site
from fenvik.core.colour.curves import pq_inverse
from fenvik.core.colour.target import TARGETS
from fenvik.core.models import room
from fenvik.core.models.greysolve import reachable
from fenvik.core.models.palette import palette_for
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import Job
from fenvik.core.procedures.steps import RefusedError, StoppedError, perform
from tests.handsfree.jobs import SDR, adjusted

PQ, HLG = TARGETS["bt2020-pq"], TARGETS["bt2020-hlg"]
MODES = {0: "m3", 1: "p4", 2: "c3", 3: "q3", 4: "l3"}
LEAST_LIGHT = 0.13  # of signal, 0.6 cd/m²: below it a stand-in's own black is what is read


def do(site, target, by="controls", **more):
    return adjusted(site, target, by=by, takes=site.display.optics.build.installs, **more, budget=140)


def site(index, seed, signal="hdr10", mode=""):
    return Site(index, mode or MODES[index], seed, signal=signal)


def to_the_roll_off(at, target, job):
    """Mean and worst error of greys with light up to where the display rolls off."""
    greys, _, peak, black = at.hdr_truth(target)
    levels = np.linspace(0.05, float(target.fraction(0.98 * peak, peak, black)), 21)
    mine = greys[(levels <= job.palette.roll.from_signal) & (levels > LEAST_LIGHT)]
    return mine.mean(), mine.max()


@pytest.mark.parametrize(("index", "seed"), [(0, 11), (1, 11), (2, 11), (3, 11), (4, 11)])
def test_controls_bring_greys_to_where_the_display_rolls_off(index, seed):
    here = site(index, seed)
    found, colours, peak, black = here.hdr_truth(PQ)
    job = do(here, PQ)
    left, colours_left, peak_left, black_left = here.hdr_truth(PQ)
    mean, worst = to_the_roll_off(here, PQ, job)
    assert (mean < 1.25, worst < 3.0) == (True, True)
    assert left.mean() < 0.6 * found.mean()
    assert colours_left.mean() < colours.mean() + 0.1
    # The lamp projector's tone that is nearest to the white wanted gives four parts in a hundred less light.
    assert peak_left > (0.95 if index == 4 else 0.98) * peak
    assert black_left < 1.03 * black + 0.001
    assert not job.restored
    assert any("then rolls off to" in note for note in job.desk.notes)
    assert len(job.desk.taken) <= 140


@pytest.mark.parametrize(("lacking", "target", "mode", "reached"), [
    ("white.gain.green white.offset.green white.at.*.green", PQ, "p4", 1.6),
    ("white.gain.green white.offset.green white.at.*.green", HLG, "p5", 0.9),
    ("white.at.*", PQ, "p4", 2.0),
])  # fmt: skip
def test_points_of_luminance_stand_in_for_those_that_a_light_lacks(lacking, target, mode, reached):
    """Some menus have points of red, blue and luminance; some of luminance alone, beside a two-point balance."""
    here = site(1, 55, "hlg" if target is HLG else "hdr10", mode)
    here.controls = [c for c in here.controls if not any(fnmatch(c["role"] or "", role) for role in lacking.split())]
    do(here, target)
    assert here.hdr_truth(target)[0].mean() < reached
    values = here.look().values
    assert sum(values[c["id"]] != 0 for c in here.controls if (c["role"] or "").startswith("gamma.at")) >= 5


@pytest.mark.parametrize(("sample", "seed", "loses"), [(Behind, 5018, True), (HdrDisplay, 5018, False)])
def test_white_balance_behind_a_roll_off_is_brought_to_pq_too_and_what_that_costs_at_the_top_is_said(sample, seed, loses):
    display = sample(seed)
    found = display.hdr_truth()
    job = adjusted(display, PQ, budget=140)
    left = display.hdr_truth()
    assert left["follows_mean"] < 0.15 * found["follows_mean"]
    assert (left["peak"] < 0.97 * found["peak"]) == loses
    assert any("takes light at the top too" in note for note in job.desk.notes) == loses


def test_gains_that_come_to_their_end_are_given_room_by_the_white_level(monkeypatch):
    """This lamp projector lacks a tenth of its light in HDR, and its gains are at their top before it is made up for."""
    left = {}
    for most in (0, room.MOST_ROOM):
        monkeypatch.setattr(room, "MOST_ROOM", most)
        here = site(4, 5)
        job = do(here, PQ)
        left[most] = to_the_roll_off(here, PQ, job)[0]
        turned = next(c["value"] for c in job.desk.by_role("white-level")) - job.desk.found["pic-2"]
        assert turned == (6 if most else 0)
        assert any("to give them room" in note for note in job.desk.notes) == bool(most)
    assert left[0] > 2.0
    assert left[room.MOST_ROOM] < 1.0


def test_gains_that_are_found_at_their_top_are_given_room_too():
    """Menus from which light can only be taken: what is wanted beyond that is told by the model alone."""
    here = site(0, 55)
    for control in here.controls:
        if (control["role"] or "").startswith("white.gain"):
            control["max"] = control["default"]
    job = do(here, PQ)
    assert here.hdr_truth(PQ)[0].mean() < 1.3
    assert any("to give them room" in note for note in job.desk.notes)


def test_what_lies_in_a_display_s_own_black_or_beyond_its_end_counts_less_and_oled_s_dark_counts_fully():
    levels = np.array([0.05, 0.1, 0.2, 0.3])
    wanted = PQ.xyz(np.repeat(levels[:, None], 3, axis=1), 100.0, 0.3)[:, 1]
    share = reachable(levels, PQ, 100.0, 0.3, None)
    np.testing.assert_allclose(share, np.clip(wanted / 1.5, 0.25, 1.0))
    assert (share[0], share[-1]) == (0.25, 1.0)
    assert (reachable(levels, PQ, 100.0, 0.0, None) == 1.0).all()


@pytest.mark.parametrize("seed", [3, 11])
def test_curves_a_cube_and_a_tone_bring_the_oled_to_what_its_sub_pixels_can(seed):
    here = site(1, seed)
    _, _, peak, black = here.hdr_truth(PQ)
    job = do(here, PQ, "install")
    greys, colours, peak_left, black_left = here.hdr_truth(PQ)
    assert greys.mean() < 1.0
    assert greys.max() < 3.5
    assert colours.mean() < 6.0  # 4.6 is what its red and green reach
    assert (peak_left > 0.98 * peak, black_left < black + 0.001) == (True, True)
    assert set(job.installer.installed) == {"tone", "curves", "cube"}
    assert all(c["value"] == job.desk.found[c["id"]] for c in job.desk.controls if not (c["role"] or "").startswith("process"))
    assert len(job.desk.taken) <= 140


@pytest.mark.parametrize(("signal", "by", "sizes", "most"), [
    ("sdr", "install", [9, 17], (0.4, 1.0, 1.0)), ("sdr", "both", [17, 33], (0.5, 1.1, 1.0)),
    ("hdr10", "install", [33, 65], (1.3, 8.0, 7.0)),
])  # fmt: skip
def test_a_display_that_takes_a_cube_alone_has_its_greys_put_in_place_by_it_too(signal, by, sizes, most):
    target, mode = (SDR, "p1") if signal == "sdr" else (PQ, "p4")
    here = Site(1, mode, 101, signal=signal)
    here.display.optics.build = replace(here.display.optics.build, installs={"cube": {"sizes": sizes}})
    job = adjusted(here, target, by=by, takes=here.display.optics.build.installs)
    assert set(job.installer.installed) == {"cube"}
    if signal == "sdr":
        greys, worst, colours, _ = here.truth(target)
    else:
        told, seen, _, _ = here.hdr_truth(target)
        greys, worst, colours = told.mean(), told.max(), seen.mean()
    assert (greys < most[0], worst < most[1], colours < most[2]) == (True, True, True), (greys, worst, colours)


@pytest.mark.parametrize(("without", "luminance"), [("tone", None), ("", 300.0)])
def test_a_display_that_takes_no_tone_or_has_one_before_its_light_keeps_its_peak(without, luminance):
    here = site(1, 200)
    peak = luminance or here.hdr_truth(PQ)[2]
    takes = {name: told for name, told in here.display.optics.build.installs.items() if name != without}
    adjusted(here, PQ, by="install", takes=takes, luminance=luminance, budget=140)
    greys, _, left, _ = here.hdr_truth(PQ)
    assert (greys.mean() < 1.0, greys[:-1].max() < 3.0) == (True, True)
    assert left > 0.96 * peak


def test_a_tone_that_may_not_be_higher_stays_and_where_white_ends_is_said():
    here = site(1, 200)
    install = here.install

    def first_alone(what, data):
        if what == "tone" and here.display.optics.installed.of("p4").tone is not None:
            raise RefusedError("Too bright a tone.")
        install(what, data)

    here.install = first_alone
    job = do(here, PQ, "install", steps=("light", "grey"), luminance=300.0)
    assert any("behind the tone" in note and "Too bright a tone." in note for note in job.desk.notes)
    assert not [note for note in job.desk.notes if "ended there" in note]


def test_the_light_of_a_pq_mode_is_turned_to_its_top():
    here = site(1, 3)
    here.set("pic-1", 60)
    here.controls = here.display.menu.described("p4")
    _, _, peak, _ = here.hdr_truth(PQ)
    job = do(here, PQ, steps=("light", "white", "grey"))
    assert here.hdr_truth(PQ)[2] > 1.2 * peak
    assert any("was turned to its top" in note for note in job.desk.notes)
    assert to_the_roll_off(here, PQ, job) < (1.6, 4.0)


@pytest.mark.parametrize("by", ["controls", "both"])
def test_light_that_would_take_every_grey_of_pq_is_left_at_its_top_and_a_reference_white_is_named(by):
    here = site(1, 900)
    peak = here.hdr_truth(PQ)[2]
    job = do(here, PQ, by, luminance=300.0)
    greys, _, left, _ = here.hdr_truth(PQ)
    assert (job.restored, greys.mean() < 1.4, left > 0.97 * peak) == (False, True, True)
    assert any("goes from 67" in note and "a reference white, 8" in note for note in job.desk.notes)


@pytest.mark.parametrize(("by", "luminance", "most"), [("controls", 300.0, 2.0), ("both", 150.0, 1.0), ("install", 300.0, 1.2)])
def test_a_lower_light_that_hlg_is_to_have_stays_and_is_no_fault_of_the_rest(by, luminance, most):
    here = site(1, 901, "hlg", "p5")
    job = do(here, HLG, by, luminance=luminance)
    greys, _, left, _ = here.hdr_truth(HLG)
    assert (job.restored, greys.mean() < most, left == pytest.approx(luminance, rel=0.09)) == (False, True, True)
    assert job.first[0].xyz[1] > 600.0 > job.as_found[0].xyz[1]


@pytest.mark.parametrize(("seed", "mean"), [(12024, 0.9), (12084, 0.7)])
def test_hlg_gives_no_peak_away_and_counts_the_black_that_is_left(seed, mean):
    display = HlgDisplay(seed)
    found = display.hlg_truth()
    adjusted(display, HLG, budget=140)
    left = display.hlg_truth()
    assert (left[0] < mean, left[3] > 0.98 * found[3]) == (True, True)


@pytest.mark.parametrize(("by", "seed"), [("controls", 3), ("install", 3), ("install", 118)])
def test_hlg_is_held_against_its_own_peak(by, seed):
    here = drawn(seed, "hlg") if seed > 100 else site(1, seed, "hlg", "p5")
    found, _, peak, _ = here.hdr_truth(HLG)
    do(here, HLG, by)
    greys, _, peak_left, _ = here.hdr_truth(HLG)
    assert greys[:-1].mean() < 1.0 < 3.0 < found.mean()
    assert peak_left > 0.98 * peak, "white itself is as unbalanced as that asks for, where one light is weak"


@pytest.mark.parametrize(("by", "may_cost", "white", "kept", "said"), [
    ("install", 0.02, 9.0, 0.98, "what white may cost of the peak is 2 %"),
    ("install", 0.15, 2.5, 0.94, "A white without a tint has cost"),
    ("both", 0.15, 1.0, 0.95, "A white without a tint has cost"),
])  # fmt: skip
def test_white_may_cost_more_of_hlg_s_peak_where_somebody_lets_it(by, may_cost, white, kept, said):
    here = drawn(102, "hlg")
    peak = here.hdr_truth(HLG)[2]
    job = do(here, HLG, by, may_cost=may_cost)
    greys, _, left, _ = here.hdr_truth(HLG)
    assert (greys[-1] < white, left > kept * peak) == (True, True), (greys[-1], left / peak)
    assert any(said in note for note in job.desk.notes), job.desk.notes


def test_what_white_costs_of_a_light_that_was_reached_is_not_the_light_s_doing():
    here = drawn(102, "hlg")
    job = do(here, HLG, "install", luminance=300.0, may_cost=0.15, steps=("light", "white", "grey"))
    assert any("A white without a tint has cost" in note for note in job.desk.notes), job.desk.notes
    assert not any("were wanted" in note for note in job.desk.notes)


def test_sdr_is_installed_too_and_a_display_that_takes_nothing_is_left_to_its_controls():
    here, target = Site(1, "p2", 3), TARGETS["bt709-bt1886"]
    do(here, target, "both")
    grey, worst, colour, _ = here.truth(target)
    assert (grey < 0.4, worst < 0.8, colour < 1.6) == (True, True, True), (grey, worst, colour)
    plain = site(0, 3)
    job = do(plain, PQ, "install")
    assert any("takes neither curves nor a cube" in note for note in job.desk.notes)
    assert not job.installer.installed


def test_a_roll_off_of_points_is_what_the_display_ends_by():
    here = site(1, 3)
    target = replace(PQ, knees=((0.6, 0.6), (0.85, 0.7)))
    job = do(here, target, "install", steps=("white", "grey"))
    # A light that is short is given room above the last point; the curves end at that.
    assert job.installer.installed["tone"]["knee"] == [[0.6, 0.6], [0.85, 0.72]]
    greys, _, peak, _ = here.hdr_truth(target)
    assert greys.mean() < 1.0
    assert pq_inverse(peak) == pytest.approx(0.7, abs=0.004)


def test_what_is_installed_is_taken_away_where_a_run_is_put_back():
    here = site(1, 3)
    before = here.hdr_truth(PQ)[0]
    job = Job(Desk(here.controls, budget=140), PQ, by="install", takes=here.display.optics.build.installs)
    sets, install = [], here.install

    def stops(what, data):
        install(what, data)
        sets.append(what)
        if what == "cube":
            raise StoppedError

    here.install = stops
    with pytest.raises(StoppedError):
        perform(job.run(), here)
    perform(job.put_back(), here)
    assert sets[-1] == "cube"
    assert here.display.optics.installed.of("p4").curves is None
    np.testing.assert_allclose(here.hdr_truth(PQ)[0], before, atol=0.3)


@pytest.mark.parametrize("peak", [60.0, 110.0, 750.0, 4000.0])
def test_patches_of_hdr_lie_below_the_peak_and_in_p3(peak):
    palette = palette_for(PQ, peak, 0.01)
    light = PQ.xyz(np.array(palette.full) / 100.0, peak, 0.01)
    assert light[:, 1].max() < 0.35 * peak
    assert 100.0 * palette.top == pytest.approx(max(p for p in palette.found if p < 100.0), abs=0.01)
    assert len(palette.proof(colours=True)) == 17
