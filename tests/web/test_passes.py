"""Passes as jobs: what is stored, what is asked, and what a fault costs."""

import threading
import uuid

import pytest
from django.db import IntegrityError, transaction

from fenvik.core.signal.patches import greyscale
from fenvik.web.passes import amending, engine, refusals, services, turns
from fenvik.web.passes.models import Pass, PassPurpose, PassState, Reading
from fenvik.web.passes.store import LostPassError, Store, Taken
from tests.web.served import until

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def impatient(settings):
    settings.LINK_SLACK_S = 0.6
    settings.DEVICE_PATIENCE_S = 1.5
    engine.stopping.clear()


def start(tuning, person, now, **more):
    return services.start_pass(tuning_id=tuning.pk, actor=person, now=now, **more)


def state(pass_):
    pass_.refresh_from_db()
    return pass_.state


def in_thread(pass_):
    thread = threading.Thread(target=engine.run, args=(pass_.pk,))
    thread.start()
    return thread


def test_a_pass_reads_every_patch_once_and_says_what_it_found(equipped, person, now):
    started = start(equipped, person, now)
    engine.run(started.pk)
    assert state(started) == PassState.DONE
    rows = list(started.readings.order_by("id"))
    assert [row.index for row in rows] == list(range(17))
    assert [row.label for row in rows[-6:]] == ["red", "green", "blue", "cyan", "magenta", "yellow"]
    assert rows[0].y > rows[5].y > rows[10].y > 0
    assert started.summary["grey_mean"] > 1
    assert started.summary["readings"] == 17
    assert 1500 < started.summary["contrast"] < 8000


def test_a_finished_pass_is_not_run_again(equipped, person, now):
    started = start(equipped, person, now)
    engine.run(started.pk)
    engine.run(started.pk)
    assert started.readings.count() == 17


def test_a_second_pass_on_the_same_meter_is_refused_in_one_sentence(equipped, person, now):
    first = start(equipped, person, now)
    with pytest.raises(refusals.PassOpenError, match="no second one was started"):
        start(equipped, person, now)
    assert Pass.objects.count() == 1
    with pytest.raises(IntegrityError), transaction.atomic():
        Pass.objects.create(
            tuning=equipped, purpose="found", patches=[], meter=equipped.meter, source=equipped.source, meter_facts={},
            bits=8, window=10, settle_s=0, average=1, created_at=now,
        )  # fmt: skip
    engine.run(first.pk)
    start(equipped, person, now)


def test_without_instruments_nothing_starts(tuning, person, now):
    with pytest.raises(refusals.NoInstrumentsError):
        start(tuning, person, now)
    assert not Pass.objects.exists()


def test_pause_resume_and_stop_keep_what_was_read(equipped, person, now):
    equipped.settle_s = 0.05
    equipped.save()
    started = start(equipped, person, now)
    thread = in_thread(started)
    until(lambda: started.readings.count() >= 3)
    services.ask_to_pause(pass_id=started.pk, actor=person, now=now)
    services.ask_to_pause(pass_id=started.pk, actor=person, now=now)
    thread.join(90)
    assert state(started) == PassState.PAUSED
    read = started.readings.count()
    assert 3 <= read < 17
    services.resume(pass_id=started.pk, actor=person)
    assert state(started) == PassState.QUEUED
    thread = in_thread(started)
    until(lambda: started.readings.count() >= read + 2)
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    thread.join(90)
    assert state(started) == PassState.STOPPED
    indexes = list(started.readings.order_by("id").values_list("index", flat=True))
    assert indexes == list(range(len(indexes)))
    assert started.summary["readings"] == len(indexes)
    with pytest.raises(refusals.PassFinishedError):
        services.resume(pass_id=started.pk, actor=person)
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)


def test_a_pass_that_nobody_works_on_is_stopped_at_once(equipped, person, now):
    started = start(equipped, person, now)
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    assert state(started) == PassState.STOPPED
    engine.run(started.pk)
    assert not started.readings.exists()


def test_a_repeating_pass_reads_on_until_it_is_stopped_and_follows_its_level(equipped, person, now):
    bright, dark = greyscale(11, 8, "limited")[2], greyscale(11, 8, "limited")[7]
    started = start(equipped, person, now, purpose=PassPurpose.ADJUST, patches=[bright], repeat=True)
    thread = in_thread(started)
    until(lambda: started.readings.count() >= 3)
    amending.change_patch(pass_id=started.pk, actor=person, patch=dark)
    until(lambda: started.readings.filter(label="30 %").count() >= 2)
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    thread.join(90)
    assert state(started) == PassState.STOPPED
    last = started.readings.order_by("-id")[0]
    assert last.y < started.readings.order_by("id")[0].y / 3


@pytest.mark.parametrize(
    ("kind", "words"),
    [
        ("drop", "closed the connection"),
        ("hang", "did not answer"),
        ("garbage", "not the device link"),
        ("wrong-shape", "does not allow"),
        ("busy", "Warming up"),
        ("held", "Another client"),
    ],
)
def test_a_fault_in_the_middle_costs_nothing_and_says_why(equipped, person, now, bench, kind, words):
    meter = bench.meters[1]
    equipped.meter.facts["typical"] = [[0.01, 0.02], [100, 0.01]]
    equipped.meter.save()
    started = start(equipped, person, now)
    meter.fault.start(kind, after=4)
    engine.run(started.pk)
    assert state(started) == PassState.PAUSED
    assert words in started.reason
    assert started.readings.count() == 4
    meter.fault.start("")
    services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    assert state(started) == PassState.DONE
    assert list(started.readings.order_by("id").values_list("index", flat=True)) == list(range(17))


def test_a_device_that_comes_back_soon_is_waited_for(equipped, person, now, bench, settings):
    settings.DEVICE_PATIENCE_S = 10
    started = start(equipped, person, now)
    bench.meters[1].fault.start("drop", after=4, lasts_s=0.7)
    thread = in_thread(started)
    until(lambda: state(started) == PassState.WAITING)
    assert "closed the connection" in started.reason
    thread.join(90)
    assert state(started) == PassState.DONE
    assert started.reason == ""
    assert started.readings.count() == 17


def test_a_pass_that_waits_for_a_device_can_be_stopped(equipped, person, now, bench, settings):
    settings.DEVICE_PATIENCE_S = 30
    started = start(equipped, person, now)
    bench.sources[0].fault.start("drop", after=3)
    thread = in_thread(started)
    until(lambda: state(started) == PassState.WAITING)
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    thread.join(90)
    assert state(started) == PassState.STOPPED


def test_too_dark_is_a_result_and_contrast_a_bound(equipped, person, now, bench):
    bench.displays[0].set_control("m2", "pic-1", 0)
    bench.displays[0].set_control("m2", "pic-3", 40)
    started = start(equipped, person, now)
    engine.run(started.pk)
    assert state(started) == PassState.DONE
    assert started.readings.get(label="0 %").too_dark
    assert started.summary["contrast_bound"]


def test_whoever_lost_a_pass_can_store_nothing(equipped, person, now):
    started = start(equipped, person, now)
    old, new = uuid.uuid4(), uuid.uuid4()
    plan = engine.take(started.pk, old)
    first = Store(started.pk, equipped.pk, old)
    try:
        engine.take(started.pk, new)
        taken = Taken(0, turns.patch_of(plan.rows[0]), (1.0, 2.0, 3.0), False, 1.0, 1.0, now)
        with pytest.raises(LostPassError):
            first.add(taken)
        with pytest.raises(LostPassError):
            first.set_state(PassState.DONE)
    finally:
        first.close()
    assert not Reading.objects.exists()


def test_a_pass_without_a_job_is_found(equipped, person, now):
    from django.db import connection

    started = start(equipped, person, now)
    assert services.without_a_job() == []
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM procrastinate_jobs")
    assert services.without_a_job() == [started.pk]
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    assert services.without_a_job() == []


def test_a_mistake_of_our_own_pauses_with_a_sentence_and_loses_nothing(equipped, person, now, monkeypatch):
    started = start(equipped, person, now)
    monkeypatch.setattr("fenvik.web.passes.kinds.kinds.after", [lambda pk: 1 / 0])
    engine.run(started.pk)
    assert state(started) == PassState.PAUSED
    assert "Fenvik itself" in started.reason
    assert started.readings.count() == 17


def test_another_device_at_the_address_is_not_read(equipped, person, now, bench):
    meter = equipped.meter
    meter.directory_host, meter.directory_port = "", None
    meter.host, meter.port = "127.0.0.1", bench.meters[0].port  # the colorimeter's
    meter.save()
    started = start(equipped, person, now)
    engine.run(started.pk)
    assert state(started) == PassState.PAUSED
    assert "Look the devices up again" in started.reason
    assert not started.readings.exists()


def test_a_device_that_moved_to_another_port_is_found_through_its_directory(equipped, person, now):
    equipped.meter.port = 9
    equipped.meter.save()
    started = start(equipped, person, now)
    engine.run(started.pk)
    assert state(started) == PassState.DONE


def test_a_pass_that_cannot_be_taken_over_pauses_with_the_reason_after_a_few_tries(equipped, person, now, monkeypatch):
    started = start(equipped, person, now)
    with monkeypatch.context() as patched:
        patched.setattr(engine, "take", lambda pass_id, token: 1 / 0)
        for _ in range(engine.MOST_TRIES):
            assert state(started) == PassState.QUEUED
            with pytest.raises(ZeroDivisionError):
                engine.run(started.pk)
    assert state(started) == PassState.PAUSED
    assert "Fenvik itself" in started.reason
    assert started.pk not in services.without_a_job(), "it is not taken up again every second"
    services.resume(pass_id=started.pk, actor=person)
    engine.run(started.pk)
    assert state(started) == PassState.DONE


@pytest.mark.parametrize("meanwhile", ["stop", "resume"])
def test_what_is_asked_while_a_pass_is_about_to_pause_is_not_lost(meanwhile, equipped, person, now, monkeypatch):
    started = start(equipped, person, now)
    services.ask_to_pause(pass_id=started.pk, actor=person, now=now)
    pause = engine.Store.pause

    def asked_meanwhile(self, reason="", **more):
        act = services.ask_to_stop if meanwhile == "stop" else services.resume
        act(pass_id=started.pk, actor=person, **({"now": now} if meanwhile == "stop" else {}))
        return pause(self, reason, **more)

    monkeypatch.setattr(engine.Store, "pause", asked_meanwhile)
    engine.run(started.pk)
    assert state(started) == (PassState.STOPPED if meanwhile == "stop" else PassState.DONE)


def test_a_device_that_is_gone_while_a_stop_is_asked_for_ends_the_pass(equipped, person, now, bench, settings, monkeypatch):
    settings.DEVICE_PATIENCE_S = 0.3
    started = start(equipped, person, now)
    bench.meters[1].fault.start("drop", after=3)
    pause = engine.Store.pause

    def stopped_meanwhile(self, reason="", **more):
        services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
        return pause(self, reason, **more)

    monkeypatch.setattr(engine.Store, "pause", stopped_meanwhile)
    engine.run(started.pk)
    assert state(started) == PassState.STOPPED
