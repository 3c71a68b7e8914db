"""The pattern screen in a browser of its own: exact codes, follows the visit, serves a pass."""

import numpy as np
import pytest

from fenvik.core.signal.patches import grey
from fenvik.core.signal.patterns import PATTERNS, Signal
from fenvik.web.passes.models import Pass, PassPurpose, PassState, Reading
from fenvik.web.passes.services import start_pass
from fenvik.web.patterns.models import Screen
from fenvik.web.patterns.services import new_number, put, screen_of, set_range, withdraw_screen
from fenvik.web.visits.models import Tuning
from tests.browser.test_live import until

pytestmark = pytest.mark.django_db(transaction=True)
PIXELS = """() => {
  const canvas = document.getElementById("picture");
  const data = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height).data;
  let text = "";
  for (let i = 0; i < data.length; i += 4) text += String.fromCharCode(data[i], data[i + 1], data[i + 2]);
  return { width: canvas.width, height: canvas.height, codes: btoa(text) };
}"""


def codes_on(page):
    import base64

    read = page.evaluate(PIXELS)
    flat = np.frombuffer(base64.b64decode(read["codes"]), dtype=np.uint8)
    return flat.reshape(read["height"], read["width"], 3)


@pytest.fixture
def screen_page(chromium, system, equipped_for_browser, person):
    """The screen on a machine of its own, where nobody is signed in: found by its number."""
    now = __import__("django.utils.timezone", fromlist=["now"]).now()
    screen = new_number(visit_id=equipped_for_browser.visit_id, actor=person, now=now)
    context = chromium.new_context(viewport={"width": 640, "height": 360})
    made = context.new_page()
    made.goto(f"{system.address}/screen/")
    made.fill("#number", f"{screen.number[:4]} {screen.number[4:]}")
    made.press("#number", "Enter")
    made.wait_for_selector("#picture")
    until(made, lambda: Screen.objects.get().is_open)
    yield made
    context.close()


def shown(page, screen):
    until(page, lambda: Screen.objects.get(pk=screen.pk).shown == Screen.objects.get(pk=screen.pk).revision)


@pytest.mark.parametrize("driver_range", ["full", "limited"])
def test_every_pattern_arrives_code_by_code(screen_page, equipped_for_browser, person, driver_range):
    set_range(visit_id=equipped_for_browser.visit_id, actor=person, driver_range=driver_range)
    screen = screen_of(visit_id=equipped_for_browser.visit_id, firm_id=person.firm_id)
    for name, pattern in PATTERNS.items():
        if pattern.moving is not None:
            continue
        put(screen, {"kind": "pattern", "pattern": name, "options": {}})
        shown(screen_page, screen)
        wanted = pattern.drawn(640, 360, Signal(8, driver_range)).codes
        np.testing.assert_array_equal(codes_on(screen_page), wanted, err_msg=name)


def test_nothing_counts_as_shown_while_it_is_on_its_way(screen_page, equipped_for_browser, person):
    """A screen says every ten seconds, and when it is looked at again, what it shows; a picture may be on its way just then."""
    screen, held = screen_of(visit_id=equipped_for_browser.visit_id, firm_id=person.firm_id), []
    screen_page.route("**/picture.png*", lambda route: held.insert(0, route))
    put(screen, {"kind": "pattern", "pattern": "focus", "options": {}})
    until(screen_page, lambda: bool(held))
    with screen_page.expect_response("**/drawn/"):
        screen_page.evaluate("document.dispatchEvent(new Event('visibilitychange'))")
    told = Screen.objects.get(pk=screen.pk)
    assert told.shown < told.revision
    held[0].continue_()
    shown(screen_page, screen)


def test_it_says_who_it_is_for_two_seconds_and_follows(page, screen_page, system, equipped_for_browser):
    tuning = equipped_for_browser
    page.goto(f"{system.address}/tunings/{tuning.pk}/groundwork/?view=patterns&pattern=steps")
    page.locator("text=open, 640").wait_for()
    page.keyboard.press("w")
    screen_page.locator("#who", has_text="A client").wait_for()
    screen_page.wait_for_selector("#who", state="hidden")
    page.keyboard.press("Enter")
    page.locator("text=Shown on the pattern screen and Brook P1").wait_for()
    screen = Screen.objects.get()
    assert screen.picture["pattern"] == "steps"
    shown(screen_page, screen)
    assert codes_on(screen_page)[10, 639].tolist() == [255, 255, 255]
    page.get_by_role("button", name="the range is limited").click()
    until(screen_page, lambda: codes_on(screen_page)[10, 639].tolist() == [235, 235, 235])


def test_a_pass_takes_its_patches_from_it_and_pauses_when_it_is_gone(
    screen_page, system, equipped_for_browser, person, now
):
    tuning = equipped_for_browser
    screen = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id)
    Tuning.objects.filter(pk=tuning.pk).update(source=screen.device, settle_s=0)
    # The stand-in display is not driven by this page, so every patch reads alike: small steps, that none seems stuck.
    steps = [grey(level, 8, "full") for level in (100.0, 98.0, 96.0, 94.0, 92.0, 90.0)]
    started = start_pass(tuning_id=tuning.pk, actor=person, now=now, purpose=PassPurpose.FOUND, patches=steps)
    assert started.range == "full"
    seen = set()

    def look():
        seen.add(tuple(codes_on(screen_page)[180, 320].tolist()))
        return Pass.objects.get().state == PassState.DONE

    until(screen_page, look)
    assert Reading.objects.count() == 6
    assert list(Reading.objects.order_by("id").values_list("r", flat=True))[:3] == [255, 250, 245]
    assert len(seen) > 3  # the page really showed them
    again = start_pass(tuning_id=tuning.pk, actor=person, now=now, purpose=PassPurpose.CHECK, patches=steps[:2] * 60)
    until(screen_page, lambda: Reading.objects.filter(pass_of=again).count() >= 2)
    screen_page.close()
    context = Reading.objects.filter(pass_of=again).count()
    end = Pass.objects.get(pk=again.pk)
    for _ in range(300):
        end.refresh_from_db()
        if end.state == PassState.WAITING:
            break
        __import__("time").sleep(0.1)
    assert end.state == PassState.WAITING
    assert "Pattern screen did not answer" in end.reason
    assert Reading.objects.filter(pass_of=again).count() <= context + 1


def test_a_pattern_is_chosen_on_the_screen_itself_by_keys_and_taps(screen_page, equipped_for_browser, person):
    def picture():
        return Screen.objects.get().picture

    names = list(PATTERNS)
    screen_page.keyboard.press("ArrowRight")
    until(screen_page, lambda: picture().get("pattern") == names[1])
    menu = screen_page.locator("#menu")
    screen_page.keyboard.press("Enter")
    menu.wait_for()
    assert menu.locator("[aria-current]").inner_text() == PATTERNS[names[1]].name
    screen_page.keyboard.press("Escape")
    menu.wait_for(state="hidden")
    screen_page.mouse.click(600, 20)
    menu.get_by_role("button", name="Checkerboard").click()
    until(screen_page, lambda: picture().get("pattern") == "checkerboard")
    row = menu.locator("div > div", has_text="Fields across")
    row.get_by_role("button", name="+").click()
    until(screen_page, lambda: picture()["options"]["across"] == "5")
    screen_page.keyboard.press("ArrowDown")  # from the option that was turned to the next one
    screen_page.keyboard.press("ArrowRight")
    until(screen_page, lambda: picture()["options"]["down"] == "1")
    shown(screen_page, Screen.objects.get())
    wanted = PATTERNS["checkerboard"].drawn(640, 360, Signal(8, "full"), {"across": "5", "down": "1"}).codes
    np.testing.assert_array_equal(codes_on(screen_page), wanted)
    screen_page.mouse.click(620, 340)
    menu.wait_for(state="hidden")


def test_a_screen_in_use_refuses_and_a_closed_one_says_so(screen_page, equipped_for_browser, person, now):
    tuning = equipped_for_browser
    before = Screen.objects.get().picture
    Tuning.objects.filter(pk=tuning.pk).update(source=Screen.objects.get().device)
    white = [grey(100.0, 8, "full")]
    start_pass(tuning_id=tuning.pk, actor=person, now=now, purpose=PassPurpose.FOUND, patches=white, interval_s=3600)
    screen_page.keyboard.press("ArrowRight")
    screen_page.locator("#who", has_text="A pass is reading on this screen").wait_for()
    assert Screen.objects.get().picture["kind"] != "pattern" or Screen.objects.get().picture == before
    Pass.objects.update(state=PassState.STOPPED, finished_at=now)
    withdraw_screen(visit_id=tuning.visit_id, actor=person, now=now)
    screen_page.locator("#who", has_text="was closed from Fenvik").wait_for()
    screen_page.reload()
    screen_page.locator("text=This pattern screen is closed").wait_for()
    screen_page.get_by_role("link", name="Type a number").click()
    screen_page.fill("#number", "0000 0000")
    screen_page.press("#number", "Enter")
    screen_page.locator("text=No pattern screen waits for this number").wait_for()
