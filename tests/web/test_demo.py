"""The demo's data: measured on stand-ins, made once, refreshed afterwards."""

import datetime as dt

import pytest

from fenvik.web.clients.models import Client
from fenvik.web.demo.build import PASSWORD, PERSON, fill
from fenvik.web.devices.models import Device
from fenvik.web.handovers.models import Handover
from fenvik.web.handovers.views import measured_on
from fenvik.web.passes.models import Pass, Reading
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning, Visit

pytestmark = pytest.mark.django_db(transaction=True)


def test_the_guest_house_is_filled_once_and_its_finished_job_was_really_measured(bench):
    now = dt.datetime.now(dt.UTC)
    assert fill(bench.address, now) is True
    assert {c.name for c in Client.objects.all()} == {"Lakeside guest house", "Birch Row 4", "Fern Cottage"}
    assert User.objects.get(username=PERSON).check_password(PASSWORD)
    job = Tuning.objects.get(name="Sitting room, night")
    found, left = (Pass.objects.get(tuning=job, purpose=purpose).summary for purpose in ("found", "left"))
    assert left["grey_mean"] < 0.6 < 1.4 < found["grey_mean"]
    assert Handover.objects.get().tuning_ids == [job.pk]
    assert Reading.objects.order_by("-at")[0].at < now - dt.timedelta(days=5)
    assert measured_on(Handover.objects.get().content) == [Visit.objects.earliest("on").on]
    assert {d.port for d in Device.objects.all()} == {d.port for d in bench.devices}
    Device.objects.update(port=9)
    assert fill(bench.address, now) is False
    assert {d.port for d in Device.objects.all()} == {d.port for d in bench.devices}
    assert Reading.objects.count() == job.passes.values_list("readings").count()
