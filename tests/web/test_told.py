"""What is turned at a paired display itself, or comes along with a choice: log and display stand alike, and it is said."""

import datetime as dt
import threading
import time
import uuid

import pytest
from django.urls import reverse
from django.utils import timezone

from fenvik.standins.faults import KINDS
from fenvik.web.adjusting.lists import set_over_link
from fenvik.web.adjusting.services import read_level
from fenvik.web.controls.models import ControlChange, Installed
from fenvik.web.controls.values import values_of
from fenvik.web.devices.displays import look
from fenvik.web.devices.models import Pairing
from fenvik.web.passes import engine, reader
from tests.web.adjustable import adjustable
from tests.web.reading import choose, fresh, run

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def paired(person, bench, now):
    return fresh(adjustable(person, bench, now))


def remote(bench, tuning, **values):
    """Turn controls in the display's own menu."""
    for name, value in values.items():
        bench.displays[3].set_control(tuning.mode_id, name, value)


def by_role(tuning, role):
    return next(c for c in values_of(tuning).controls if c.get("role") == role)


def stands(bench, tuning):
    return {c["id"]: c["value"] for c in bench.displays[3].menu.described(tuning.mode_id)}


def page(client, tuning, stop):
    return client.get(reverse("stop", args=(tuning.pk, stop))).content.decode()


@pytest.mark.parametrize("mode", ["as the display has it", "by its name"])
def test_what_was_turned_with_the_remote_is_logged_before_anything_is_read(paired, bench, person, signed_in, now, mode):
    red, green = by_role(paired, "white.gain.red"), by_role(paired, "white.gain.green")
    remote(bench, paired, **{red["id"]: 3, green["id"]: -2})
    if mode == "by its name":  # paired after the menu was noted by hand
        type(paired).objects.filter(pk=paired.pk).update(mode_id="")
    started = read_level(tuning_id=paired.pk, actor=person, now=now)
    engine.run(started.pk)
    assert values_of(paired).now == stands(bench, paired)
    told = list(ControlChange.objects.filter(tuning=paired, is_told=True).order_by("id"))
    assert {(c.control, c.before, c.after, c.by, c.of_pass_id) for c in told} == {
        (red["id"], 0, 3, None, started.pk), (green["id"], 0, -2, None, started.pk)
    }  # fmt: skip
    assert started.readings.get().knew == told[-1].pk
    body = page(signed_in, paired, "adjust")
    assert f"Turned at the display, and logged: <span class=\"d-inline-block\">{red['label']} 0 → 3" in body
    assert f"{red['label']} 0 → 3, at the display" in body
    engine.run(read_level(tuning_id=paired.pk, actor=person, now=now).pk)
    assert ControlChange.objects.filter(tuning=paired).count() == 2


@pytest.mark.parametrize("then", ["nothing was said since", "the display shows another tuning’s mode", "paired anew since"])
def test_how_a_display_stood_when_it_was_read_is_no_open_check_afterwards(paired, person, signed_in, now, then):
    choose(paired, "grey-11")
    run(paired, person, now)
    display = type(paired.display).objects.filter(pk=paired.display_id)
    if then == "the display shows another tuning’s mode":
        display.update(said={"mode": "m9", "signal": "hdr10", "input": "1", "at": (now - dt.timedelta(hours=1)).isoformat()})
    else:
        display.update(said=None)
    if then == "paired anew since":  # by what it said then it may have been another display
        Pairing.objects.update(at=timezone.now())
    body = " ".join(page(signed_in, paired, "groundwork").split())
    told = [words in body for words in (f"the display was in {paired.picture_mode} at", "the display showed SDR at")]
    assert told == [then != "paired anew since"] * 2


def test_what_is_turned_while_a_pass_is_read_is_said_with_it(paired, bench, person, signed_in, now, monkeypatch):
    red = by_role(paired, "white.gain.red")
    choose(paired, "grey-11")
    read = reader.Reader.read

    def turned(self, turn, *args, **more):
        if turn.index == 4:
            remote(bench, paired, **{red["id"]: 5})
        return read(self, turn, *args, **more)

    monkeypatch.setattr(reader.Reader, "read", turned)
    done = run(paired, person, now)
    assert done.state == "done"
    assert values_of(paired).now[red["id"]] == 5
    assert "while this was read, and logged:" in page(signed_in, paired, "found")


def test_what_moves_by_itself_is_told_from_what_somebody_turned(paired, bench, person, signed_in, now, monkeypatch):
    light, sensor = by_role(paired, "light"), by_role(paired, "process.ambient")
    choose(paired, "grey-11")
    read, readings = reader.Reader.read, []

    def follows(self, turn, *args, **more):
        readings.append(turn.index)
        if stands(bench, paired)[sensor["id"]]:
            remote(bench, paired, **{light["id"]: 30 + len(readings)})
        return read(self, turn, *args, **more)

    monkeypatch.setattr(reader.Reader, "read", follows)
    remote(bench, paired, **{sensor["id"]: True})
    run(paired, person, now)
    body = " ".join(page(signed_in, paired, "found").split())
    assert "If nobody did that, something in the display does." in body
    assert f"{sensor['label']} (on)" in body
    run(paired, person, now)
    moves = f"{light['label']} moved in the middle of several passes: something in the display turns it"
    assert moves in " ".join(page(signed_in, paired, "found").split())
    adjust = " ".join(page(signed_in, paired, "adjust").split())
    assert moves in adjust
    # However often it moved, it is one line: from where to where in all.
    assert adjust.split("Turned at the display")[1].split("</p>")[0].count(light["label"] + " ") == 2
    # Once what moves it is off, what came before is no reason to say so again.
    off = {sensor["id"]: "off"}
    set_over_link(tuning_id=paired.pk, actor=person, typed=off, seen=len(values_of(paired).changes), now=now, group=uuid.uuid4())
    run(paired, person, now)
    assert moves not in page(signed_in, paired, "found")


@pytest.mark.parametrize("stays", [True, False])
def test_a_choice_that_brings_others_along_leaves_what_was_wanted(paired, bench, person, now, monkeypatch, stays):
    red, green, preset = (by_role(paired, role) for role in ("white.gain.red", "white.gain.green", "gamma"))
    remote(bench, paired, **{green["id"]: 6})
    engine.run(read_level(tuning_id=paired.pk, actor=person, now=now).pk)
    other = next(option for option in preset["options"] if option != values_of(paired).now[preset["id"]])
    display, set_control = bench.displays[3], type(bench.displays[3]).set_control

    def brings(mode, control, value):
        made = set_control(display, mode, control, value)
        if control == preset["id"] or (control == red["id"] and not stays):
            for each in (red, green):
                set_control(display, mode, each["id"], 0)
        return made

    monkeypatch.setattr(display, "set_control", brings)
    typed = {red["id"]: "4", preset["id"]: other}
    values = values_of(paired)
    set_over_link(tuning_id=paired.pk, actor=person, typed=typed, seen=len(values.changes), now=now, group=uuid.uuid4())
    after = values_of(paired)
    assert after.now == stands(bench, paired)
    assert (after.now[preset["id"]], after.now[red["id"]]) == (other, 4 if stays else 0)
    # What nobody asked for is logged as it stands.
    told = {(c.control, c.after) for c in after.changes if c.is_told and c.of_pass_id is None}
    assert told == {(green["id"], 0)} | (set() if stays else {(red["id"], 0)})


@pytest.mark.parametrize("how", ["fails inside", "hang", "drop", "garbage", "unpaired"])
def test_a_display_that_does_not_answer_any_more_costs_no_reading(paired, bench, person, now, monkeypatch, how):
    choose(paired, "grey-11")
    read = reader.Reader.read

    def mute(self, turn, *args, **more):
        if turn.index == 4:
            if how in KINDS:
                bench.displays[3].fault.start(how, after=0, lasts_s=0)
            else:
                bench.displays[3].menu.described = None
        return read(self, turn, *args, **more)

    monkeypatch.setattr(reader.Reader, "read", mute)
    done = run(paired, person, now)
    assert (done.state, done.complete, done.readings.count()) == ("done", True, len(done.patches))
    assert not ControlChange.objects.filter(tuning=paired, is_told=True).exists()


def test_a_display_that_tells_late_what_was_set_is_not_taken_for_one_that_was_turned(paired, bench, person, now, monkeypatch):
    red, menu = by_role(paired, "white.gain.red"), bench.displays[3].menu
    described, told = menu.described, []

    def late(mode):
        told.append((time.monotonic(), described(mode)))
        return next(rows for at, rows in reversed(told) if at <= told[-1][0] - 1.0 or at == told[0][0])

    menu.described = late
    just_now, typed = dt.datetime.now(dt.UTC), {red["id"]: "4"}
    set_over_link(tuning_id=paired.pk, actor=person, typed=typed, seen=0, now=just_now, group=uuid.uuid4())
    told.append((time.monotonic(), told[0][1]))  # over another line it tells late again
    engine.run(read_level(tuning_id=paired.pk, actor=person, now=now).pk)
    assert [(c.control, c.after, c.is_told) for c in values_of(paired).changes] == [(red["id"], 4, False)]


def test_a_list_holds_on_a_display_that_moves_after_it_has_answered(paired, bench, person, now, monkeypatch):
    red, green = by_role(paired, "white.gain.red"), by_role(paired, "white.gain.green")
    display, set_control = bench.displays[3], type(bench.displays[3]).set_control

    def slow(mode, control, value):
        threading.Timer(0.3, set_control, (display, mode, control, value)).start()
        return stands(bench, paired)[control]

    monkeypatch.setattr(display, "set_control", slow)
    typed = {red["id"]: "4", green["id"]: "-3"}
    made = set_over_link(tuning_id=paired.pk, actor=person, typed=typed, seen=0, now=now, group=uuid.uuid4())
    assert [(c.control, c.before, c.after, c.is_told) for c in made] == [(red["id"], 0, 4, False), (green["id"], 0, -3, False)]
    assert values_of(paired).now == stands(bench, paired)


def test_a_tuning_follows_its_mode_where_the_display_counts_its_modes_anew(paired, bench, person, signed_in, now, monkeypatch):
    """The id of its mode is another mode's by now, and what was installed in it is of its own."""
    display, before = bench.displays[3], paired.mode_id
    Installed.objects.create(display=paired.display, mode=before, what="matrix", data={"rows": []}, at=now)
    look(tuning=paired, now=now)
    modes = [m for m in display.menu.modes.values() if "sdr" in m.signals]
    place = [m.id for m in modes].index(before)
    after = modes[place - 1].id
    renamed = {m.id: modes[(i + 1) % len(modes)] for i, m in enumerate(modes)}
    told = display.methods["modes"]

    async def anew(params):
        rows = await told(params)
        return [row | {"label": renamed[row["id"]].label} if row["id"] in renamed else row for row in rows]

    monkeypatch.setitem(display.methods, "modes", anew)
    display.choose_mode(after)
    started = read_level(tuning_id=paired.pk, actor=person, now=now)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == "done", started.reason
    assert fresh(paired).mode_id == after
    assert Installed.objects.get().mode == after
    look(tuning=paired, now=now)  # as it was loaded before
    assert fresh(paired).display.said["modes"][place - 1]["id"] == after
    engine.run(read_level(tuning_id=paired.pk, actor=person, now=now).pk)
    assert fresh(paired).mode_id == after
