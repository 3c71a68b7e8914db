"""A run that leads the hand: the same job, where what is to be set is a list that a person enters."""

import uuid

import psycopg
import pytest
from django.urls import reverse

from fenvik.web.adjusting import handsfree, lists
from fenvik.web.adjusting.models import ChangeList, ListKind
from fenvik.web.adjusting.record import Record
from fenvik.web.controls.log import log_changes
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import values_of
from fenvik.web.devices.keyed import keyed_meter
from fenvik.web.passes import engine, services
from fenvik.web.passes.models import PassState
from tests.web.adjustable import adjustable
from tests.web.test_handsfree import sheet, truth

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("impatient")]


@pytest.fixture
def ready(person, bench, now):
    """A tuning whose settings are known, and whose display has no line any more."""
    tuning = adjustable(person, bench, now)
    tuning.display.link = None
    tuning.display.save()
    return type(tuning).objects.get(pk=tuning.pk)


def begin(tuning, person, now, **more):
    wanted = {"steps": ["white", "grey"], "budget": 120} | more
    return handsfree.start(tuning_id=tuning.pk, actor=person, now=now, by_hand=True, **wanted)


class Person:
    """Enters each list on the display with its remote, and then on the page."""

    def __init__(self, bench, tuning, person, now):
        self.menu, self.tuning, self.person, self.now = bench.displays[3].menu, tuning, person, now
        self.lists, self.entries = 0, 0

    def enter(self, rows=None):
        listed = lists.open_list(self.tuning.pk)
        left = lists.left_of(listed, values_of(self.tuning))
        chosen = left if rows is None else left[:rows]
        for row in chosen:
            self.menu.set("q2", row["control"], row["after"])
        self.entries += len(chosen)
        return lists.enter(
            tuning_id=self.tuning.pk, actor=self.person, list_id=listed.pk, controls=[r["control"] for r in chosen], now=self.now,
            group=uuid.uuid4(),
        )  # fmt: skip

    def turns(self, values):
        """Turn something of one's own accord, and log it."""
        for control, value in values.items():
            self.menu.set("q2", control, value)
        typed = {control: str(value) for control, value in values.items()}
        seen = len(values_of(self.tuning).changes)
        log_changes(tuning_id=self.tuning.pk, actor=self.person, typed=typed, seen=seen, now=self.now, group=uuid.uuid4())

    def go_through(self, started):
        """Enter what is listed until the run is over."""
        engine.run(started.pk)
        started.refresh_from_db()
        while started.is_open:
            assert started.state == PassState.PAUSED, started.reason
            self.lists += 1
            self.enter()
            engine.run(started.pk)
            started.refresh_from_db()


@pytest.fixture
def hand(ready, person, now, bench):
    return Person(bench, ready, person, now)


def test_a_person_who_enters_the_lists_gets_there(ready, person, now, bench, hand):
    before = truth(bench, bench.displays[3], "q2", ready.target)
    started = begin(ready, person, now, steps=["white", "grey", "colour"], budget=150)
    hand.go_through(started)
    assert started.state == PassState.DONE
    after = truth(bench, bench.displays[3], "q2", ready.target)
    assert before[0] > 4
    assert after[0] < 0.6
    assert sheet(ready) == {c["id"]: c["value"] for c in bench.displays[3].menu.described("q2")}
    job = started.run
    assert job.moves == hand.entries == ControlChange.objects.filter(of_pass=started).count()
    assert hand.lists <= 25
    assert ChangeList.objects.filter(of_pass=started, kind=ListKind.LED, closed_at__isnull=True).count() == 0


def test_what_cannot_be_entered_is_taken_as_it_stands(ready, person, now, bench, hand):
    started = begin(ready, person, now, steps=["white"], budget=90)
    engine.run(started.pk)
    hand.enter(rows=1)
    left = lists.open_list(ready.pk)
    wanted = lists.left_of(left, values_of(ready))[0]
    free = next(c for c in started.run.controls if c["kind"] == "range" and c["role"] == "saturation")
    instead = next(o for o in wanted_options(started, wanted) if o not in (wanted["before"], wanted["after"]))
    hand.turns({wanted["control"]: instead})
    lists.close(tuning_id=ready.pk, actor=person, list_id=left.pk, now=now)
    started.refresh_from_db()
    assert started.state == PassState.QUEUED, "it goes on by itself"
    engine.run(started.pk)
    gains = {c["id"] for c in started.run.controls if (c["role"] or "").startswith("white.gain")}
    while not gains & {row["control"] for row in lists.open_list(ready.pk).rows}:
        hand.enter()
        engine.run(started.pk)
    hand.turns({free["id"]: free["value"] + 2})
    hand.enter()
    hand.go_through(started)
    assert started.state == PassState.DONE
    assert sheet(ready) == {c["id"]: c["value"] for c in bench.displays[3].menu.described("q2")}
    first = started.steps.get(number=left.step + [r["control"] for r in left.rows].index(wanted["control"]))
    assert (first.asked["control"], first.came) == (wanted["control"], instead)
    assert sheet(ready)[free["id"]] == free["value"], "what somebody turned of their own accord is asked back"


def wanted_options(started, row):
    control = next(c for c in started.run.controls if c["id"] == row["control"])
    return range(int(control["min"]), int(control["max"])) if control["kind"] == "range" else control.get("options", [False, True])


def test_go_on_asks_for_the_same_list_again_and_a_stop_lists_the_way_back(ready, person, now, hand, signed_in):
    found = sheet(ready)
    started = begin(ready, person, now, steps=["white"], budget=90)
    engine.run(started.pk)
    hand.enter()
    engine.run(started.pk)
    first = lists.open_list(ready.pk)
    page = reverse("stop", args=[ready.pk, "adjust"])
    text = signed_in.get(page, {"work": "hands-free"}).content.decode()
    assert "Enter this with the display’s own remote" in text
    assert "leave the rest as it stands, and go on" in text
    services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    assert lists.open_list(ready.pk) == first
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.STOPPED
    back = lists.open_list(ready.pk)
    assert back.kind == ListKind.BACK
    hand.enter()
    assert sheet(ready) == found


def test_a_database_that_goes_away_in_the_middle_of_a_list_costs_nothing(ready, person, now, bench, hand, monkeypatch):
    started = begin(ready, person, now, steps=["white"], budget=90)
    engine.run(started.pk)
    hand.enter()
    kept, usual = [], Record.was_turned

    def goes_away(self, number, came):
        kept.append(number)
        if len(kept) == 2:
            raise psycopg.OperationalError
        usual(self, number, came)

    monkeypatch.setattr(Record, "was_turned", goes_away)
    with pytest.raises(psycopg.OperationalError):
        engine.run(started.pk)
    monkeypatch.setattr(Record, "was_turned", usual)
    hand.go_through(started)
    assert started.state == PassState.DONE
    assert sheet(ready) == {c["id"]: c["value"] for c in bench.displays[3].menu.described("q2")}


def test_it_is_not_offered_beside_a_meter_that_is_keyed_in(ready, person, now, signed_in):
    page = reverse("stop", args=[ready.pk, "adjust"])
    assert "led by hand" in signed_in.get(page).content.decode()
    ready.meter = keyed_meter(actor=person, name="Old meter", serial="", kind="colorimeter", floor=0.01, order="Yxy", now=now)
    ready.save()
    assert "led by hand" not in signed_in.get(page).content.decode()
    with pytest.raises(handsfree.HandsFreeError, match="without anybody typing"):
        begin(ready, person, now)


def test_it_needs_to_know_where_the_controls_stand(ready, person, now):
    ready.sheets.all().delete()
    with pytest.raises(handsfree.HandsFreeError, match="note them at Arrival"):
        begin(ready, person, now)
