"""Arrival and Groundwork as they are done with the keyboard alone, for an LCD and for a projector."""

import pytest
from playwright.sync_api import Error

from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.controls.models import ControlChange, MenuMap, Moment, SettingsSheet
from fenvik.web.groundwork.models import CheckAnswer
from fenvik.web.patterns.models import LookedAt
from fenvik.web.visits.models import Tuning, Visit
from tests.browser.test_live import until
from tests.browser.waiting import wait_until_otherwise

pytestmark = pytest.mark.django_db(transaction=True)


class Keys:
    """A person without a mouse: everything is a key, and nothing is clicked."""

    def __init__(self, page):
        self.page = page

    def press(self, *keys):
        for key in keys:
            self.page.keyboard.press(key)

    def text(self, words):
        self.page.keyboard.type(words)

    def tab_to(self, selector, most=80):
        for _ in range(most):
            if self.page.evaluate("s => document.activeElement.matches(s)", selector):
                return
            self.page.keyboard.press("Tab")
        raise AssertionError(f"{selector} cannot be reached with Tab")


@pytest.fixture
def keys(page):
    return Keys(page)


@pytest.fixture
def bare(person, now, system):
    """A tuning of a display whose menu nobody knows yet; the firm has found its devices."""
    from fenvik.web.devices.services import take_up

    take_up(actor=person, address=system.directory, now=now)
    client = Client.objects.create(firm=person.firm, name="A client")
    visit = Visit.objects.create(firm=person.firm, client=client, on=now.date(), calibrator=person)

    def make(maker, model, serial, technology, mode):
        room = Room.objects.create(client=client, name=f"Room of {model}")
        display = Display.objects.create(room=room, maker=maker, model=model, serial=serial, technology=technology)
        from fenvik.web.devices.models import Device

        source = Device.objects.get(serial="BP1-1180")
        meter = Device.objects.get(serial="PC1-2209")
        return Tuning.objects.create(
            visit=visit, display=display, name=f"{model}, film", picture_mode=mode, source=source, meter=meter,
            settle_s=0,
        )

    return make


def test_an_lcd_is_taken_in_typed_and_made_ready_by_keyboard_only(page, keys, system, bare):
    tuning = bare("Mirefield", "M50", "", "lcd", "Cinema")
    page.goto(f"{system.address}/tunings/{tuning.pk}/arrival/")
    keys.press("Enter")  # to the menu map
    page.wait_for_url("**view=menu")
    keys.press("a")
    keys.tab_to("button")
    keys.press("Enter")  # twenty points are what is offered
    page.locator("text=60 controls known").wait_for()
    roles = {c["role"] for c in MenuMap.objects.get(display=tuning.display_id).controls}
    assert {"white.at.5.red", "white.at.55.green", "white.at.100.blue"} <= roles
    # One control more, with a misleading name: the role counts.
    keys.press("a")
    page.keyboard.press("End")
    until(page, lambda: page.locator("#label").is_visible())
    keys.tab_to("#label")
    keys.text("Contrast")
    keys.tab_to("#role")
    keys.text("light")
    keys.tab_to("#low")
    page.keyboard.press("Control+a")
    keys.text("0")
    keys.press("Enter")
    page.locator("text=61 controls known").wait_for()
    keys.press("a")
    page.keyboard.press("End")
    keys.tab_to("#label")
    keys.text("Clear picture")
    keys.tab_to("#role")
    keys.text("process.noise")
    keys.tab_to("#options")
    keys.text("Off, Low, High")
    keys.press("Enter")
    page.locator("text=62 controls known").wait_for()
    keys.press("Escape", "1")
    page.wait_for_url("**view=settings")
    page.locator("#sheet-form .setting").first.wait_for()
    keys.tab_to("#sheet-form input")
    keys.text("7")
    keys.press("Enter", "ArrowDown", "ArrowDown", "Shift+ArrowUp", "Enter")
    keys.press("Shift+Enter")
    until(page, lambda: SettingsSheet.objects.count() == 1)
    values = SettingsSheet.objects.get().values
    assert values["white-at-5-red"] == 7
    assert values["white-at-5-green"] == 3
    assert values["white-at-5-blue"] == 0
    assert "clear-picture" not in values, "nobody said how it stands"
    assert len(values) == 60
    page.wait_for_url("**/groundwork/")
    # Checks: what the settings know is known, the rest is answered one by one.
    for _ in range(4):
        asked = page.locator("#hand .headline").inner_text()
        keys.press("y")
        wait_until_otherwise(page, "#hand .headline", asked)
    assert set(CheckAnswer.objects.values_list("check_id", flat=True)) == {"mode", "signal", "inputs"}
    page.locator("text=Ready to be measured").wait_for()
    keys.press("2")
    page.wait_for_url("**view=levels")
    keys.press("Enter")  # begin
    page.locator("text=Step 1 of 6").wait_for()
    keys.press("ArrowRight")
    page.keyboard.press("Control+a")
    keys.text("42")
    keys.press("Enter")
    page.locator("text=Step 2 of 6").wait_for()
    assert ControlChange.objects.latest("pk").after == 42
    for step in (3, 4, 5, 6):
        keys.press("Enter")
        page.locator(f"text=Step {step} of 6").wait_for()
    keys.press("Enter")
    page.locator("text=The levels are done").wait_for()
    assert set(LookedAt.objects.filter(step__gt="").values_list("step", flat=True)) == {
        "light", "white-level", "black-level", "sharpness", "colour", "size",
    }  # fmt: skip
    assert page.complaints == []


def test_a_projector_is_paired_read_and_made_ready_by_keyboard_only(page, keys, system, bare):
    tuning = bare("Loftlight", "L4", "LL4-0093", "projector", "Natural")
    page.goto(f"{system.address}/tunings/{tuning.pk}/arrival/")
    keys.press("Enter")  # the first thing to do where the menu is not known
    page.locator("text=The display shows a code now").wait_for()
    page.locator("#code:focus").wait_for()
    keys.text("1234")
    keys.press("Enter")
    page.locator("text=That is not the code on the screen").wait_for()
    keys.press("Escape", "p")  # another one
    page.locator("text=The display shows a code now").wait_for()
    page.locator("#code:focus").wait_for()
    keys.text("4711")
    keys.press("Enter")
    page.locator("text=is paired").first.wait_for()
    keys.press("Enter")
    until(page, lambda: SettingsSheet.objects.count() == 1)
    sheet, menu = SettingsSheet.objects.get(), MenuMap.objects.get()
    assert sheet.moment == Moment.FOUND
    assert sheet.origin == "link"
    assert menu.origin == "link"
    assert sheet.values["ir-1"] == "Low"
    assert Tuning.objects.get().mode_id == "c2"
    page.locator("text=controls were read from the display").wait_for()
    keys.press("Enter")
    page.wait_for_url("**/groundwork/")
    page.locator("text=the display is in Natural").first.wait_for()  # it was asked
    page.locator("text=the display shows SDR").first.wait_for()
    rows = page.locator(".checks li").all_inner_texts()
    assert any("Convergence" in row for row in rows)
    assert any("Iris" in row and "Moving iris stands at Low" in row for row in rows)
    for _ in range(30):
        if page.locator("text=Ready to be measured").count():
            break
        before = page.locator("#hand .headline").inner_text()
        if before == "Motion":
            keys.press("b")
            keys.text("the client likes it")
            keys.press("Enter")
        else:
            keys.press("Enter" if page.locator("#hand button[name=link]").count() else "y")
        wait_until_otherwise(page, "#hand .headline", before)
    page.locator("text=Ready to be measured").wait_for()
    assert CheckAnswer.objects.get(check_id="motion").because == "the client likes it"
    changed = {c.control: c.after for c in ControlChange.objects.all()}
    assert changed["ir-1"] == "Off"
    assert "pq-4" not in changed
    # A pattern for a lens, shown on the source of the link.
    page.goto(f"{system.address}/tunings/{tuning.pk}/groundwork/?view=patterns&pattern=convergence")
    keys.press("Enter")
    page.locator("text=Shown on Brook P1").wait_for()
    assert page.complaints == []


def come_back(page, address):
    """Open a page of a server that has just come up: the browser may still be giving up what it had asked of the old one."""
    for _ in range(4):
        try:
            page.goto(address)
        except Error:
            page.wait_for_timeout(1000)
        else:
            return
    page.goto(address)


def test_what_is_typed_while_the_line_is_gone_is_there_again(page, keys, system, equipped_for_browser):
    tuning = equipped_for_browser
    page.goto(f"{system.address}/tunings/{tuning.pk}/arrival/")
    page.locator("#value-pic-1").fill("77")
    system.kill("web")
    page.locator("#value-pic-2").fill("88")
    keys.press("Escape", "k")
    page.locator("#link-state", has_text="onnect").wait_for()
    assert page.locator("#value-pic-1").input_value() == "77"
    system.start_web()
    come_back(page, f"{system.address}/tunings/{tuning.pk}/arrival/")
    page.locator("text=not stored is filled in again").wait_for()
    assert page.locator("#value-pic-1").input_value() == "77"
    assert page.locator("#value-pic-2").input_value() == "88"
    keys.press("k")
    until(page, lambda: SettingsSheet.objects.count() == 2)
    assert SettingsSheet.objects.latest("id").values["pic-1"] == 77
    page.wait_for_url("**/groundwork/")  # what is stored leads on, and would cut off a page that was asked for meanwhile
    page.goto(f"{system.address}/tunings/{tuning.pk}/arrival/")
    page.locator("#value-pic-1").wait_for()
    assert page.locator("text=filled in again").count() == 0


def test_on_a_phone_the_levels_are_gone_through(page, keys, system, equipped_for_browser):
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/groundwork/?view=levels")
    page.get_by_role("button", name="Begin with light").click()
    page.locator("text=Step 1 of 6").wait_for()
    page.get_by_label("Contrast").fill("30")
    page.get_by_role("button", name="Log it, next step").click()
    page.locator("text=Step 2 of 6").wait_for()
    assert page.evaluate("() => document.documentElement.scrollWidth") <= 390
    button = page.locator("#hand .ember").first.bounding_box()
    assert button["y"] + button["height"] <= 844
    assert ControlChange.objects.get(control="pic-1").after == 30


def test_how_pq_ends_is_drawn_while_its_points_are_moved_by_keys(page, keys, system, tuning):
    Tuning.objects.filter(pk=tuning.pk).update(signal="hdr10", target_name="bt2020-pq", roll_off="bt2390", mastered=4000.0)
    page.goto(f"{system.address}/tunings/{tuning.pk}/arrival/?view=target")
    keys.tab_to("[name=roll_off]")
    keys.press("End")  # by points of my own
    page.wait_for_selector("[data-knee='2']")
    begun = page.input_value("[name=knees]").split()
    assert len(begun) == 3
    drawn = page.inner_html("#ending svg")
    keys.tab_to("[data-knee='1']")
    keys.press("ArrowUp", "ArrowUp", "Shift+ArrowLeft")
    into, out = (float(v) for v in begun[1].split(":"))
    there = f"{into - 0.001:.3f} in, {out + 0.01:.3f} out"  # all three keys
    until(page, lambda: page.get_attribute("[data-knee='1']", "aria-valuetext").startswith(there))
    assert page.evaluate("document.activeElement.dataset.knee") == "1"
    moved = page.inner_html("#ending svg")
    page.reload()  # what was typed and not stored is filled in again, and drawn
    until(page, lambda: page.get_attribute("[data-knee='1']", "aria-valuetext").startswith(there))
    assert page.inner_html("#ending svg") == moved
    assert page.inner_html("#ending svg") != drawn
    assert page.input_value("[name=knees]").split()[1] == f"{into - 0.001:g}:{out + 0.01:g}"
    keys.tab_to("[name=primaries]")
    keys.press("Control+Enter")
    until(page, lambda: Tuning.objects.get(pk=tuning.pk).roll_off == "points")
    assert Tuning.objects.get(pk=tuning.pk).target.knees[1] == pytest.approx((into - 0.001, out + 0.01))
