"""The whole job as a new user does it, turning the controls on the stand-in's own page."""

import re

import pytest

from fenvik.web.controls.models import ControlChange
from fenvik.web.passes.models import Pass, Reading
from tests.browser.television import Television
from tests.browser.waiting import wait_until_otherwise, wait_until_without

pytestmark = pytest.mark.django_db(transaction=True)
# A ready-made menu shape has its own names; the person sees that "Red gain" is what this menu calls R-Gain.
TELEVISION = {
    f"{end}-{light}": f"wb-{end[0]}{light[0]}" for end in ("gain", "offset") for light in ("red", "green", "blue")
}
FOUND = {"light": "34", "white-level": "90", "black-level": "50", "energy": "Low", **dict.fromkeys(TELEVISION, "0")}


def fill(page, **values):
    for name, value in values.items():
        element = page.locator(f"[name='{name}']")
        if element.evaluate("e => e.tagName") == "SELECT":
            element.select_option(value)
        else:
            element.fill(value)


def test_a_new_user_does_the_whole_job(page, context, system):
    television = Television(context, system.pages)
    page.bring_to_front()

    page.keyboard.press("n")
    page.wait_for_url("**/visits/new/")
    fill(page, new_client="Lakeside guest house")
    page.get_by_role("button", name="Plan it").click()
    fill(page, room="Snug", maker="Orrefall", model="55", menu="shape-two-50", picture_mode="Film", purpose="film")
    page.get_by_role("button", name="Add it").click()

    page.wait_for_url("**/arrival/")
    fill(page, **{f"value-{name}": value for name, value in FOUND.items()})
    fill(page, **{"value-light": "340"})
    page.get_by_role("button", name="Note these settings").click()
    page.locator("#field", has_text="Light goes from 0 to 100").wait_for()
    assert page.locator("[name='value-gain-red']").input_value() == "0"  # nothing typed is lost
    assert page.locator("[name='value-energy']").input_value() == "Low"
    fill(page, **{"value-light": "34"})
    page.get_by_role("button", name="Note these settings").click()

    page.wait_for_url("**/groundwork/")
    television.turn("eco-1", "Off")
    page.bring_to_front()
    # Mode, signal and settings by input are a person's to answer; energy saving is known from the settings.
    for check in ("Picture mode", "Signal", "Energy saving", "Settings by input"):
        page.locator("#hand .headline", has_text=check).wait_for()
        page.keyboard.press("y")
    page.get_by_text("Ready to be measured").wait_for()
    page.keyboard.press("Enter")

    page.wait_for_url("**/instruments/")
    page.fill("#address", system.directory)
    page.get_by_role("button", name="Look for devices").click()
    page.locator("#id_meter").select_option(label="Tarn S2")
    page.locator("#id_source").select_option(label="Brook P1")
    fill(page, settle_s="0")
    page.get_by_role("button", name="Keep these").click()
    page.get_by_role("link", name="Go on to As found").click()

    page.wait_for_url("**/found/")
    page.keyboard.press("Enter")
    page.get_by_text(re.compile("About .* left")).wait_for()
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    assert page.locator("#field svg.chart .found.blue").count() == 10
    for key, words in (("2", "brightness rise"), ("3", "colours land"), ("4", "each patch"), ("1", "grey stay grey")):
        page.keyboard.press(key)
        page.locator("#question", has_text=words).wait_for()
    page.keyboard.press("t")
    page.locator("table.figures").wait_for()
    page.keyboard.press("Enter")

    page.wait_for_url("**/adjust/")
    moves = adjust(page, television)
    assert max(moves.values()) <= 4
    assert all(moves)

    page.wait_for_url("**/left/")
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Go on to Handover").wait_for()
    assert re.search("Every grey is within 1|as far as the meter can tell", page.locator(".headline").inner_text())
    found, left = page.locator(".twofold tr", has_text="grey, average").locator("td").all_inner_texts()
    assert float(left) < 0.6 < 1.5 < float(found.split()[0])
    page.keyboard.press("Enter")

    page.wait_for_url("**/handover/")
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Open it").wait_for()
    address = page.get_by_role("link", name="Open it").get_attribute("href")
    client = context.browser.new_context().new_page()
    client.goto(system.address + address)
    text = client.locator("main").inner_text()
    assert "Lakeside guest house" in text
    assert f"Red gain\t{television.value('wb-gr')}".replace("-", "−") in text
    client.context.close()
    assert page.complaints == []


def adjust(page, television):
    """Follow what the hand says until it sends us to As left; return the moves at each end."""
    moves = {"high": 0, "low": 0}
    for _ in range(24):
        page.bring_to_front()
        page.locator("#hand .ember, #hand .notice").first.wait_for()
        wait_until_without(page, "#hand", "Reading")
        hand = page.locator("#hand")
        proposed = hand.locator(".nudge input")
        if proposed.count():
            end = "high" if "high end" in hand.inner_text() else "low"
            wanted = {e.get_attribute("name")[6:]: e.input_value() for e in proposed.all()}
            for control, value in wanted.items():
                television.turn(TELEVISION[control], value.replace("−", "-"))
            moves[end] += 1
            page.bring_to_front()
            before = Reading.objects.count()
            page.keyboard.press("Enter")
            page.wait_for_function("() => !document.querySelector('.big.stale')")
            wait_for_a_reading(page, before)
        elif hand.get_by_text("Measure as left").count():
            page.keyboard.press("Enter")
            return moves
        else:
            before, said = Reading.objects.count(), hand.inner_text()
            reads = hand.get_by_text("Read this level").count()
            page.keyboard.press("Enter")
            if reads:
                wait_for_a_reading(page, before)
            else:
                wait_until_otherwise(page, "#hand", said)
    raise AssertionError("the hand never said that it was done")


def wait_for_a_reading(page, before):
    for _ in range(200):
        if Reading.objects.count() > before and not Pass.objects.filter(finished_at=None).exists():
            newest = Reading.objects.order_by("-id")[0].pk
            page.wait_for_selector(f"#hand [data-reading='{newest}']")
            wait_until_without(page, "#hand", "Reading 8")
            return
        page.wait_for_timeout(50)
    raise AssertionError("no reading came")


def test_undo_tells_what_to_turn_back(page, context, system, equipped_for_browser):
    tuning = equipped_for_browser
    page.goto(f"{system.address}/tunings/{tuning.pk}/adjust/")
    page.locator("summary", has_text="Something else").click()
    page.locator("#other").select_option("wb-gb")
    page.fill("#other-value", "-7")
    page.get_by_role("button", name="Log it").click()
    page.locator(".log", has_text="B-Gain 0 → −7").wait_for()
    assert not page.locator("#hand [data-reading]").count(), "there may be more to log before it is read"
    page.keyboard.press("u")
    page.locator("#hand", has_text="Turn back:").wait_for()
    assert "−7 → 0" in page.locator(".nudges").inner_text()
    page.keyboard.press("Enter")
    page.locator(".log .undone").wait_for(state="attached")
    assert ControlChange.objects.filter(undoes__isnull=False).count() == 1
    assert page.complaints == []
