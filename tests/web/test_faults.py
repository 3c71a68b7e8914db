"""Every mistake of a device in the middle of a long pass: it says so, stores nothing wrong, and goes on by itself."""

import threading

import numpy as np
import pytest

from fenvik.link import connection
from fenvik.standins import faults
from fenvik.web.devices.models import Device
from fenvik.web.passes import devices, engine, services
from fenvik.web.passes.models import PassState
from tests.web.served import until

pytestmark = pytest.mark.django_db(transaction=True)
LISTS = ("grey-21", "known")
METER = ("drop", "hang", "late", "garbage", "wrong-shape", "busy", "held", "too-dark")


@pytest.fixture(autouse=True)
def impatient(settings, monkeypatch):
    settings.LINK_SLACK_S = 0.6
    settings.DEVICE_PATIENCE_S = 12.0
    monkeypatch.setattr(faults, "LATE_S", 1.5)
    engine.stopping.clear()


@pytest.fixture
def ready(equipped):
    equipped.source = Device.objects.get(serial="BP1-1180")
    equipped.bits = 10
    equipped.lists = {"chosen": list(LISTS), "drift_every": 12}
    equipped.meter.facts["typical"] = [[0.01, 0.02], [100, 0.01]]
    equipped.meter.save()
    equipped.save()
    return equipped


def begin(tuning, person, now):
    return services.start_pass(tuning_id=tuning.pk, actor=person, now=now)


def light_of(started):
    return np.array([(row.x, row.y, row.z) for row in started.readings.order_by("id")])


@pytest.fixture
def sound(ready, person, now):
    """What the same pass reads with devices that make no mistakes."""
    done = begin(ready, person, now)
    engine.run(done.pk)
    return light_of(done)


def device_of(bench, role):
    every = {"meter": bench.meters, "source": bench.sources, "display": bench.displays}[role]
    serial = {"meter": "TS2-0031", "source": "BP1-1180", "display": bench.displays[0].serial}[role]
    return next(d for d in every if d.serial == serial)


@pytest.mark.parametrize(
    ("role", "kind"),
    [*(("meter", kind) for kind in METER), *(("source", kind) for kind in ("stuck", "drop", "hang", "garbage"))],
)
def test_a_mistake_in_the_middle_stores_nothing_wrong_and_passes_by_itself(
    role, kind, ready, sound, person, now, bench
):
    started = begin(ready, person, now)
    device = device_of(bench, role)
    device.fault.start(kind, after=11, lasts_s=1.2)
    thread = threading.Thread(target=engine.run, args=(started.pk,))
    thread.start()
    thread.join(90)
    device.fault.start("")
    started.refresh_from_db()
    assert started.state == PassState.DONE
    assert started.reason == ""
    rows = list(started.readings.order_by("id"))
    assert [row.index for row in rows] == list(range(len(started.patches))), "each patch once, in its order"
    lit = sound[:, 1] > 0.5
    np.testing.assert_allclose(light_of(started)[lit], sound[lit], rtol=0.03)


def test_a_meter_that_hangs_is_said_to_be_late_and_does_not_keep_anybody_from_stopping(
    ready, person, now, bench, settings, monkeypatch
):
    settings.LINK_SLACK_S = 600.0
    monkeypatch.setattr(devices, "OVERDUE_S", 0.3)
    monkeypatch.setattr(connection, "LOOK_S", 0.1)
    started = begin(ready, person, now)
    device_of(bench, "meter").fault.start("hang", after=3)
    running = threading.Thread(target=engine.run, args=(started.pk,))
    running.start()

    def state():
        started.refresh_from_db()
        return started.state

    until(lambda: state() == PassState.WAITING)
    assert "has not answered yet" in started.reason
    services.ask_to_stop(pass_id=started.pk, actor=person, now=now)
    running.join(90)
    device_of(bench, "meter").fault.start("")
    assert not running.is_alive()
    assert state() == PassState.STOPPED
    assert started.readings.count() == 3


def test_every_mistake_of_the_stand_ins_is_tried_here():
    tried = {*METER, "stuck", "unpaired"}
    assert tried == set(faults.KINDS)


def test_a_display_that_withdraws_its_pairing_ends_no_pass(ready, sound, person, now, bench):
    """A pass needs no pairing: what it read before is kept, and what comes after is as true."""
    started = begin(ready, person, now)
    device_of(bench, "display").fault.start("unpaired", after=0, lasts_s=0)
    engine.run(started.pk)
    started.refresh_from_db()
    assert started.state == PassState.DONE
    lit = sound[:, 1] > 0.5
    np.testing.assert_allclose(light_of(started)[lit], sound[lit], rtol=0.03)
