"""Instruments in a browser: a correction made both ways, a job that is keyed in, a meter that goes missing."""

import json
import re
import time
import urllib.request

import pytest

from fenvik.link.connection import Connection
from fenvik.link.devices import Directory, Meter, Source
from fenvik.web.corrections.models import Correction
from fenvik.web.devices.models import Device
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from tests.browser.television import Television
from tests.browser.test_live import until
from tests.browser.waiting import wait_until_otherwise

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def site(system, tuning, person, now):
    """A tuning with its settings noted, and the stand-ins taken up; the display is warm and nothing moves its light."""
    from fenvik.web.controls.services import note_found
    from fenvik.web.demo.build import factory_sheet
    from fenvik.web.devices.services import take_up

    assert take_up(actor=person, address=system.directory, now=now).problems == []
    note_found(tuning_id=tuning.pk, actor=person, typed=factory_sheet() | {"eco-1": "Off"}, now=now)
    tuning.meter, tuning.source = Device.objects.get(serial="PC1-2209"), Device.objects.get(serial="BP1-1180")
    tuning.save()
    return tuning


def press(system, path, **body):
    request = urllib.request.Request(
        f"{system.pages}{path}", json.dumps(body).encode(), {"Content-Type": "application/json"}, method="POST"
    )
    with urllib.request.urlopen(request, timeout=90) as answer:
        return json.load(answer)


def still(context, system):
    """Turn off what moves the light with the picture: with it on, the display is not the sum of its three."""
    television = Television(context, system.pages)
    television.turn("eco-1", "Off")
    television.turn("pq-7", "Off")


def open_stop(page, system, tuning, stop, view=""):
    page.goto(f"{system.address}/tunings/{tuning.pk}/{stop}/{f'?view={view}' if view else ''}")


def keep_it(page):
    page.get_by_role("button", name=re.compile("Keep this correction")).wait_for()
    assert "as the display asks" in page.locator("#hand .headline").inner_text()
    assert page.locator("table.beside tbody tr").count() == 5
    after = [
        abs(float(t.replace("−", "-")))
        for t in page.locator("table.beside tbody td:nth-child(11)").all_inner_texts()
        if t != "–"
    ]
    assert len(after) == 5
    assert all(v < 0.001 for v in after)
    page.keyboard.press("Enter")
    page.locator("#hand .headline", has_text="is corrected by").wait_for()
    page.locator(".head", has_text="Pebble C1 · corrected").wait_for()


def test_a_correction_with_both_meters_at_once_and_one_after_the_other(page, system, site, context):
    still(context, system)
    page.bring_to_front()
    open_stop(page, system, site, "instruments", "correction")
    page.get_by_text("No correction fits this display yet.").wait_for()
    page.keyboard.press("Enter")
    page.get_by_text(re.compile(r"reads\s+(white|red|green|blue|black)")).wait_for()
    keep_it(page)
    first = Correction.objects.get()
    assert first.from_pass.comparison.at_once

    page.get_by_text("Make a new one").click()
    page.get_by_label("stand there one after the other").check()
    page.get_by_role("button", name="Make it").click()
    page.locator("#hand .headline", has_text="Change over").wait_for()
    assert "Take Tarn S2 away and put Pebble C1 in its place" in page.locator(".change-over").inner_text()
    assert page.locator("#field table tbody tr").count() == 6, "what the reference has read stands there meanwhile"
    time.sleep(0.5)
    assert Pass.objects.latest("id").readings.count() == 6, "nothing is read until the meters have changed places"
    page.keyboard.press("Enter")
    keep_it(page)
    assert Correction.objects.count() == 2
    site.refresh_from_db()
    assert site.correction == Correction.objects.latest("id")

    open_stop(page, system, site, "found")
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    corrected = page.locator("#hand .twofold").inner_text()
    page.get_by_label("Looked at through").select_option("none")
    page.get_by_role("button", name="Look", exact=True).click()
    wait_until_otherwise(page, "#hand .twofold", corrected)
    assert Pass.objects.filter(purpose=PassPurpose.FOUND).get().correction is None
    assert page.complaints == []


class Person:
    """Somebody with a disc and a meter of their own: shows what the page wants, reads it, types what it says."""

    def __init__(self, page, system):
        host, port = system.directory.split(":")
        with Connection(host, int(port)) as line:
            found = {entry.serial: entry for entry in Directory(line).list()}
        self.page = page
        self.source = Source(Connection(found["BP1-1180"].host, found["BP1-1180"].port))
        self.meter = Meter(Connection(found["TS2-0031"].host, found["TS2-0031"].port))
        self.source.signal(format_="sdr", colorimetry="bt709", bits=8, range_="limited", frame_rate=60)
        self.typed = self.keys = 0

    def answer(self, asks):
        words = self.page.locator(".keyed").inner_text()
        codes = re.search(r"8 bit limited (\d+) (\d+) (\d+)", words)
        self.source.patch([int(c) for c in codes.groups()], window=10)
        x, y, z = self.meter.read(expected_s=30).xyz
        # Only the keyboard: the field is ready for what is typed.
        self.page.wait_for_function("() => document.activeElement && document.activeElement.id === 'typed'")
        said = " ".join([f"{y:.4g}", *(f"{value / (x + y + z):.4f}"[2:] for value in (x, y))])  # as most meters show it
        self.page.keyboard.type(said)
        self.page.keyboard.press("Enter")
        self.typed += 1
        self.keys += len(said) + 1
        self.page.wait_for_function(
            "asks => { const k = document.querySelector('[data-asks]'); return !k || k.dataset.asks !== asks; }",
            arg=asks,
        )

    def answer_all(self, until):
        end = time.monotonic() + 90
        while time.monotonic() < end:
            asked = self.page.locator("[data-asks]")
            if asked.count():
                self.answer(asked.get_attribute("data-asks"))
            elif until.count():
                return
            else:
                self.page.wait_for_timeout(20)
        raise AssertionError("it never came to an end")

    def go_home(self):
        self.source.close()
        self.meter.close()


def test_a_whole_job_is_keyed_in(page, system, site, context):
    television = Television(context, system.pages)
    television.turn("eco-1", "Off")
    page.bring_to_front()
    site.meter = site.source = None
    site.save()
    open_stop(page, system, site, "instruments")
    page.get_by_text("A meter without a link").click()
    page.fill("#id_km-name", "Field meter")
    page.select_option("#id_km-kind", "spectroradiometer")
    page.get_by_role("button", name="Measure with it").click()
    page.locator(".head", has_text="Field meter").wait_for()
    page.get_by_text("A source without a link").click()
    page.fill("#id_ks-name", "Disc")
    page.get_by_role("button", name="Take patches from it").click()
    page.locator(".head", has_text="Disc").wait_for()
    person = Person(page, system)
    page.keyboard.press("Enter")
    person.answer_all(page.get_by_text("the meter sees what the source shows"))
    page.keyboard.press("Enter")

    page.wait_for_url("**/found/")
    page.keyboard.press("Enter")
    person.keys = 0
    person.answer_all(page.get_by_role("link", name="Go on to Adjust"))
    assert person.typed == 3 + 17
    print(f"a keyed pass of 17 patches: {person.keys} keys")
    assert person.keys <= 17 * 17, "docs/performance.md says how many keys a pass is"
    page.keyboard.press("Enter")

    page.wait_for_url("**/adjust/")
    for _ in range(3):
        nudge = page.locator("#hand .nudge input")
        page.locator("#hand .nudge input, [data-asks]").or_(page.get_by_text("Read this level")).first.wait_for()
        if nudge.count() == 0:
            page.keyboard.press("Enter")
            page.locator("[data-asks]").wait_for()
        person.answer_all(page.locator("#hand .ember"))
        if nudge.count() == 0:
            continue
        for control, value in {e.get_attribute("name")[6:]: e.input_value() for e in nudge.all()}.items():
            television.turn(control, value.replace("−", "-"))
        page.bring_to_front()
        page.keyboard.press("Enter")
        page.locator("[data-asks]").wait_for()
        person.answer_all(page.locator("#hand .ember"))
        break
    else:
        raise AssertionError("no nudge was proposed")
    assert site.changes.count() >= 1

    open_stop(page, system, site, "left")
    page.keyboard.press("Enter")
    person.answer_all(page.get_by_role("link", name="Go on to Handover"))
    found, left = page.locator(".twofold tr", has_text="grey, average").locator("td").all_inner_texts()
    assert float(left) < float(found.split()[0])
    page.keyboard.press("Enter")
    page.wait_for_url("**/handover/")
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Open it").wait_for()
    person.go_home()
    assert page.complaints == []


def test_a_meter_that_goes_missing_while_a_correction_is_made(page, system, site, context):
    still(context, system)
    page.bring_to_front()
    open_stop(page, system, site, "instruments", "correction")
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelectorAll('table.beside tbody tr').length >= 2")
    press(system, "api/fault/PC1-2209", kind="drop")
    page.locator("#hand .notice", has_text="Pebble C1 closed the connection").wait_for()
    page.get_by_text("It goes on by itself when the device is back.").wait_for()
    stored = Pass.objects.latest("id").readings.count()
    page.wait_for_timeout(600)
    assert Pass.objects.latest("id").readings.count() == stored, "nothing wrong is stored meanwhile"
    press(system, "api/fault/PC1-2209", kind="")
    page.get_by_role("button", name=re.compile("Keep this correction")).wait_for()
    assert Pass.objects.latest("id").readings.count() == 12
    assert page.complaints == []


def test_a_meter_is_aimed_and_the_chain_tried_by_keyboard(page, system, site):
    open_stop(page, system, site, "instruments")
    page.keyboard.press("Enter")
    page.locator("#hand .headline", has_text="the meter sees what the source shows").wait_for()
    page.keyboard.press("2")
    page.locator("#question", has_text="look at the middle").wait_for()
    page.keyboard.press("a")
    page.get_by_text("Shown on Brook P1.").wait_for()
    press(system, "api/world", aim={"serial": "PC1-2209", "x": 6, "y": 0})
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelectorAll('#field .mark').length > 5")
    press(system, "api/world", aim={"serial": "PC1-2209", "x": 0, "y": 0})
    there = Reading.objects.count()
    until(page, lambda: Reading.objects.count() > there + 9)
    assert page.get_by_text("it is aimed.").count() == 0, "nobody has seen yet what it reads beside this place"
    press(system, "api/world", aim={"serial": "PC1-2209", "x": 6, "y": 0})
    page.get_by_text("move it a little").wait_for()
    page.get_by_text(re.compile(r"It reads (9[0-7]|[1-8])")).wait_for()
    press(system, "api/world", aim={"serial": "PC1-2209", "x": 0, "y": 0})
    page.get_by_text("it is aimed.").wait_for()
    page.keyboard.press("Enter")
    page.get_by_text("Left where it read best.").wait_for()
    assert page.complaints == []
