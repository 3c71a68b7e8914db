"""Every page is looked over by axe: nothing serious may be found."""

from pathlib import Path

import pytest

from fenvik.web.patterns.services import screen_of
from fenvik.web.people import services

pytestmark = pytest.mark.django_db(transaction=True)
AXE = (Path(__file__).resolve().parents[1] / "vendor" / "axe.min.js").read_text(encoding="utf-8")
LONG = 3 * "Wiederverwendbarkeitsprüfungsverfahrensbeschreibung"
RUN = "async () => (await axe.run({ resultTypes: ['violations'] })).violations"
# Words that lie on other words: what is drawn of each text, held against what comes after it.
# Figures and names in fields that are too narrow for them; what is longer than anybody's field is scrolled.
CLIPPED = """() => [...document.querySelectorAll('input')]
  .filter(e => e.offsetParent && e.value && e.value.length < 24 && e.scrollWidth > e.clientWidth + 1)
  .map(e => `${e.name} does not show ${e.value}`)"""
OVERLAP = """() => {
  const words = [];
  for (const e of document.querySelectorAll('header *, nav *, main *, .frame *')) {
    if (e.closest('svg, option, script, thead, [class*=hidden]') || !e.checkVisibility({ visibilityProperty: true })) continue;
    if (getComputedStyle(e).position === 'absolute') continue;
    for (const n of e.childNodes) {
      if (n.nodeType !== 3 || !n.textContent.trim()) continue;
      const range = document.createRange();
      range.selectNodeContents(n);
      const cut = getComputedStyle(e).overflowX === 'visible' ? Infinity : e.getBoundingClientRect().right;
      for (const r of range.getClientRects())
        words.push([{ left: r.left, top: r.top, bottom: r.bottom, right: Math.min(r.right, cut) }, n.textContent.trim(), e]);
    }
  }
  const found = [];
  words.forEach(([a, said, e], i) => words.slice(i + 1, i + 60).forEach(([b, other, f]) => {
    if (e.contains(f) || f.contains(e)) return;
    const wide = Math.min(a.right, b.right) - Math.max(a.left, b.left);
    const high = Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top);
    if (wide > 4 && high > 8) found.push(said.slice(0, 40) + ' on ' + other.slice(0, 40));
  }));
  return found.slice(0, 3);
}"""


def serious(page):
    page.evaluate(AXE)
    found = page.evaluate(RUN)
    return [
        f"{page.url}: {v['id']}: {v['nodes'][0]['html'][:160]} ({len(v['nodes'])})"
        for v in found
        if v["impact"] in ("serious", "critical")
    ]


def named_at_length(tuning):
    """Give everything that has a name as long a one as it takes, in one word."""
    menu, display = tuning.display.menu_map, tuning.display
    for control in menu.controls[::3]:
        control["label"] = (control["label"] + LONG)[:80]
    for thing, names in (
        (tuning, ("name", "picture_mode")), (display, ("maker", "model")), (display.room, ("name",)), (menu, ()),
        (tuning.visit.client, ("name",)), (tuning.meter, ("name",)), (tuning.source, ("name",)),
    ):  # fmt: skip
        for name in names:
            longest = thing._meta.get_field(name).max_length
            setattr(thing, name, (getattr(thing, name) + LONG)[:longest])
        thing.save()


def test_axe_finds_nothing_serious_on_any_page(page, system, equipped_for_browser, person):
    tuning = equipped_for_browser
    named_at_length(tuning)
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
        *(f"{at}/groundwork/?view={part}" for part in ("checks", "levels", "patterns", "warm-up", "modes", "whites")),
        *(f"{at}/groundwork/?view=whites&about={about}" for about in ("shift", "match")),
        *(f"{at}/instruments/?view={part}" for part in ("aim", "correction", "spectra")),
        *(f"{at}/adjust/?work={work}" for work in ("light", "points", "colours", "hands-free")),
        f"{at}/found/?view=lists",
        f"{at}/groundwork/?check=motion",
        f"{at}/groundwork/?view=levels&step=black-level",
        *(f"{at}/{stop}/" for stop in ("instruments", "found", "adjust", "left", "handover")),
    ]
    problems = []
    for address in addresses:
        page.goto(f"{system.address}{address}")
        problems += serious(page)
        # Nothing wants scrolling sideways or lies on other words: on a desk, at 200 % of it (WCAG 1.4.10), a tablet, a phone.
        for width in (640, 390, 768, 1024, 1280):
            page.set_viewport_size({"width": width, "height": 800})
            wide = page.evaluate("document.documentElement.scrollWidth - window.innerWidth")
            if wide > 1:
                problems.append(f"{address}: {wide} pixels too wide at {width}")
            problems += [f"{address}: {words} at {width}" for seen in (OVERLAP, CLIPPED) for words in page.evaluate(seen)]
    assert problems == []


def test_axe_finds_nothing_serious_in_what_was_measured(page, system, equipped_for_browser):
    page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/found/")
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    problems = []
    for view in ("balance", "tone", "colours", "errors"):
        page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/found/?view={view}&table=1")
        problems += serious(page)
    assert problems == []


def test_who_hears_the_page_can_do_the_work(page, system, equipped_for_browser):
    """A walk by what a screen reader is given: headings, names of fields and buttons, names of marks."""
    at = f"{system.address}/tunings/{equipped_for_browser.pk}"

    def heard():
        return page.locator("body").aria_snapshot()

    page.goto(f"{at}/groundwork/?check=motion")
    for words in ('link "To what this page is about"', 'navigation "', 'heading "'):
        assert words in heard()
    page.goto(f"{at}/found/")
    page.get_by_role("button", name="Measure as found").press("Enter")
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    told = heard()
    assert 'heading "Does grey stay grey?"' in told
    assert "100 %, red as found" in told  # a mark of the chart by its name
    assert 'cell "' in told or 'row "' in told
    page.goto(f"{at}/adjust/")
    told = heard()
    assert "R-Gain" in told
    assert 'button "Done, read again' in told
    for field in page.locator("input:visible, select:visible, textarea:visible").all():
        name = field.evaluate("e => (e.labels && e.labels[0] && e.labels[0].textContent) || e.getAttribute('aria-label') || ''")
        assert name.strip(), field.evaluate("e => e.outerHTML")


@pytest.mark.parametrize("media", [{"forced_colors": "active"}, {"reduced_motion": "reduce"}])
def test_high_contrast_and_no_motion_leave_the_page_whole(page, system, equipped_for_browser, media):
    page.emulate_media(**media)
    page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/groundwork/")
    moving = page.evaluate("document.getAnimations().filter((a) => a.playState === 'running').length")
    if "reduced_motion" in media:
        assert moving == 0
        assert serious(page) == []
    else:  # marks that are told apart by colour alone would all be one
        shape = "e => getComputedStyle(e.querySelector('a'), '::before').borderRadius"
        assert page.locator(".checks .wrong").first.evaluate(shape) == "0px"


def test_axe_would_find_something_and_so_would_words_on_words(page):
    page.set_content("<html lang='en'><title>x</title><body><img src='x'><button></button></body></html>")
    assert serious(page)
    page.set_content("<main><p>some words</p><p>others</p></main>")
    assert page.evaluate(OVERLAP) == []
    page.evaluate("document.querySelector('p + p').style.marginTop = '-33px'")
    assert page.evaluate(OVERLAP) == ["some words on others"]
