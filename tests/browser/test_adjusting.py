"""Hands-free watched on the OLED with a fault in the middle; points entered from a phone; colours by nudges."""

import json
import re
import urllib.request

import pytest

from fenvik.web.adjusting.models import ChangeList
from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.controls.maps import read_over_link
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import values_of
from fenvik.web.devices.displays import answer_code, show_code
from fenvik.web.devices.services import take_up
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.visits.models import Tuning, Visit
from tests.browser.television import Television

pytestmark = pytest.mark.django_db(transaction=True)
OLED, QUANTUM = ("Skerry", "W65", "SW65-0112", "Cinema"), ("Alderwick", "Q75", "AQ75-0308", "Expert")


def press(system, path, **body):
    request = urllib.request.Request(
        f"{system.pages}{path}", json.dumps(body).encode(), {"Content-Type": "application/json"}, method="POST"
    )
    with urllib.request.urlopen(request, timeout=90) as answer:
        return json.load(answer)


@pytest.fixture
def tuning_of(system, person, now):
    """Return a function that makes a tuning of a stand-in, paired, with its menu read."""
    found = take_up(actor=person, address=system.directory, now=now)

    def make(names):
        maker, model, serial, mode = names
        press(system, "api/world", front=serial)
        client = Client.objects.create(firm=person.firm, name="A client")
        display = Display.objects.create(
            room=Room.objects.create(client=client, name="Lounge"), maker=maker, model=model, serial=serial
        )
        tuning = Tuning.objects.create(
            visit=Visit.objects.create(firm=person.firm, client=client, on=now.date(), calibrator=person), display=display,
            name="Lounge, film", picture_mode=mode, settle_s=0, bits=10, window=10.0,
            meter=next(d for d in found.devices if d.serial == "TS2-0031"),
            source=next(d for d in found.devices if d.serial == "BP1-1180"),
        )  # fmt: skip
        show_code(display)
        answer_code(display=display, code="4711", actor=person, now=now)
        read_over_link(tuning_id=tuning.pk, actor=person, now=now)
        return tuning

    return make


def test_hands_free_is_watched_on_the_oled_with_a_fault_in_the_middle(page, system, tuning_of):
    tuning = tuning_of(OLED)
    page.goto(f"{system.address}/tunings/{tuning.pk}/adjust/")
    page.keyboard.press("h")
    page.locator("#question", has_text="What will it do").wait_for()
    page.get_by_label("light and white level").uncheck()
    page.get_by_label("colours").uncheck()
    page.get_by_label("readings at most").fill("100")
    page.keyboard.press("Escape")
    page.get_by_role("button", name=re.compile("Begin hands-free")).click()
    page.locator("#hand", has_text=re.compile(r"points of the white balance")).wait_for(timeout=90_000)
    press(system, "api/fault/TS2-0031", kind="garbage")
    page.locator("#hand .notice", has_text="not the device link").wait_for()
    run = Pass.objects.get(purpose=PassPurpose.HANDS_FREE)
    stored = run.readings.count()
    page.wait_for_timeout(600)
    assert run.readings.count() == stored
    press(system, "api/fault/TS2-0031", kind="")
    page.locator("#hand .headline", has_text=re.compile(r"Done, in \d+ readings")).wait_for(timeout=90_000)
    run.refresh_from_db()
    job = run.run
    assert job.left_score < 0.65 * job.found_score, "greys count two thirds of it, and its colours were left alone"
    assert [r.index for r in run.readings.order_by("id")] == list(range(len(run.patches)))
    # What it says is what the display has, and all of it can be taken back at once.
    assert page.locator(".say", has_text="Greys from").is_visible()
    before = values_of(Tuning.objects.get(pk=tuning.pk))
    assert before.now != before.found
    page.keyboard.press("b")
    page.get_by_text(re.compile(r"\d+ controls were put back")).wait_for()
    after = values_of(Tuning.objects.get(pk=tuning.pk))
    assert after.now == before.found
    assert page.complaints == []


def test_an_answer_is_heard_though_news_took_its_form_away_meanwhile(page, system, equipped_for_browser):
    page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/adjust/?work=two&view=balance&more=1")
    page.evaluate("document.addEventListener('ajax:send', (event) => event.target.remove())")
    page.keyboard.press("ArrowUp")
    page.wait_for_url(re.compile(r"/adjust/(\?work=two)?$"))  # it had led elsewhere, and nothing of it was taken for what is here
    assert page.locator("#field h1").is_visible()
    page.evaluate("document.addEventListener('ajax:send', (event) => event.target.remove())")
    page.keyboard.press("ArrowUp")
    page.locator("#hand .level, #hand p", has_text="100 %").first.wait_for()
    assert page.locator("#field h1").is_visible()


def test_points_are_read_listed_and_entered_from_the_phone(page, context, system, tuning_of):
    tuning = tuning_of(QUANTUM)
    tv = Television(context, system.pages, serial="AQ75-0308")
    page.bring_to_front()
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(f"{system.address}/tunings/{tuning.pk}/adjust/?work=points")
    page.get_by_role("button", name=re.compile("Read the levels")).click()
    page.locator("#hand .headline", has_text="controls change").wait_for(timeout=90_000)
    page.get_by_role("button", name=re.compile("List them to enter")).click()
    page.locator("#hand", has_text="Entered 0 of").wait_for()
    listed = ChangeList.objects.get()
    first = [row for row in listed.rows if row["group"] == listed.rows[0]["group"]]
    for row in first:
        tv.turn(row["control"], row["after"])
    page.bring_to_front()
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    page.get_by_role("button", name=re.compile("Entered, the next")).click()
    page.locator("#hand", has_text=f"Entered {len(first)} of").wait_for()
    # The tab is lost, the person goes on from the desk: nothing of the progress is.
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(f"{system.address}/tunings/{tuning.pk}/adjust/?work=points")
    page.locator("#hand", has_text=f"Entered {len(first)} of {len(listed.rows)}").wait_for()
    page.keyboard.press("o")
    page.get_by_text(re.compile(r"\d+ controls were set over the link")).wait_for()
    assert ControlChange.objects.count() == len(listed.rows)
    page.get_by_role("button", name=re.compile("Read the levels")).click()
    page.locator("#hand", has_text=re.compile("controls change|As good as|Within tolerance")).wait_for(timeout=90_000)
    assert page.complaints == []


def test_a_colour_is_turned_by_its_nudge_on_the_display_s_own_page(page, context, system, tuning_of):
    tuning = tuning_of(QUANTUM)
    tv = Television(context, system.pages, serial="AQ75-0308")
    page.bring_to_front()
    page.goto(f"{system.address}/tunings/{tuning.pk}/adjust/?work=colours")
    page.keyboard.press("Enter")
    page.locator("#hand .hues").wait_for(timeout=90_000)
    page.locator("#hand .nudge-form").wait_for()
    before = float(page.locator("#hand .hues a[aria-current] b").inner_text())
    name = page.locator("#hand .hues a[aria-current]").inner_text().split()[0]
    moves = page.eval_on_selector_all(
        "#hand .nudge-form input[name^='value-']", "rows => rows.map(row => [row.name.slice(6), row.value])"
    )
    assert moves
    for control, value in moves:
        tv.turn(control, value.replace("−", "-"))
    page.bring_to_front()
    page.keyboard.press("Enter")
    page.wait_for_function(
        "([name, before]) => { const e = [...document.querySelectorAll('#hand .hues a')].find(a => a.textContent.startsWith(name));"
        " return e && parseFloat(e.querySelector('b').textContent) < before; }",
        arg=[name, before],
        timeout=90_000,
    )
    assert ControlChange.objects.filter(tuning=tuning).count() == len(moves)
    assert page.complaints == []
