"""The firm's time zone counts, on every page and for the day of a visit."""

import datetime as dt
import uuid

import pytest
from django.urls import reverse
from django.utils import timezone

from fenvik.web.clients.models import Client
from fenvik.web.controls.log import log_changes
from fenvik.web.handovers.services import make_handover
from fenvik.web.live.views import render_fragments
from fenvik.web.passes.models import Reading
from fenvik.web.people.models import LogEntry, Role
from fenvik.web.stops.options import Options

LATE = dt.datetime(2026, 11, 27, 23, 41, tzinfo=dt.UTC)  # the next morning in Tokyo


@pytest.fixture
def far(person):
    person.firm.time_zone = "Asia/Tokyo"
    person.firm.save()
    return person


def test_readings_and_the_day_of_a_handover_are_told_in_the_firms_zone(finished, far, now, signed_in, client):
    Reading.objects.filter(pass_of__tuning=finished).update(at=LATE, started_at=LATE)
    page = signed_in.get(reverse("stop", args=(finished.pk, "adjust"))).content.decode()
    assert "08:41:00" in page
    assert "23:41:00" not in page
    told = render_fragments(far.firm_id, finished.pk, "adjust", Options(), far.pk)
    assert "08:41:00" in told["hand"], "the live view says the same"
    handover = make_handover(visit_id=finished.visit_id, actor=far, now=now)
    client.logout()
    shown = client.get(reverse("handover", args=(handover.token,))).content.decode()
    assert "28 November 2026" in shown, "a client who looks from elsewhere reads the firm's own day"


def test_an_owner_says_which_zone_and_nonsense_is_refused(person, signed_in):
    person.role = Role.OWNER
    person.save()
    signed_in.post(reverse("people-act", args=("zone",)), {"zone": "Asia/Tokyo"})
    person.firm.refresh_from_db()
    assert person.firm.time_zone == "Asia/Tokyo"
    there = timezone.localtime(timezone.now(), dt.timezone(dt.timedelta(hours=9)))
    assert f"It is {there:%H:}" in signed_in.get(reverse("people")).content.decode()
    answer = signed_in.post(reverse("people-act", args=("zone",)), {"zone": "Lake/Side"}, follow=True)
    assert "such as Europe/Helsinki" in answer.content.decode()
    person.firm.refresh_from_db()
    assert person.firm.time_zone == "Asia/Tokyo"
    assert LogEntry.objects.filter(did="changed the time zone").count() == 1
    signed_in.post(reverse("people-act", args=("zone",)), {"zone": ""})
    assert "UTC" in signed_in.get(reverse("people")).content.decode()


def test_today_begins_by_the_firms_zone(far, signed_in, monkeypatch):
    monkeypatch.setattr(timezone, "now", lambda: LATE)
    client = Client.objects.create(firm=far.firm, name="A client")
    page = signed_in.get(reverse("new-visit"), {"client": client.pk}).content.decode()
    assert 'value="2026-11-28"' in page


def test_who_logged_something_meanwhile_is_told_in_the_firms_zone(far, equipped, signed_in, now):
    log_changes(tuning_id=equipped.pk, actor=far, typed={"wb-gr": "4"}, seen=0, now=LATE, group=uuid.uuid4())
    assert "08:41" in signed_in.get(reverse("stop", args=(equipped.pk, "adjust"))).content.decode()
