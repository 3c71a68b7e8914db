"""Whites at Groundwork: chosen blind on the display, read in every mode, matched by an eye that differs from the standard's."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from django.db import connection
from django.urls import reverse
from django.utils import timezone

from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.colour.space import xy_to_uv, xyz_to_uv
from fenvik.standins.eye import Eye
from fenvik.standins.rpc import Refusal
from fenvik.web.clients.models import Display, Room
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.services import resume
from fenvik.web.people.models import User
from fenvik.web.planning.whites import keep_candidate
from fenvik.web.stops.groundwork.whites import offered
from fenvik.web.visits.models import Tuning
from fenvik.web.whites import shifting
from fenvik.web.whites.choosing import pick
from fenvik.web.whites.driving import wanted
from fenvik.web.whites.models import WhiteMatch, WhiteTrial
from fenvik.web.whites.told import of_tuning
from tests.web.adjustable import adjustable
from tests.web.test_points import log

pytestmark = pytest.mark.django_db(transaction=True)
WARM, COOL = (0.006, 0.004), (-0.005, -0.01)


@pytest.fixture(autouse=True)
def at_once(monkeypatch):
    monkeypatch.setattr(shifting, "SETTLES_S", 0.0)  # stand-ins change at once


def whites_page(client, tuning, about="choose"):
    return client.get(reverse("stop", args=(tuning.pk, "groundwork")) + f"?view=whites&about={about}").content.decode()


def act(client, tuning, name, **data):
    about = "match" if name.startswith("match") else "choose"
    return client.post(
        reverse("act", args=(tuning.pk, name)), {"stop": "groundwork", "view": "whites", "about": about, **data}, follow=True
    ).content.decode()


def read_all(tuning, purpose=PassPurpose.WHITES):
    pass_ = Pass.objects.filter(tuning=tuning, purpose=purpose).order_by("-id").first()
    engine.run(pass_.pk)
    pass_.refresh_from_db()
    assert pass_.state == "done", pass_.reason
    return pass_


@pytest.fixture
def oled(person, bench, now):
    """The OLED's cinema mode with a source of ten bits, two whites of the firm, and how white is made on it."""
    tuning = adjustable(person, bench, now, index=1, mode="Cinema")
    Tuning.objects.filter(pk=tuning.pk).update(bits=10)
    for name, uv in (("a warm white", WARM), ("a cool white", COOL)):
        keep_candidate(actor=person, name=name, uv=uv, why="for a try")
    return Tuning.objects.get(pk=tuning.pk)


def seen(bench, index=1):
    """The u′v′ of the middle of the screen, by true light; of the scene, of its lightest grey."""
    display = bench.displays[index]
    picture = bench.world.picture
    place = (0.5, 0.5) if picture.codes is None else (0.34, 0.955)
    return xyz_to_uv(spectrum_to_xyz(display.optics.radiance(display.mode, place)))


def begun(client, tuning, way="turns", blind="1"):
    act(client, tuning, "white-drive")
    read_all(tuning)
    firm = [row["key"] for row in offered(tuning) if row["key"].startswith("firm")]
    return act(client, tuning, "white-begin", way=way, blind=blind, shows="scene", w=firm)


def test_a_blind_choice_shows_what_it_says_and_becomes_the_tuning_s_white(oled, bench, signed_in):
    """A client who likes the warm one, by what really stands on the screen, is understood; the page tells nobody which it is."""
    assert "Four readings" in whites_page(signed_in, oled)
    page = begun(signed_in, oled)
    assert "Begin the round" in page
    assert "read each first" in page
    act(signed_in, oled, "white-each")
    read_all(oled)
    shown = whites_page(signed_in, oled)
    assert shown.count(" off</td>") == 2
    aims = {name: xy_to_uv(wanted(oled, uv)) for name, uv in (("warm", WARM), ("cool", COOL))}
    for number in range(6):
        letters = {}
        act(signed_in, oled, "white-next")
        for i in range(2):
            trial = WhiteTrial.objects.get()
            if trial.place is None:
                page = act(signed_in, oled, "white-next")
                trial.refresh_from_db()
            assert trial.place == i
            at = seen(bench)
            letters[i] = min(aims, key=lambda name: np.hypot(*(aims[name] - at)))
            assert np.hypot(*(aims[letters[i]] - at)) < 0.0018, "what stands on the screen is that white"
            if i == 0:
                page = act(signed_in, oled, "white-next")
                assert "The eye rests" in page
                assert "Which is white?" not in page
        assert 'class="best"' not in whites_page(signed_in, oled)
        assert set(letters.values()) == {"warm", "cool"}
        page = act(signed_in, oled, "white-pick", place=next(i for i, name in letters.items() if name == "warm"))
        if number < 5:
            assert "was chosen" not in page
    trial = WhiteTrial.objects.get()
    assert trial.winner["name"] == "a warm white"
    assert "a warm white" in page
    assert "blind, in 6 rounds" in " ".join(page.split())
    act(signed_in, oled, "white-keep", words="like paper by day")
    oled.refresh_from_db()
    (part,) = oled.whites
    assert (part.kind, part.du, part.dv) == ("client", *WARM)
    assert "like paper by day" in part.why
    act(signed_in, oled, "drop-white-part", kind="client")
    assert 'name="words" value="like paper by day"' in whites_page(signed_in, oled), "it can be aimed at again"
    act(signed_in, oled, "white-keep", words="like paper by day")
    handover = signed_in.get(reverse("stop", args=(oled.pk, "arrival")) + "?view=target").content.decode()
    assert "like paper by day" in handover
    page = signed_in.get(reverse("display", args=(oled.display_id,))).content.decode()
    assert "White was chosen blind, in 6 rounds between" in page


def test_two_persons_who_press_next_at_once_go_on_once(oled, bench, signed_in):
    """Two pages that show the same step: the second press does nothing, so no rest is left out and no round is picked twice."""
    begun(signed_in, oled)
    while True:
        trial = WhiteTrial.objects.get()
        if trial.order and trial.rounds[-1]["seen"] == 2:
            break
        step = trial.step
        assert f'name="seen" value="{step}"' in whites_page(signed_in, oled)
        for _ in range(2):
            act(signed_in, oled, "white-next", seen=step)
        after = WhiteTrial.objects.get()
        assert (after.place is None) == (trial.place is not None), "a rest comes after every white, and a white after every rest"
        shown = bench.world.picture
        act(signed_in, oled, "white-next", seen=step)
        assert bench.world.picture is shown
    with ThreadPoolExecutor(2) as pool:
        tuning, person = oled.pk, User.objects.get(username="ina")

        def picks(place):
            try:
                pick(tuning_id=tuning, actor=person, place=place, now=timezone.now(), seen=trial.step)
            finally:
                connection.close()

        list(pool.map(picks, (0, 1)))
    trial = WhiteTrial.objects.get()
    assert len(trial.rounds) == 1
    assert "pick" in trial.rounds[0]


def test_a_white_that_could_not_be_shown_is_not_picked_and_what_was_turned_is_read_anew(oled, bench, signed_in, person, now):
    begun(signed_in, oled)
    source = next(s for s in bench.sources if s.serial == "BP1-1180")
    source.fault.start("drop", after=0)
    act(signed_in, oled, "white-next")
    trial = WhiteTrial.objects.get()
    assert (trial.rounds, trial.place) == ([], None), "the round has not begun"
    source.fault.start("")
    act(signed_in, oled, "white-next")
    trial.refresh_from_db()
    assert trial.place == 0
    control = next(c for c in oled.display.menu_map.controls if c["role"] == "white.gain.red")
    log(oled, person, {control["id"]: "3"})
    act(signed_in, oled, "white-next")  # the eye rests
    assert "Read first how white is made" in act(signed_in, oled, "white-next")
    trial.refresh_from_db()
    assert trial.place is None
    assert trial.rounds[0]["seen"] == 1


def test_how_white_is_made_is_not_read_in_another_mode(oled, bench, signed_in):
    bench.displays[1].choose_mode("p3")
    act(signed_in, oled, "white-drive")
    pass_ = Pass.objects.get(purpose=PassPurpose.WHITES)
    engine.run(pass_.pk)
    pass_.refresh_from_db()
    assert pass_.state == "paused"
    assert "Nothing was read in it" in pass_.reason
    assert not pass_.readings.exists()


def test_who_sees_no_difference_is_not_asked_on_and_on(oled, signed_in):
    begun(signed_in, oled, way="halves")
    for _ in range(2):
        act(signed_in, oled, "white-next")
        page = act(signed_in, oled, "white-pick", place="none")
    trial = WhiteTrial.objects.get()
    assert trial.ended_at is not None
    assert trial.chosen is None
    assert "could not be told apart" in page
    assert oled.white_parts == []


def test_an_open_choice_is_by_name(oled, bench, signed_in):
    begun(signed_in, oled, blind="")
    act(signed_in, oled, "white-show", left=1)
    name = WhiteTrial.objects.get().candidates[1]["name"]
    aim = xy_to_uv(wanted(oled, WARM if "warm" in name else COOL))
    assert np.hypot(*(seen(bench) - aim)) < 0.0015
    page = act(signed_in, oled, "white-end", chosen=1)
    assert "openly" in page
    assert "There is no such white" in act(signed_in, oled, "white-show")


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("white-begin", {"w": ["standard"]}, "A choice is between two"),
        ("white-begin", {"w": ["standard"], "typed": "0.31"}, "two numbers"),
        ("white-begin", {"w": ["standard"], "typed": "0.26 0.44", "way": "turns"}, "cannot be driven"),
        ("white-next", {}, "No choice is going on"),
        ("white-pick", {"place": "none"}, "No choice is going on"),
        ("white-keep", {"words": "x"}, "No choice has ended"),
        ("white-take-out", {"mode": "Vivid"}, "No shift has been read"),
        ("white-shifts", {"named": "Nothing like it"}, "The display has no mode Nothing like it for this signal"),
        ("match-step", {"way": "up"}, "stepped to blue"),
        ("match-step", {"way": "blue"}, "No two displays"),
        ("match-begin", {"reference": "x"}, "another display"),
        ("match-keep", {"match": "9"}, "no such match"),
    ],
)
def test_what_cannot_be_done_with_whites_is_one_sentence(oled, signed_in, name, data, words):
    if data.get("typed"):
        act(signed_in, oled, "white-drive")
        read_all(oled)
    assert words in act(signed_in, oled, name, **data)


def test_whites_must_be_driven_before_they_are_shown(oled, signed_in):
    assert "Read first how white is made" in act(signed_in, oled, "white-begin", w=["standard"], typed="0.3, 0.31")


def test_what_a_mode_adds_is_read_taken_out_and_proved(oled, bench, signed_in, person, now, monkeypatch):
    """By true light: the mode with a shift of its own; its white is aimed at and stands right once the tuning's mode does.

    A third mode is refused from the second round on: it says so, and nothing of it is told.
    """
    display = bench.displays[1]
    chosen, asked = display.methods["choose"], []

    async def choose(params):
        asked.append(params["mode"])
        if asked.count("p1") > 1 and params["mode"] == "p1":
            raise Refusal(8, "Not now.", name="p1")
        return await chosen(params)

    monkeypatch.setitem(display.methods, "choose", choose)
    act(signed_in, oled, "white-shifts", named=f"Bright room, {display.menu.modes['p1'].label}")
    pass_ = read_all(oled, PassPurpose.SHIFT)
    assert display.mode == oled.mode_id
    own, refused, plus = shifting.modes_of(Pass.objects.select_related("tuning").get(pk=pass_.pk))
    assert "Not now." in refused.passed_over
    assert (refused.xy, refused.read) == (None, 2)
    assert own.is_own
    assert plus.shift.is_told
    truth = []
    for mode in ("p2", "p3"):
        display.choose_mode(mode)
        bench.world.picture = type(bench.world.picture)((940, 940, 940), 10.0, (64, 64, 64))
        truth.append(xyz_to_uv(spectrum_to_xyz(display.optics.radiance(mode, (0.5, 0.5)))))
    assert plus.shift.uv == pytest.approx(truth[1] - truth[0], abs=0.0005)
    told = of_tuning(oled)
    assert [m["label"] for m in told["modes"]] == ["Cinema", "Bright room"]
    page = whites_page(signed_in, oled, "shift")
    assert "Aim so that Bright room ends right" in page
    assert "halfway" in page
    assert "Not now." in page
    act(signed_in, oled, "white-take-out", mode="Bright room")
    oled.refresh_from_db()
    aimed = xy_to_uv(oled.target.white_xy)
    assert aimed + plus.shift.uv == pytest.approx(xy_to_uv(oled.standard_white), abs=2e-4)
    assert "Bright room adds by itself" in oled.white_chain[1]
    act(signed_in, oled, "white-take-out", halfway=1)
    oled.refresh_from_db()
    half = xy_to_uv(oled.target.white_xy)
    assert half == pytest.approx(xy_to_uv(oled.standard_white) - 0.5 * plus.shift.uv, abs=2e-4)


def test_what_was_read_while_the_display_left_the_tuning_s_mode_is_read_again(oled, bench, signed_in, person, monkeypatch):
    display, left = bench.displays[1], []
    told = display.methods["state"]
    monkeypatch.setattr("fenvik.link.display.LATE_S", 0.0)

    async def state(params):
        answer = await told(params)
        if not left and answer["mode"] == oled.mode_id and bench.world.picture is not None and bench.world.picture.rgb[0] > 500:
            left.append(display.choose_mode("p3"))  # it shows its own when that is chosen, and another once it has been read
            return await told(params)
        return answer

    monkeypatch.setitem(display.methods, "state", state)
    act(signed_in, oled, "white-shifts", named="Bright room")
    pass_ = Pass.objects.get(purpose=PassPurpose.SHIFT)
    engine.run(pass_.pk)
    pass_.refresh_from_db()
    assert (pass_.state, left) == ("paused", [None])
    assert "which the others are held against, cannot be read" in pass_.reason
    assert pass_.readings.count() == 2
    resume(pass_id=pass_.pk, actor=person)
    assert read_all(oled, PassPurpose.SHIFT).readings.count() == 12 + 2


def test_two_displays_are_brought_together_by_an_eye_that_differs(oled, bench, signed_in, person, now):
    """The reference shows white by its own player; the OLED's is stepped by what the eye says, three times from three sides."""
    lcd, tv = bench.displays[0], bench.displays[1]
    lcd.choose_input("Apps")
    bench.world.front = tv.serial
    room = Room.objects.create(client=oled.visit.client, name="Snug")
    reference = Display.objects.create(room=room, maker="Orrefall", model="55", technology="lcd")
    act(signed_in, oled, "white-drive")
    read_all(oled)
    eye = Eye(3)
    words = {"yellower": "blue", "bluer": "yellow", "greener": "magenta", "more magenta": "green"}
    act(signed_in, oled, "match-begin", reference=reference.pk)
    assert "Try 1 of 3" in whites_page(signed_in, oled, "match")
    for _ in range(200):
        match = WhiteMatch.objects.get()
        if match.ended_at is not None:
            break
        look = eye.compare(lcd.optics.radiance(lcd.mode, (0.5, 0.5)), tv.optics.radiance(tv.mode, (0.5, 0.5)))
        if look.says == "the same":
            page = act(signed_in, oled, "match-same")
        else:
            act(signed_in, oled, "match-step", way=words[look.says])
    match.refresh_from_db()
    assert match.spread < 0.002
    assert "it looked the same at" in " ".join(page.split())
    stood = xyz_to_uv(spectrum_to_xyz(lcd.optics.radiance(lcd.mode, (0.5, 0.5))))
    apart = np.array([match.du, match.dv]) - (stood - xy_to_uv(oled.standard_white))
    assert np.hypot(*apart) > 0.002, "alike to this eye is not alike to the meter"
    act(signed_in, oled, "match-keep", match=match.pk)
    oled.refresh_from_db()
    assert oled.whites[0].kind == "display"
    assert "Snug" in oled.whites[0].why
    shown = signed_in.get(reverse("display", args=(oled.display_id,))).content.decode()
    assert "Looked like Snug: Orrefall 55 at" in shown
