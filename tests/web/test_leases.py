"""One holder a device: two tunings on one display, a page in the middle of a pass, two people, a display that refuses."""

import datetime as dt
import uuid

import pytest
from django.utils import timezone

from fenvik.link.faults import DeviceError
from fenvik.web.adjusting import handsfree, lists, services
from fenvik.web.controls.log import ChangedMeanwhileError, log_changes, undo
from fenvik.web.controls.maps import read_over_link
from fenvik.web.controls.values import values_of
from fenvik.web.devices.leases import EndedError, HeldError, hold
from fenvik.web.devices.models import Lease
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.refusals import PassOpenError
from fenvik.web.passes.services import ask_to_stop, start_pass
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning
from tests.web.adjustable import adjustable


@pytest.fixture
def oled(person, bench, now):
    return adjustable(person, bench, now, index=3, mode="Expert", luminance=120.0)


def really(bench, tuning):
    return {c["id"]: c["value"] for c in bench.displays[3].menu.described(tuning.mode_id)}


def is_true(bench, tuning):
    """Whether the log says what the display has."""
    return values_of(Tuning.objects.get(pk=tuning.pk)).now == really(bench, tuning)


def over_link(tuning, person, typed, **more):
    seen = more.pop("seen", tuning.changes.count())
    return lists.set_over_link(
        tuning_id=tuning.pk, actor=person, typed=typed, seen=seen, now=timezone.now(), group=uuid.uuid4(), **more
    )


def by_hand(tuning, person, typed):
    return log_changes(
        tuning_id=tuning.pk, actor=person, typed=typed, seen=tuning.changes.count(), now=timezone.now(), group=uuid.uuid4()
    )


@pytest.fixture
def another(oled, person):
    """A second tuning of the same display, with instruments of its own."""
    meter = oled.meter.__class__.objects.create(
        firm=person.firm, role="meter", name="Other", serial="O1", host="", port=1, facts=oled.meter.facts | {"keyed": True}
    )
    source = oled.source.__class__.objects.create(
        firm=person.firm, role="source", name="Disc", serial="O2", host="", port=1,
        facts={"keyed": True, "bits": [8], "range": "limited"},
    )  # fmt: skip
    return Tuning.objects.create(
        visit=oled.visit, display=oled.display, name="Snug, day", picture_mode="Cinema", meter=meter, source=source
    )


def test_two_tunings_cannot_run_on_one_display(oled, another, person, now):
    first = start_pass(tuning_id=oled.pk, actor=person, now=now)
    with pytest.raises(PassOpenError, match=oled.name):
        start_pass(tuning_id=another.pk, actor=person, now=now)
    assert another.passes.count() == 0
    ask_to_stop(pass_id=first.pk, actor=person, now=now)
    start_pass(tuning_id=another.pk, actor=person, now=now)
    with pytest.raises(PassOpenError, match=another.name):
        services.read_level(tuning_id=oled.pk, actor=person, now=now)


def test_each_pass_holds_its_things_under_a_new_number(oled, person, now):
    numbers = []
    for _ in range(2):
        started = start_pass(tuning_id=oled.pk, actor=person, now=now)
        held = Lease.objects.filter(pass_of=started)
        assert {one.device or one.display for one in held} == {oled.meter, oled.source, oled.display}
        numbers.append(held.get(display=oled.display).epoch)
        ask_to_stop(pass_id=started.pk, actor=person, now=now)
    assert numbers[1] > numbers[0]


def test_a_page_sets_nothing_while_a_pass_reads_and_may_while_the_level_is_read(oled, person, now, bench):
    started = start_pass(tuning_id=oled.pk, actor=person, now=now)
    with pytest.raises(HeldError, match="is being read"):
        over_link(oled, person, {"wb-gr": "4"})
    assert is_true(bench, oled)
    ask_to_stop(pass_id=started.pk, actor=person, now=now)
    services.read_level(tuning_id=oled.pk, actor=person, now=now, keep_reading=True)
    assert len(over_link(oled, person, {"wb-gr": "4"})) == 1
    assert is_true(bench, oled)


def test_nothing_is_turned_or_logged_in_the_middle_of_a_run(oled, person, now, bench):
    by_hand(oled, person, {"pic-2": "70"})
    group = oled.changes.get().group
    bench.displays[3].set_control(oled.mode_id, "pic-2", 70)
    handsfree.start(tuning_id=oled.pk, actor=person, now=now, steps=["white"], budget=70)
    for act in (
        lambda: by_hand(oled, person, {"pic-2": "60"}),
        lambda: over_link(oled, person, {"pic-2": "60"}),
        lambda: undo(tuning_id=oled.pk, actor=person, group=group, now=now),
        lambda: read_over_link(tuning_id=oled.pk, actor=person, now=now),
    ):
        with pytest.raises(HeldError, match="hands-free run sets this display"):
            act()
    assert oled.changes.count() == 1
    assert is_true(bench, oled)


def test_a_page_that_is_out_of_date_turns_nothing(oled, person, bench):
    before = really(bench, oled)
    over_link(oled, person, {"wb-gr": "4"})
    with pytest.raises(ChangedMeanwhileError):
        over_link(oled, person, {"wb-gb": "9"}, seen=0)
    assert really(bench, oled) == before | {"wb-gr": 4}
    assert is_true(bench, oled)


def test_what_a_display_refuses_in_the_middle_leaves_display_and_log_equal(oled, person, bench, monkeypatch):
    from fenvik.standins.rpc import Refusal

    display, sets = bench.displays[3], bench.displays[3].set_control

    def refuses(mode, control, value):
        if control == "wb-gg":
            raise Refusal(DeviceError.UNKNOWN, "This control cannot be set now.")
        return sets(mode, control, value)

    monkeypatch.setattr(display, "set_control", refuses)
    before = really(bench, oled)
    with pytest.raises(DeviceError):
        over_link(oled, person, {"wb-gr": "4", "wb-gg": "5", "wb-gb": "6"})
    assert really(bench, oled) == before | {"wb-gr": 4}
    assert is_true(bench, oled)


def test_two_people_do_not_set_one_display_at_once(oled, person, now, bench):
    bo = User.objects.create_user(username="bo", firm=person.firm, role="calibrator")
    with hold(oled, bo) as held:
        with pytest.raises(HeldError, match="bo is setting controls"):
            over_link(oled, person, {"wb-gr": "4"})
        with pytest.raises(HeldError, match="bo is setting controls"):
            start_pass(tuning_id=oled.pk, actor=person, now=now)
        assert Pass.objects.filter(tuning=oled, finished_at__isnull=True).count() == 0
        # Whoever lets more time go by than any step takes has lost it.
        Lease.objects.filter(display=oled.display).update(until=now - dt.timedelta(minutes=1))
        with hold(oled, person), pytest.raises(EndedError):
            held.go_on()
    assert is_true(bench, oled)
    assert len(over_link(oled, person, {"wb-gr": "4"})) == 1


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("hours", [-1, 1], ids=["the worker's clock is behind", "the worker's clock is ahead"])
def test_what_a_reading_knew_does_not_hang_on_the_clocks_of_two_machines(hours, oled, person, now, bench):
    for value in ("3", "6"):
        engine.run(services.read_level(tuning_id=oled.pk, actor=person, now=now).pk)
        over_link(oled, person, {"wb-gr": value})
    engine.run(services.read_level(tuning_id=oled.pk, actor=person, now=now).pk)
    for row in Reading.objects.filter(pass_of__tuning=oled, pass_of__purpose=PassPurpose.ADJUST):
        row.started_at += dt.timedelta(hours=hours)
        row.save(update_fields=["started_at"])
    history = values_of(Tuning.objects.get(pk=oled.pk)).history
    rows = Reading.objects.filter(pass_of__tuning=oled, pass_of__purpose=PassPurpose.ADJUST).order_by("id")
    assert [history.epoch_of(row) for row in rows] == [0, 1, 2]
