"""What the work costs in keys and forms, by keyboard alone; docs/performance.md has these figures."""

import uuid

import pytest

from fenvik.web.controls.log import log_changes
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.services import note_found
from fenvik.web.demo.build import factory_sheet
from fenvik.web.passes.models import Reading
from fenvik.web.visits.models import Tuning
from tests.browser.test_arrival import Keys
from tests.browser.test_live import until
from tests.browser.waiting import wait_until_otherwise

pytestmark = pytest.mark.django_db(transaction=True)
HOUSE = """Lounge: Skerry W65, OLED
Film, night
Film, day
Film HDR, HDR10
Snug: Orrefall 55, LCD
Film, night
Game
Bright, day"""


class Counted(Keys):
    """Keys that are counted, characters among them, and forms that were sent."""

    def __init__(self, page):
        super().__init__(page)
        self.keys = self.forms = 0
        page.on("request", lambda asked: setattr(self, "forms", self.forms + (asked.method == "POST")))

    def press(self, *keys):
        self.keys += len(keys)
        super().press(*keys)

    def text(self, words):
        self.keys += len(words)
        super().text(words)

    def tab_to(self, selector, most=80):
        for _ in range(most):
            if self.page.evaluate("s => document.activeElement.matches(s)", selector):
                return
            self.press("Tab")
        raise AssertionError(f"{selector} cannot be reached with Tab")

    def choose(self, selector, begins):
        """Choose from a list by typing how it begins, as a browser allows."""
        self.tab_to(selector)
        self.text(begins)


def test_from_an_empty_firm_to_a_first_reading(page, system, person):
    keys = Counted(page)
    page.goto(f"{system.address}/visits/")
    keys.tab_to("section.start a.ember")
    keys.press("Enter")
    page.wait_for_url("**/instruments/")
    keys.tab_to("#id_address, #address")
    keys.text(system.directory)
    keys.press("Enter")
    page.locator("text=Tarn S2").first.wait_for()
    connected = keys.keys
    page.goto(f"{system.address}/visits/")
    keys.press("n")
    page.wait_for_url("**/visits/new/")
    begun = keys.keys, keys.forms
    keys.tab_to("#id_new_client")
    keys.text("Harbour house")
    keys.tab_to("#id_words")
    keys.text(HOUSE)
    keys.press("Control+Enter")
    until(page, lambda: Tuning.objects.count() == 6)
    planned = keys.keys - begun[0]
    assert keys.forms - begun[1] == 1, "two displays and six tunings of a new client are one form"
    assert planned - len(HOUSE) - len("Harbour house") <= 3
    tuning = Tuning.objects.get(name="Snug, night")
    page.goto(f"{system.address}/tunings/{tuning.pk}/instruments/")
    before = keys.keys
    keys.choose("#id_meter", "Tarn")
    keys.choose("#id_source", "Brook")
    keys.press("Control+Enter")
    until(page, lambda: Tuning.objects.get(pk=tuning.pk).source_id is not None)
    page.goto(f"{system.address}/tunings/{tuning.pk}/found/")
    page.get_by_role("button", name="Measure as found").wait_for()
    keys.press("Enter")
    until(page, Reading.objects.exists)
    print(f"keys: connect {connected}, plan {planned}, choose and read {keys.keys - before}; forms {keys.forms}")
    assert keys.forms <= 5
    assert keys.keys - len(HOUSE) - len(system.directory) < 130


def test_a_whole_mode_is_walked_back_a_group_at_a_time(page, system, equipped_for_browser, person, now):
    """Everything that was turned stands as noted again in as many presses as the menu has groups."""
    tuning = equipped_for_browser
    note_found(tuning_id=tuning.pk, actor=person, typed=factory_sheet(), now=now)
    controls = [c for c in tuning.display.menu_map.controls if c["kind"] == "range"]
    turned = {c["id"]: str(float(c["max"]) if c.get("default") != c["max"] else float(c["min"])) for c in controls}
    log_changes(tuning_id=tuning.pk, actor=person, typed=turned, seen=0, now=now, group=uuid.uuid4())
    keys = Counted(page)
    page.goto(f"{system.address}/tunings/{tuning.pk}/arrival/?view=sheets")
    page.locator("text=to turn to stand there again").wait_for()
    groups = {c["group"] for c in controls}
    headline = page.locator("#hand .headline")
    while "to turn" in (said := headline.inner_text()):
        keys.press("g" if page.locator("[data-key=g]").count() else "Enter")
        wait_until_otherwise(page, "#hand .headline", said)
    assert ControlChange.objects.count() == 2 * len(turned)
    print(f"{len(turned)} controls walked back in {keys.keys} presses")
    assert keys.keys <= len(groups)
