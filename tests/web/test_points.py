"""Points, colours and both ends by hand: what is proposed is entered on the display, and its true light gets better."""

import re
import uuid
from dataclasses import replace

import pytest
from django.urls import reverse

from bench.site import Site
from fenvik.link.faults import DeviceError
from fenvik.standins.rpc import Refusal
from fenvik.web.adjusting import colours, handsfree, lights, lists
from fenvik.web.adjusting.models import ChangeList, ListKind
from fenvik.web.adjusting.points import points_of
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import values_of
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
    return adjustable(person, bench, now, index=1, mode="Cinema")


@pytest.fixture
def mixed(person, bench, now):
    for control, value in (("cx-red-g", 14), ("cx-green-b", 16), ("cx-blue-r", 12), ("cx-yellow-r", -18), ("cx-cyan-g", -16)):
        bench.displays[3].set_control("q2", control, value)  # spoilt on purpose: its colours are good by themselves
    return adjustable(person, bench, now, index=3, mode="Expert", luminance=120.0)


def truth(bench, index, mode, target):
    """Return mean and worst CIEDE2000 of true greys, and of true colours."""
    site = Site.__new__(Site)
    site.bench, site.display, site.mode = bench, bench.displays[index], mode
    return site.truth(target)


def run(started):
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == "done", started.reason


def turn(bench, index, mode, rows):
    """Turn the display as a person with a remote would."""
    for row in rows:
        bench.displays[index].set_control(mode, row["control"], row["after"])


def group():
    return uuid.uuid4()


def enter_all(tuning, listed, bench, index, mode, person, now):
    """Enter a list level by level, as the screen asks for it."""
    groups = list(dict.fromkeys(row["group"] for row in listed.rows))
    for name in groups:
        rows = [row for row in listed.rows if row["group"] == name]
        turn(bench, index, mode, rows)
        lists.enter(
            tuning_id=tuning.pk, actor=person, list_id=listed.pk, controls=[r["control"] for r in rows], now=now_again(),
            group=group(),
        )  # fmt: skip
    listed.refresh_from_db()
    assert listed.closed_at is not None, "the last one closes the list"


def now_again():
    from django.utils import timezone

    return timezone.now()


def test_twenty_points_come_right_in_two_passes_and_two_lists(oled, person, bench, now, signed_in):
    before = truth(bench, 1, "p2", oled.target)
    counts = []
    for _ in range(3):
        run(lists.read_points(tuning_id=oled.pk, actor=person, now=now_again()))
        counts.append(Tuning.objects.get(pk=oled.pk).passes.latest("id").readings.count())
        try:
            listed = lists.list_points(tuning_id=oled.pk, actor=person, now=now_again())
        except lists.NothingToEnterError:
            break
        assert [row["control"] for row in listed.rows] == [
            c["id"] for c in fresh(oled).display.menu_map.controls if c["id"] in {r["control"] for r in listed.rows}
        ], "in the menu's own order"
        assert all(row["before"] != row["after"] for row in listed.rows), "changed ones only"
        enter_all(oled, listed, bench, 1, "p2", person, now)
    after = truth(bench, 1, "p2", oled.target)
    assert counts[0] == 20
    assert before[0] > 2.5
    assert after[0] < 0.7
    assert after[1] < 1.3
    now_values = values_of(fresh(oled)).now
    assert now_values == {c["id"]: c["value"] for c in bench.displays[1].menu.described("p2")}


def test_a_list_keeps_its_progress_and_a_level_sent_twice_counts_once(oled, person, bench, now, signed_in):
    run(lists.read_points(tuning_id=oled.pk, actor=person, now=now_again()))
    listed = lists.list_points(tuning_id=oled.pk, actor=person, now=now_again())
    assert lists.list_points(tuning_id=oled.pk, actor=person, now=now_again()).pk == listed.pk
    address = reverse("stop", args=(oled.pk, "adjust")) + "?work=points"
    first = [row["control"] for row in listed.rows if row["group"] == listed.rows[0]["group"]]
    sent = {
        "stop": "adjust", "work": "points", "list": listed.pk, "controls": " ".join(first), "group": str(group()),
    }  # fmt: skip
    for _ in range(2):
        signed_in.post(reverse("act", args=(oled.pk, "entered")), sent)
    assert ControlChange.objects.filter(tuning=oled).count() == len(first)
    page = signed_in.get(address).content.decode()
    assert re.search(rf"Entered <b>{len(first)}</b> of {len(listed.rows)}", page)
    assert "Set all over the link" in page
    elsewhere = signed_in.get(reverse("stop", args=(oled.pk, "adjust"))).content.decode()
    assert "A list of points is being entered" in elsewhere
    signed_in.post(reverse("act", args=(oled.pk, "list-end")), {"stop": "adjust", "list": listed.pk})
    assert not ChangeList.objects.filter(closed_at__isnull=True).exists()
    late = signed_in.post(reverse("act", args=(oled.pk, "entered")), sent | {"group": str(group())}, follow=True)
    assert "in the meantime" in late.content.decode()
    assert ControlChange.objects.filter(tuning=oled).count() == len(first)


def test_a_list_is_set_over_the_link_and_everything_put_back_the_same_way(oled, person, bench, now):
    before = {c["id"]: c["value"] for c in bench.displays[1].menu.described("p2")}
    run(lists.read_points(tuning_id=oled.pk, actor=person, now=now_again()))
    listed = lists.list_points(tuning_id=oled.pk, actor=person, now=now_again())
    count = lists.enter_over_link(tuning_id=oled.pk, actor=person, list_id=listed.pk, now=now_again(), group=group())
    assert count == len(listed.rows)
    assert values_of(fresh(oled)).now == {c["id"]: c["value"] for c in bench.displays[1].menu.described("p2")} != before
    back = lists.list_back(tuning_id=oled.pk, actor=person, now=now_again())
    assert back.kind == ListKind.BACK
    lists.enter_over_link(tuning_id=oled.pk, actor=person, list_id=back.pk, now=now_again(), group=group())
    assert {c["id"]: c["value"] for c in bench.displays[1].menu.described("p2")} == before
    assert values_of(fresh(oled)).now == before


def test_a_whole_sheet_is_set_over_the_link_in_one_act_and_the_way_back_is_kept(oled, person, bench, now, signed_in):
    found = oled.sheets.latest("id")
    run(lists.read_points(tuning_id=oled.pk, actor=person, now=now_again()))
    listed = lists.list_points(tuning_id=oled.pk, actor=person, now=now_again())
    lists.enter_over_link(tuning_id=oled.pk, actor=person, list_id=listed.pk, now=now_again(), group=group())
    turned = dict(values_of(fresh(oled)).now)
    sent = {"stop": "arrival", "sheet": found.pk}
    shown = signed_in.post(reverse("act", args=(oled.pk, "set-sheet")), sent, follow=True).content.decode()
    assert f"{len(listed.rows)} controls were set over the link" in shown
    assert {c["id"]: c["value"] for c in bench.displays[1].menu.described("p2")} == found.values == values_of(fresh(oled)).now
    assert oled.sheets.latest("id").values == turned


def test_what_a_display_refuses_stays_on_the_list_and_all_else_is_set(oled, person, bench, now, signed_in, monkeypatch):
    run(lists.read_points(tuning_id=oled.pk, actor=person, now=now_again()))
    listed = lists.list_points(tuning_id=oled.pk, actor=person, now=now_again())
    first, sets = listed.rows[0], bench.displays[1].set_control

    def refuses(mode, control, value):
        if control == first["control"]:
            raise Refusal(DeviceError.UNSUPPORTED, "Not in this mode.")
        return sets(mode, control, value)

    monkeypatch.setattr(bench.displays[1], "set_control", refuses)
    sent = {"stop": "adjust", "work": "points", "list": listed.pk, "group": str(group())}
    shown = signed_in.post(reverse("act", args=(oled.pk, "enter-linked")), sent, follow=True).content.decode()
    rest = f"{len(listed.rows) - 1} other controls were set"
    assert f"The display refuses {first['label']} (Not in this mode). It is still on the list; {rest}." in shown
    left = lists.left_of(type(listed).objects.get(pk=listed.pk), values_of(fresh(oled)))
    assert [row["control"] for row in left] == [first["control"]]
    assert values_of(fresh(oled)).now == {c["id"]: c["value"] for c in bench.displays[1].menu.described("p2")}


def test_twenty_points_are_one_table_on_paper(oled, signed_in):
    paper = " ".join(signed_in.get(reverse("sheet", args=(oled.sheets.latest("id").pk,))).content.decode().split())
    table = paper.split("<caption>Points</caption>")[1].split("</table>")[0]
    assert table.count('<th scope="row">') == 20
    assert table.count("<td>") == 80
    assert "5% Red" not in paper


def test_a_line_that_breaks_while_a_list_is_set_leaves_the_sheet_true(oled, person, bench, now):
    run(lists.read_points(tuning_id=oled.pk, actor=person, now=now_again()))
    listed = lists.list_points(tuning_id=oled.pk, actor=person, now=now_again())
    bench.displays[1].fault.start("drop", after=10)  # how it stands is asked first
    with pytest.raises(Exception, match="closed the connection"):
        lists.enter_over_link(tuning_id=oled.pk, actor=person, list_id=listed.pk, now=now_again(), group=group())
    bench.displays[1].fault.start("")
    assert 0 < ControlChange.objects.filter(tuning=oled).count() < len(listed.rows)
    assert values_of(fresh(oled)).now == {c["id"]: c["value"] for c in bench.displays[1].menu.described("p2")}


def test_a_list_that_is_content_with_an_error_turns_fewer_and_ends_there(oled, person, now, signed_in):
    """What lies within the goal, and beside nothing that does not, is left alone; what it leaves is told."""
    run(lists.read_points(tuning_id=oled.pk, actor=person, now=now_again()))
    tuning = fresh(oled)
    whole, content = (points_of(tuning, values_of(tuning), recent_readings(tuning), goal).plan for goal in (0.0, 2.5))
    assert (content.steps != 0).sum() < (whole.steps != 0).sum()
    assert (whole.now > 2.5).any()
    assert (content.then <= 3.0).all()
    nothing = points_of(tuning, values_of(tuning), recent_readings(tuning), 9.0)
    assert not nothing.plan.steps.any()
    assert not nothing.proposes(3.0, 9.0)
    page = signed_in.get(reverse("stop", args=(oled.pk, "adjust")) + "?work=points&content=9").content.decode()
    assert "Within tolerance" in page
    answer = signed_in.post(reverse("act", args=(oled.pk, "points-list")), {"stop": "adjust", "work": "points", "content": "2,5"})
    assert answer.status_code == 302
    assert len(ChangeList.objects.get().rows) == (content.steps != 0).sum()
    page = signed_in.get(reverse("stop", args=(oled.pk, "adjust")) + "?work=points&content=x").content.decode()
    assert "Within tolerance" not in page


def test_luminance_is_left_out_where_the_tuning_wants_its_balance_alone(oled, person, bench, now, signed_in):
    run(lists.read_points(tuning_id=oled.pk, actor=person, now=now_again()))
    tuning = fresh(oled)
    too = points_of(tuning, values_of(tuning), recent_readings(tuning)).plan
    signed_in.post(reverse("act", args=(oled.pk, "curve")), {"stop": "adjust", "work": "points", "curve": "out"})
    tuning = fresh(oled)
    assert not tuning.corrects_curve
    alone = points_of(tuning, values_of(tuning), recent_readings(tuning)).plan
    assert alone.now.mean() < too.now.mean(), "a wrong curve is no error of the balance"
    steps = [p.steps for p in (too, alone)]
    assert not (steps[0] == steps[1]).all()


def test_six_colours_get_better_as_a_set(mixed, person, bench, now):
    run(handsfree.start(tuning_id=mixed.pk, actor=person, now=now, steps=["white", "grey"], budget=120))
    before = truth(bench, 3, "q2", mixed.target)
    run(colours.read_hues(tuning_id=mixed.pk, actor=person, names=[], now=now_again()))
    moves = 0
    for _ in range(24):
        tuning = fresh(mixed)
        every = colours.hues_of(tuning, values_of(tuning), recent_readings(tuning))
        hue = colours.chosen(every, "")
        if hue is None or hue.is_done:
            break
        if hue.nudge is not None:
            for turned, steps in zip(hue.turns, hue.nudge.steps, strict=True):
                if steps:
                    value = turned.value + steps * turned.step
                    bench.displays[3].set_control("q2", turned.id, value)
                    log(tuning, person, {turned.id: f"{value:g}"})
            moves += 1
        run(colours.read_hues(tuning_id=mixed.pk, actor=person, names=[hue.name], now=now_again()))
    after = truth(bench, 3, "q2", mixed.target)
    assert before[2] > 1.0
    assert after[2] < 0.7 * before[2]
    assert after[3] < before[3]
    assert moves <= 20


def log(tuning, person, typed):
    from fenvik.web.controls.log import log_changes

    seen = len(values_of(tuning).changes)
    log_changes(tuning_id=tuning.pk, actor=person, typed=typed, seen=seen, now=now_again(), group=group())


def test_a_colour_that_does_nothing_is_found_and_said(oled, person, bench, now, signed_in):
    run(colours.read_hues(tuning_id=oled.pk, actor=person, names=[], now=now_again()))
    bench.displays[1].set_control("p2", "cm-cyan-s", 10)
    log(fresh(oled), person, {"cm-cyan-s": "10"})
    run(colours.read_hues(tuning_id=oled.pk, actor=person, names=["cyan"], now=now_again()))
    tuning = fresh(oled)
    cyan = next(h for h in colours.hues_of(tuning, values_of(tuning), recent_readings(tuning)) if h.name == "cyan")
    assert cyan.dead == ["Cyan saturation"]
    assert cyan.nudge is None or not cyan.nudge.steps[[t.kind for t in cyan.turns].index("saturation")]


def test_a_colour_s_nudge_is_typed_logged_and_read_again(mixed, person, bench, now, signed_in):
    run(colours.read_hues(tuning_id=mixed.pk, actor=person, names=[], now=now_again()))
    page = signed_in.get(reverse("stop", args=(mixed.pk, "adjust")) + "?work=colours").content.decode()
    found = re.search(r'name="(value-cx-\w+-\w)"[^>]*value="([^"]+)"', page)
    assert found
    sent = {
        "stop": "adjust", "work": "colours", "seen": re.search(r'name="seen" value="(\d+)"', page)[1], "group": str(group()),
        "basis": re.search(r'name="basis" value="(\d+)"', page)[1], "hues": re.search(r'name="hues" value="(\w+)"', page)[1],
        found[1]: found[2],
    }  # fmt: skip
    signed_in.post(reverse("act", args=(mixed.pk, "turned")), sent)
    assert ControlChange.objects.filter(tuning=mixed).count() == 1
    again = mixed.passes.latest("id")
    assert again.purpose == PassPurpose.ADJUST
    assert again.patches[0]["label"].endswith("75 %")
    services.ask_to_stop(pass_id=again.pk, actor=person, now=now_again())


def test_light_is_brought_to_what_is_wanted_and_a_clipped_white_is_told_by_its_light(person, bench, now, signed_in):
    tuning = adjustable(person, bench, now, index=0, mode="Film", luminance=120.0)
    display = bench.displays[0]
    display.set_control("m2", "eco-1", "Off")
    display.set_control("m2", "pic-2", 100)
    display.set_control("m2", "wb-gr", 40)
    from fenvik.web.controls.maps import read_over_link

    read_over_link(tuning_id=tuning.pk, actor=person, now=now_again())
    said = []
    for _ in range(6):
        run(lights.read_lights(tuning_id=tuning.pk, actor=person, now=now_again()))
        values, rows = values_of(fresh(tuning)), recent_readings(fresh(tuning))
        told = lights.lights_of(fresh(tuning), values, rows)
        if not said:
            steps = {"kind": "choice", "options": [20, values.now["pic-1"], 80]}
            lamp = [c | steps if c["role"] == "light" else c for c in values.controls]
            says = lights.lights_of(fresh(tuning), replace(values, controls=lamp), rows).says
            assert any("choose another (20, 80), note it, and read what it does" in words for words, good in says if not good), says
        said.append(told)
        if not told.moves:
            break
        for move in told.moves:
            display.set_control("m2", move["id"], move["value"])
        log(fresh(tuning), person, {m["id"]: f"{m['value']:g}" for m in told.moves})
    assert any("Red" in words and "clips" in words for words, good in said[0].says if not good)
    assert not said[-1].moves
    assert said[-1].white == pytest.approx(120.0, rel=0.04)
    assert all(good for _, good in said[-1].says)
    page = signed_in.get(reverse("stop", args=(tuning.pk, "adjust")) + "?work=light").content.decode()
    assert "Nothing clips" in page
    assert "No grey has been read yet" not in page, "the picture shows both ends, though no whole pass was read"
    assert "amma averages" in page


def test_crushed_shadows_are_told_and_the_black_level_raised(person, bench, now):
    tuning = adjustable(person, bench, now, index=0, mode="Film")
    bench.displays[0].set_control("m2", "pic-3", 20)
    log(fresh(tuning), person, {"pic-3": "20"})
    run(lights.read_lights(tuning_id=tuning.pk, actor=person, now=now_again()))
    told = lights.lights_of(fresh(tuning), values_of(fresh(tuning)), recent_readings(fresh(tuning)))
    assert any("crushed" in words for words, good in told.says if not good)
    assert next(m for m in told.moves if m["id"] == "pic-3")["steps"] > 0


def test_lists_and_colours_of_another_firm_are_not_there(oled, stranger, client):
    client.force_login(stranger, backend="django.contrib.auth.backends.ModelBackend")
    acts = ("points-read", "points-list", "entered", "enter-linked", "list-end", "list-back", "hues-read", "lights-read", "curve")
    for name in acts:
        assert client.post(reverse("act", args=(oled.pk, name)), {"list": 1}).status_code == 404


@pytest.mark.parametrize(("index", "mode", "turned"), [(1, "p2", 0.0), (3, "q2", 0.3)])
def test_lists_end_when_they_bring_nothing_that_a_reading_can_tell(index, mode, turned, person, bench, now):
    hand = by_hand(person, bench, now, index, mode, signal="sdr", tolerance=1.0, turned=turned)
    found = truth_of(bench, hand)[0]
    entered = []
    while (listed := enter_a_list(hand)) is not None:
        entered.append(len(listed.rows))
        assert len(entered) <= 3
    assert all(count <= 10 for count in entered[2:]), "what is outside the tolerance yet, and nothing else"
    mean, worst = truth_of(bench, hand)
    assert mean < 0.75 * found
    assert (mean < 0.65, worst < 2.0) == (True, True), (mean, worst)


def truth_of(bench, hand):
    site = Site.__new__(Site)
    site.bench, site.display, site.mode = bench, hand.display, hand.mode
    return site.truth(hand.tuning.target)[:2]
