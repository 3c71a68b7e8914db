"""An HDR tuning of the OLED on its own page: hands-free, points and colours by hand, judged by its true light."""

import uuid

import numpy as np
import pytest
from django.urls import reverse
from django.utils import timezone

from bench.site import Site
from fenvik.core.colour.curves import pq_inverse
from fenvik.standins.bench import make_bench
from fenvik.standins.world import Signal
from fenvik.web.adjusting import colours, handsfree, lists
from fenvik.web.adjusting.colours import hues_of
from fenvik.web.adjusting.given import told_of
from fenvik.web.controls.maps import read_over_link
from fenvik.web.controls.values import values_of
from fenvik.web.demo.build import served
from fenvik.web.devices.models import Device
from fenvik.web.passes import engine, services
from fenvik.web.passes.models import PassPurpose
from fenvik.web.passes.recent import recent_readings
from fenvik.web.visits.models import Tuning
from tests.web.adjustable import adjustable
from tests.web.byhand import by_hand, enter_a_list
from tests.web.reading import fresh

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def impatient(settings):
    settings.LINK_SLACK_S = 0.6
    engine.stopping.clear()


@pytest.fixture
def oled(person, bench, now):
    tuning = adjustable(person, bench, now, index=1, mode="Cinema HDR", pair=False)
    tuning.signal, tuning.target_name, tuning.tolerance = "hdr10", "bt2020-pq", 3.0
    tuning.save()
    return pair(tuning, person, bench, now)


def pair(tuning, person, bench, now):
    from fenvik.web.devices.displays import answer_code, show_code

    bench.world.signal = Signal(tuning.signal, "bt2020", 10, "limited", 60.0)
    show_code(tuning.display)
    answer_code(display=tuning.display, code="4711", actor=person, now=now)
    read_over_link(tuning_id=tuning.pk, actor=person, now=now)
    return fresh(tuning)


def truth(bench, tuning, index=1, mode="p4"):
    site = Site.__new__(Site)
    site.bench, site.display, site.mode = bench, bench.displays[index], mode
    return site.hdr_truth(tuning.target)


def run(started):
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == "done", started.reason
    return started


def test_hands_free_brings_greys_to_pq_and_says_where_it_rolls_off(oled, person, now, bench, signed_in):
    page = signed_in.get(reverse("stop", args=(oled.pk, "adjust")) + "?work=hands-free").content.decode()
    assert "Begin hands-free" in page
    before, _, peak, _ = truth(bench, oled)
    started = run(handsfree.start(tuning_id=oled.pk, actor=person, now=now, steps=["light", "white", "grey"], budget=110))
    after, _, peak_left, _ = truth(bench, oled)
    assert after.mean() < 0.3 * before.mean()
    assert peak_left > 0.98 * peak
    assert any("then rolls off to" in note for note in started.run.notes)
    assert values_of(fresh(oled)).now == {c["id"]: c["value"] for c in bench.displays[1].menu.described("p4")}


def test_what_can_be_installed_is_and_is_taken_away_again(oled, person, now, bench, signed_in):
    page = signed_in.get(reverse("stop", args=(oled.pk, "adjust")) + "?work=hands-free").content.decode()
    assert "the display takes a roll-off, curves, a cube, a matrix" in page
    before, _, peak, _ = truth(bench, oled)
    sent = {"stop": "adjust", "work": "hands-free", "steps": ["white", "grey", "colour"], "budget": "140"}
    sent |= {"by": "install", "goal": "0"}
    signed_in.post(reverse("act", args=(oled.pk, "hands-free")), sent)
    started = run(oled.passes.latest("id"))
    after, colours_left, peak_left, _ = truth(bench, oled)
    assert (after.mean() < 1.0, colours_left.mean() < 6.0, peak_left > 0.98 * peak) == (True, True, True)
    assert started.run.installed == ["tone", "curves", "cube"]
    given = "given a roll-off in place of its own, curves for its greys and a cube for its colours for this mode"
    assert given in told_of(oled)[0]
    assert {step.kind for step in started.steps.all()} >= {"inst", "read"}
    # A second run begins with the display itself, and can be taken back to what the first has left.
    again = run(handsfree.start(
        tuning_id=oled.pk, actor=person, now=now, steps=["white", "grey", "colour"], budget=140, by="install"
    ))  # fmt: skip
    assert truth(bench, oled)[0].mean() < 1.1
    assert any("What was installed before was taken away first: tone, curves, cube." in note for note in again.run.notes)
    signed_in.post(reverse("act", args=(oled.pk, "put-back")), {"stop": "adjust", "pass": again.pk})
    np.testing.assert_allclose(truth(bench, oled)[0], after, atol=0.4)
    signed_in.post(reverse("act", args=(oled.pk, "put-back")), {"stop": "adjust", "pass": started.pk})
    np.testing.assert_allclose(truth(bench, oled)[0], before, atol=0.4)
    started.run.refresh_from_db()
    assert started.run.installed == []
    assert told_of(oled) == []


@pytest.mark.parametrize(("typed", "kept"), [("12", 12.0), (None, 2.0), ("45", "White may cost 2 to 30 % of the peak.")])
def test_what_white_may_cost_of_hlg_s_peak_is_asked_for_and_reaches_the_run(typed, kept, oled, person, now, bench, signed_in):
    page = reverse("stop", args=(oled.pk, "adjust")) + "?work=hands-free"
    assert "may_cost" not in signed_in.get(page).content.decode(), "PQ says every light itself"
    oled.signal, oled.target_name, oled.mode_id = "hlg", "bt2020-hlg", "p5"
    oled.save()
    pair(oled, person, bench, now)
    assert 'name="may_cost"' in signed_in.get(page).content.decode()
    sent = {"stop": "adjust", "work": "hands-free", "steps": ["white", "grey"], "budget": "140", "by": "install", "goal": "0"}
    said = signed_in.post(reverse("act", args=(oled.pk, "hands-free")), sent | ({"may_cost": typed} if typed else {}))
    if typed == "45":
        assert kept in signed_in.get(said.url).content.decode()
        assert not oled.passes.exists()
        return
    started = run(oled.passes.latest("id"))
    assert started.run.may_cost == kept
    white = truth(bench, oled, mode="p5")[0][-1]
    told = "A white without a tint has cost" if typed else "so white keeps a tint"
    assert (any(told in note for note in started.run.notes), white < 3.0) == (True, bool(typed)), (white, started.run.notes)


@pytest.mark.parametrize("then", ["goes on", "stopped", "kept"])
def test_a_run_that_was_cut_off_while_it_installed_goes_on_where_it_was_or_is_put_back(then, oled, person, now, bench):
    before = truth(bench, oled)[0]
    started = handsfree.start(
        tuning_id=oled.pk, actor=person, now=now, steps=["white", "grey"], budget=110, by="install",
        on_stop="keep" if then == "kept" else "restore",
    )  # fmt: skip
    install, asked = bench.displays[1].optics.installed.of("p4").put, []

    def gone(what, data, able):
        asked.append(what)
        if len(asked) == 2:
            engine.stopping.set()
        return install(what, data, able)

    bench.displays[1].optics.installed.of("p4").put = gone
    engine.run(started.pk)
    engine.stopping.clear()
    bench.displays[1].optics.installed.of("p4").put = install
    read = started.readings.count()
    assert 0 < read < 110
    if then != "goes on":
        services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
        engine.run(started.pk)
        started.run.refresh_from_db()
        assert started.run.installed == ([] if then == "stopped" else ["tone", "curves"])
        assert (np.abs(truth(bench, oled)[0] - before).max() < 0.4) == (then == "stopped")
        return
    run(started)
    assert started.run.installed == ["tone", "curves"]
    assert truth(bench, oled)[0].mean() < 1.2
    assert not started.run.restored


def test_points_by_hand_follow_pq_up_to_where_the_panel_ends(oled, person, now, bench, signed_in):
    found, _, _, _ = truth(bench, oled)
    run(services.start_pass(tuning_id=oled.pk, actor=person, purpose=PassPurpose.FOUND, now=now))
    for _ in range(2):
        started = run(lists.read_points(tuning_id=oled.pk, actor=person, now=timezone.now()))
        shown = signed_in.get(reverse("stop", args=(oled.pk, "adjust")) + "?work=points")
        assert shown.status_code == 200
        levels = {row.r for row in started.readings.all()}
        assert len(levels) == len({row["rgb"][0] for row in started.patches})
        try:
            listed = lists.list_points(tuning_id=oled.pk, actor=person, now=timezone.now())
        except lists.NothingToEnterError:
            break
        lists.enter_over_link(tuning_id=oled.pk, actor=person, list_id=listed.pk, now=timezone.now(), group=uuid.uuid4())
    left, _, _, _ = truth(bench, oled)
    levels = np.linspace(0.05, 0.71, 21)
    assert left[levels < 0.6].mean() < min(1.8, 0.6 * found[levels < 0.6].mean())
    assert left.max() < found.max()


def left_of(bench, hand, index):
    """Mean and worst error by true light, of the levels with light of their own up to where the display ends."""
    left, _, peak, black = truth(bench, hand.tuning, index, hand.mode)
    levels = np.linspace(0.05, float(hand.tuning.target.fraction(0.98 * peak, peak, black)), 21)
    follows = left[(levels > 0.13) & (levels < 0.9 * float(pq_inverse(peak)))]
    return follows.mean(), follows.max()


OF_MODE = [(0, "m3", 0.8), (1, "p4", 0.95), (3, "q3", 1.3)]


@pytest.mark.parametrize(("index", "mode", "mean"), OF_MODE)
def test_who_follows_nudges_and_two_lists_brings_light_and_balance(index, mode, mean, person, now, bench, signed_in):
    hand = by_hand(person, bench, now, index, mode)
    assert max(hand.moves.values()) <= 6
    stop = reverse("stop", args=(hand.tuning.pk, "adjust"))
    page = signed_in.get(stop + "?work=two").content.decode()
    assert "error, with luminance" in page
    assert "colour alone" not in page[page.index("<svg") : page.index("</svg>")]
    # The laser's two ends still pull at each other after both were worked on twice.
    assert {1: "Go on to the points", 2: "Back to the high end", 3: "Go on to the points"}.get(index, "Go on to all levels") in page
    read = signed_in.get(stop + "?work=points").content.decode()
    assert ("All levels, one pass, one list." in read) == (index not in (1, 3))
    entered = [len(listed.rows) for _ in range(2) if (listed := enter_a_list(hand)) is not None]
    assert all(count <= 20 for count in entered)
    left = left_of(bench, hand, index)
    assert (left[0] < mean, left[1] < 3.0) == (True, True)


@pytest.mark.parametrize(("index", "mode", "aim", "mean"), [(1, "p4", {"roll_off": "bt2390", "diffuse": 100.0}, 2.2)])
def test_an_end_and_a_reference_white_of_its_own_are_brought_about_by_hand(index, mode, aim, mean, person, now, bench):
    """The OLED's darkest greys are below the meter's floor then, and rightly."""
    hand = by_hand(person, bench, now, index, mode, **aim)
    for _ in range(2):
        enter_a_list(hand)
    assert left_of(bench, hand, index)[0] < mean


def test_gains_that_end_are_given_room_by_the_white_level_by_hand_too(person, now, signed_in):
    """This sample's blue gain comes to its top before its light is made up for."""
    bench = make_bench(haste=float("inf"), pair_code="4711", seed=3)
    with served(bench) as address:
        bench.address = address
        hand = by_hand(person, bench, now, 4, "l3")
        before = left_of(bench, hand, 4)[0]
        run(lists.read_points(tuning_id=hand.tuning.pk, actor=person, now=timezone.now()))
        page = " ".join(signed_in.get(reverse("stop", args=(hand.tuning.pk, "adjust")) + "?work=points").content.decode().split())
        assert "B-Gain ends: Contrast gives room." in page
        assert "Contrast from 90 to 96 makes all three brighter." in page
        given_up = lists.list_points(tuning_id=hand.tuning.pk, actor=person, now=timezone.now())
        lists.close(tuning_id=hand.tuning.pk, actor=person, list_id=given_up.pk, now=timezone.now())
        page = " ".join(signed_in.get(reverse("stop", args=(hand.tuning.pk, "adjust")) + "?work=points").content.decode().split())
        assert "gives room" not in page, "a display that does not take it is not asked again"
        given_up.delete()
        rows = [enter_a_list(hand).rows for _ in range(2)]
        assert [row["label"] for row in rows[0]] == ["Contrast"]
        assert {row["label"] for row in rows[1]} == {"R-Gain", "G-Gain", "B-Gain"}
        assert before > 1.7
        assert left_of(bench, hand, 4)[0] < 0.7 * before


def test_what_no_gain_can_bend_is_said_with_what_can(person, now, signed_in):
    bench = make_bench(haste=float("inf"), pair_code="4711", seed=55)
    with served(bench) as address:
        bench.address = address
        hand = by_hand(person, bench, now, 4, "l3", roll_off="bt2390", mastered=1000.0)
        while enter_a_list(hand) is not None:
            pass
        shown = signed_in.get(reverse("stop", args=(hand.tuning.pk, "adjust")) + "?work=points").content.decode()
    said = " ".join(shown[shown.index("stays") :].split("</p>")[0].split())
    assert "and it is light: gains and offsets move a whole curve and bend none. What can bend it:" in said
    assert ">a target that is clipped at the peak</a" in said
    assert "As good as these steps allow." in shown


def test_colours_by_hand_are_looked_at_where_the_panel_can_give_them(oled, person, now, bench, signed_in):
    run(services.start_pass(tuning_id=oled.pk, actor=person, purpose=PassPurpose.FOUND, now=now))
    started = run(colours.read_hues(tuning_id=oled.pk, actor=person, names=[], now=timezone.now()))
    lights = [row.y for row in started.readings.all() if len({row.r, row.g, row.b}) > 1]
    assert max(lights) < 150  # cd/m²: far below its peak of 740
    hues = hues_of(fresh(oled), values_of(fresh(oled)), recent_readings(fresh(oled)))
    assert {hue.name for hue in hues} == {"red", "green", "blue", "cyan", "magenta", "yellow"}
    assert all(hue.error > 3 for hue in hues if hue.name in ("red", "green"))
    page = signed_in.get(reverse("stop", args=(oled.pk, "adjust")) + "?work=colours").content.decode()
    assert page.count('class="mark"') >= 6


def test_the_source_is_told_to_send_what_the_tuning_is_for_and_the_meter_tells_the_flicker(oled, person, now, bench, signed_in):
    bench.world.signal = Signal("sdr", "bt709", 10, "limited", 60.0)
    signed_in.post(reverse("act", args=(oled.pk, "look")), {"stop": "groundwork"})
    page = signed_in.get(reverse("stop", args=(oled.pk, "found"))).content.decode()
    assert "let the source send it" in page
    sent = signed_in.post(reverse("act", args=(oled.pk, "play-signal")), {"stop": "found"}, follow=True).content.decode()
    assert "sends HDR10, BT.2020, 10 bit." in sent
    assert (bench.world.signal.format, bench.world.signal.colorimetry) == ("hdr10", "bt2020")
    assert "let the source send it" not in sent
    with_it = next(d for d in Device.objects.filter(role="meter") if "refresh" in d.facts.get("features", []))
    told = signed_in.post(reverse("device-act", args=(with_it.pk, "refresh")), follow=True).content.decode()
    assert "times a second" in told
    without = Device.objects.filter(role="meter").exclude(pk=with_it.pk).first()
    asked = signed_in.post(reverse("device-act", args=(without.pk, "refresh")), follow=True)
    assert "cannot tell how often" in asked.content.decode()


def test_where_it_rolls_off_is_said_with_the_results(oled, person, now, bench, signed_in):
    oled.lists = {"chosen": ["grey-21"]}
    oled.save()
    for purpose in (PassPurpose.FOUND, PassPurpose.LEFT):
        started = run(services.start_pass(tuning_id=oled.pk, actor=person, purpose=purpose, now=timezone.now()))
    assert 350 < started.summary["follows_to"] < 520  # its knee lies at 452 cd/m²
    assert 0.9 < started.summary["tracking"] < 1.1
    page = " ".join(signed_in.get(reverse("stop", args=(oled.pk, "left"))).content.decode().split())
    assert "cd/m², then rolls off." in page
    assert "gamma, average" not in page


def test_the_light_of_an_hdr_mode_belongs_at_its_top_and_its_end_is_no_clipping(oled, person, now, bench, signed_in):
    from fenvik.web.adjusting import lights

    run(lights.read_lights(tuning_id=oled.pk, actor=person, now=timezone.now()))
    address = reverse("stop", args=(oled.pk, "adjust")) + "?work=light"
    page = signed_in.get(address).content.decode()
    assert "with the light at its top" in page
    assert "clips below white" not in page
    Tuning.objects.filter(pk=oled.pk).update(luminance=300.0)
    assert "Most displays bring every grey down with it" in signed_in.get(address).content.decode()
