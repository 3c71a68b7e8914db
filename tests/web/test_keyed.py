"""A job with no link at all: patches that a person shows, values that a person types."""

import datetime as dt
import threading
import time

import pytest
from django.db import connection
from django.urls import reverse

from fenvik.web.devices.keyed import keyed_meter, keyed_source
from fenvik.web.devices.models import Device
from fenvik.web.passes import engine, refusals, services
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from tests.web.served import until

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True, params=[0.0, 5.0], ids=["let go of", "held"])
def calm(settings, request):
    settings.KEYED_LINGER_S = request.param
    engine.stopping.clear()


@pytest.fixture
def keyed(tuning, person, now):
    """The tuning with a meter and a source that are keyed in."""
    tuning.meter = keyed_meter(
        actor=person, name="Old meter", serial="", kind="colorimeter", floor=0.01, order="Yxy", now=now
    )
    tuning.source = keyed_source(actor=person, name="A disc", range_="limited", now=now)
    tuning.save()
    return tuning


class Running:
    """A pass in a thread, and a person who answers."""

    def __init__(self, pass_, person):
        self.pass_, self.person = pass_, person
        self.thread = threading.Thread(target=self.work)
        self.thread.start()

    def work(self):
        """As workers do: run the pass whenever it has been given to them, and let go of it while it waits for a person."""
        while True:
            engine.run(self.pass_.pk)
            while (now := Pass.objects.get(pk=self.pass_.pk)).is_parked and (now.answer or {}).get("n") != now.asks["n"]:
                time.sleep(0.005)
            if not now.is_parked:
                connection.close()
                return

    def asked(self, not_this=None):
        end = time.monotonic() + 90
        while time.monotonic() < end:
            self.pass_.refresh_from_db()
            asks = self.pass_.asks
            if asks is not None and asks["n"] != not_this:
                return asks
            time.sleep(0.01)
        raise AssertionError("nothing was asked")

    def say(self, **said):
        number = self.asked()["n"]
        services.answer(pass_id=self.pass_.pk, actor=self.person, number=number, said=said)
        return number

    def end(self):
        self.pass_.refresh_from_db()
        if self.pass_.is_open:
            from django.utils import timezone

            services.ask_to_stop(pass_id=self.pass_.pk, actor=self.person, now=timezone.now())
        self.thread.join(90)
        self.pass_.refresh_from_db()


@pytest.fixture
def run(person, now):
    made = []

    def start(tuning, **more):
        made.append(Running(services.start_pass(tuning_id=tuning.pk, actor=person, now=now, **more), person))
        return made[-1]

    yield start
    for one in made:
        one.end()


def test_a_whole_pass_is_typed(keyed, run):
    running = run(keyed)
    last = None
    for i in range(17):
        asks = running.asked(last)
        assert asks["kind"] == "value", "with both keyed in the value alone says that the patch was shown"
        assert asks["index"] == i
        luminance = 100.0 * max(asks["percent"][1] / 100.0, 0.05) ** 2.3
        xyz = None if asks["label"] == "0 %" else [0.95 * luminance, luminance, 1.09 * luminance]
        last = running.say(xyz=xyz)
    running.thread.join(90)
    running.pass_.refresh_from_db()
    assert running.pass_.state == PassState.DONE
    assert running.pass_.asks is None
    assert running.pass_.readings.count() == 17
    assert running.pass_.readings.get(label="0 %").too_dark
    assert running.pass_.summary["contrast_bound"]


def test_a_slip_is_typed_again(keyed, run):
    running = run(keyed)
    first = running.say(xyz=[1, 2, 3])
    running.asked(first)
    second = running.say(back=True)
    assert running.asked(second)["index"] == 0
    running.asked(running.say(xyz=[95, 100, 109]))
    rows = list(running.pass_.readings.order_by("id"))
    assert [row.index for row in rows] == [0, 0]
    assert rows[1].y == 100, "the newest of a patch counts; the slip stays on record"


def test_an_answer_that_comes_twice_counts_once(keyed, run, person):
    running = run(keyed)
    number = running.say(xyz=[95, 100, 109])
    with pytest.raises(refusals.AnsweredError):
        services.answer(pass_id=running.pass_.pk, actor=person, number=number, said={"xyz": [1, 2, 3]})
    running.asked(number)
    assert running.pass_.readings.count() == 1


def test_a_pass_that_asks_can_be_paused_and_goes_on_where_it_was(keyed, run, person, now):
    running = run(keyed)
    number = running.say(xyz=[95, 100, 109])
    assert running.asked(number)["index"] == 1
    services.ask_to_pause(pass_id=running.pass_.pk, actor=person, now=now)
    running.thread.join(90)
    running.pass_.refresh_from_db()
    assert running.pass_.state == PassState.PAUSED
    assert running.pass_.asks is None
    services.resume(pass_id=running.pass_.pk, actor=person)
    running.thread = threading.Thread(target=running.work)
    running.thread.start()
    assert running.asked()["index"] == 1


def test_nobody_answers_for_long(keyed, run, settings, now):
    settings.KEYED_LINGER_S = 0.0
    running = run(keyed)
    running.asked()
    until(lambda: Pass.objects.get(pk=running.pass_.pk).is_parked)
    services.give_up_asking(now=now)
    assert Pass.objects.get(pk=running.pass_.pk).is_parked
    services.give_up_asking(now=now + dt.timedelta(seconds=settings.KEYED_PATIENCE_S + 10))
    running.thread.join(90)
    running.pass_.refresh_from_db()
    assert running.pass_.state == PassState.PAUSED
    assert "Nobody typed a value" in running.pass_.reason


def test_a_linked_meter_waits_until_a_keyed_source_shows_the_patch(keyed, equipped, run, person, now):
    source = Device.objects.get(name="A disc")
    equipped.meter = Device.objects.get(serial="TS2-0031")
    equipped.source = source
    equipped.save()
    running = run(equipped)
    asks = running.asked()
    assert asks["kind"] == "show"
    assert running.pass_.readings.count() == 0
    number = running.say(shown=True)
    assert running.asked(number)["index"] == 1
    assert running.pass_.readings.count() == 1


def test_a_keyed_meter_reads_what_a_linked_source_shows(keyed, equipped, run, bench):
    equipped.meter = Device.objects.get(name="Old meter")
    equipped.source = Device.objects.get(serial="BP1-1180")
    equipped.save()
    running = run(equipped)
    asks = running.asked()
    assert asks["kind"] == "value"
    assert bench.world.picture.rgb == tuple(asks["rgb"])
    assert running.pass_.settle_s == 0


def test_a_correction_beside_a_keyed_reference(equipped, person, now, bench):
    from fenvik.web.corrections import making

    equipped.meter = Device.objects.get(serial="PC1-2209")
    equipped.save()
    reference = keyed_meter(
        actor=person, name="Lab meter", serial="LM-1", kind="spectroradiometer", floor=0.01, order="XYZ", now=now
    )
    started = making.start(
        tuning_id=equipped.pk, actor=person, reference_id=reference.pk, at_once=True, method="four-colour", average=1,
        now=now,
    )
    running = Running(started, person)
    try:
        number = None
        for _ in range(6):
            asks = running.asked(number)
            assert asks["by"] == "reference"
            seen = bench.displays[0].optics
            xyz = 683.0 * seen.radiance("m2", (0.5, 0.5)) @ _observer()
            number = running.say(xyz=[float(v) for v in xyz])
        running.thread.join(90)
    finally:
        running.end()
    lit = started.readings.filter(y__gt=5).exclude(label="black")
    assert (started.readings.count(), lit.count()) == (12, 10), "both meters have seen every patch"
    made = making.keep(pass_id=started.pk, actor=person, method="four-colour", note="", now=now)
    assert made.reference_name == "Lab meter"
    started.readings.filter(index__in=range(1, 12, 2)).update(x=0.024, y=0.025, z=0.027)
    told = making.draft_of(started)
    assert (told.made, "the meter read the same light of white, red, green and blue" in told.problem) == (None, True)


def _observer():
    from fenvik.core.colour.science import observer_1931

    return observer_1931()


def test_values_are_typed_on_the_page_and_what_is_wrong_is_said_where_it_was_typed(keyed, run, signed_in):
    running = run(keyed)
    address = reverse("act", args=(keyed.pk, "typed"))
    sent = {"pass": running.pass_.pk, "asks": running.asked()["n"], "stop": "found"}
    wrong = signed_in.post(address, sent | {"value": "100 0.31"})
    assert wrong.status_code == 422
    page = wrong.content.decode()
    assert "there are 2" in page
    assert 'value="100 0.31"' in page
    assert running.pass_.readings.count() == 0
    right = signed_in.post(address, sent | {"value": "100 0,3127 0,3290"}, follow=True)
    assert "90 %" in right.content.decode(), "the page that comes back asks for the next one already"
    row = running.pass_.readings.get()
    assert (row.x, row.y, row.z) == pytest.approx((95.05, 100.0, 108.9), abs=0.01)
    back = signed_in.post(address, sent | {"asks": running.asked()["n"], "value": "back"}, follow=True)
    assert running.asked()["index"] == 0
    assert back.status_code == 200


def test_without_a_link_it_is_taken_up_at_the_stop_and_in_the_office(tuning, signed_in, person):
    address = reverse("act", args=(tuning.pk, "keyed"))
    signed_in.post(
        address,
        {"role": "meter", "km-name": "Pocket", "km-kind": "colorimeter", "km-floor": "0.02", "km-order": "XYZ"},
    )
    signed_in.post(address, {"role": "source", "ks-name": "Disc", "ks-range": "limited"})
    tuning.refresh_from_db()
    assert (tuning.meter.name, tuning.source.name) == ("Pocket", "Disc")
    assert tuning.meter.is_keyed
    assert tuning.meter.facts["repeatability"][0][0] >= 0.02
    wrong = signed_in.post(address, {"role": "meter", "km-name": "", "km-kind": "colorimeter", "km-floor": "0.02"})
    assert wrong.status_code == 422
    signed_in.post(reverse("instruments"), {"role": "source", "ks-name": "Player", "ks-range": "full"})
    assert Device.objects.get(name="Player").facts["range"] == "full"
    assert signed_in.get(reverse("device", args=(tuning.meter_id,))).status_code == 200


def test_adjusting_with_a_keyed_meter_asks_for_the_level(keyed, run, person, now):
    running = run(keyed, purpose=PassPurpose.ADJUST, patches=None)
    assert running.asked()["label"] == "100 %"
