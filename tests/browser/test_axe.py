"""Every page is looked over by axe: nothing serious may be found."""

from pathlib import Path

import pytest

from fenvik.web.patterns.services import screen_of
from fenvik.web.people import services

pytestmark = pytest.mark.django_db(transaction=True)
AXE = (Path(__file__).resolve().parents[1] / "vendor" / "axe.min.js").read_text(encoding="utf-8")
RUN = "async () => (await axe.run({ resultTypes: ['violations'] })).violations"


def serious(page):
    page.evaluate(AXE)
    found = page.evaluate(RUN)
    return [
        f"{page.url}: {v['id']}: {v['nodes'][0]['html'][:160]} ({len(v['nodes'])})"
        for v in found
        if v["impact"] in ("serious", "critical")
    ]


def test_axe_finds_nothing_serious_on_any_page(page, system, equipped_for_browser, person):
    tuning = equipped_for_browser
    screen = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id)
    sheet = tuning.sheets.get()
    at = f"/tunings/{tuning.pk}"
    addresses = [
        "/visits/",
        "/visits/new/",
        f"/visits/{tuning.visit_id}/",
        f"/visits/{tuning.visit_id}/displays/{tuning.display_id}/",
        "/clients/",
        f"/clients/{tuning.visit.client_id}/",
        f"/rooms/{tuning.display.room_id}/",
        f"/displays/{tuning.display_id}/",
        "/instruments/",
        "/find/?q=snug",
        f"/sheets/{sheet.pk}/",
        "/screen/",
        f"/screen/{screen.token}/",
        "/nothing/here/",
        "/people/",
        "/people/log/",
        "/own/",
        "/words/",
        "/help/adjust/",
        "/away/",
        f"/away/client/{tuning.visit.client_id}/",
        f"{at}/compare/",
        f"/link/{services.invite(actor=person, name='Bo', role='office').token}/",
        *(f"{at}/arrival/?view={part}" for part in ("settings", "sheets", "display", "menu", "target")),
        *(f"{at}/groundwork/?view={part}" for part in ("checks", "levels", "patterns", "warm-up")),
        f"{at}/groundwork/?check=motion",
        f"{at}/groundwork/?view=levels&step=black-level",
        *(f"{at}/{stop}/" for stop in ("instruments", "found", "adjust", "left", "handover")),
    ]
    problems = []
    for address in addresses:
        page.goto(f"{system.address}{address}")
        problems += serious(page)
    assert "\n".join(problems) == ""


def test_axe_finds_nothing_serious_in_what_was_measured(page, system, equipped_for_browser):
    page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/found/")
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    problems = []
    for view in ("balance", "tone", "colours", "errors"):
        page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/found/?view={view}&table=1")
        problems += serious(page)
    assert "\n".join(problems) == ""


def test_axe_would_find_something(page):
    page.set_content("<html lang='en'><title>x</title><body><img src='x'><button></button></body></html>")
    assert serious(page)
