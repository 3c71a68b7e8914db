"""A client chooses a white, blind, on the stand-in's own picture; the page is driven by keys, on a phone."""

import json
from urllib.request import urlopen

import pytest

from fenvik.web.planning.whites import keep_candidate
from fenvik.web.visits.models import Tuning
from fenvik.web.whites.models import WhiteTrial
from tests.browser.test_live import until

pytestmark = pytest.mark.django_db(transaction=True)


def warmth(system):
    """How yellow the middle of the television's picture is, as its own page would show it."""
    asked = f"{system.pages.rstrip('/')}/api/eye?reference=SW65-0112&other=OF55-0417"
    with urlopen(asked) as answer:
        look = json.loads(answer.read())["looks"][1]
    return int(look[1:3], 16) / int(look[5:7], 16)


def test_a_client_chooses_the_warmer_white_blind_and_the_tuning_aims_at_it(page, system, equipped_for_browser, person):
    keep_candidate(actor=person, name="a warm white", uv=(0.008, 0.006), why="for a try")
    page.set_viewport_size({"width": 390, "height": 844})
    at = f"{system.address}/tunings/{equipped_for_browser.pk}/groundwork/?view=whites"
    page.goto(at)
    page.get_by_role("button", name="Read white").click()
    page.get_by_role("button", name="Show them").wait_for()  # the four readings are there
    page.get_by_role("checkbox", name="a warm white").check()
    page.get_by_label("as", exact=True).select_option("white")
    page.get_by_role("button", name="Show them").click()
    begin = page.get_by_role("button", name="Begin the round")
    begin.wait_for()
    for number in range(6):
        page.keyboard.press("Enter")
        page.locator(".big", has_text="A").wait_for()
        first = warmth(system)
        page.keyboard.press("Enter")
        page.locator("#hand .headline", has_text="The eye rests").wait_for()
        page.keyboard.press("Enter")  # who has rested needs not wait
        page.get_by_text("Which is white?").wait_for()
        second = warmth(system)
        assert abs(first - second) > 0.01, "the two letters are two whites"  # five of 255 codes, give or take one
        page.keyboard.press("a" if first > second else "b")
        until(page, lambda number=number: len(WhiteTrial.objects.get().picks) == number + 1)
        if number < 5:
            begin.wait_for()
    page.get_by_label("In the client’s words").fill("like paper")
    page.get_by_role("button", name="Aim at it").click()
    page.locator(".chain", has_text="like paper").wait_for()
    tuning = Tuning.objects.get(pk=equipped_for_browser.pk)
    assert [(p.kind, p.du, p.dv) for p in tuning.whites] == [("client", 0.008, 0.006)]
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    assert page.complaints == []
