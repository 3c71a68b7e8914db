"""A long pass with a fault in the middle, a comparison, and readings from a file, in a browser."""

import json
import re
import urllib.request

import pytest

from fenvik.web.devices.models import Device
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass, PassPurpose, PassState, PatchList

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def site(system, tuning, person, now):
    from fenvik.web.devices.services import take_up

    assert take_up(actor=person, address=system.directory, now=now).problems == []
    tuning.meter, tuning.source = Device.objects.get(serial="PC1-2209"), Device.objects.get(serial="BP1-1180")
    tuning.save()
    return tuning


def press(system, path, **body):
    request = urllib.request.Request(
        f"{system.pages}{path}", json.dumps(body).encode(), {"Content-Type": "application/json"}, method="POST"
    )
    with urllib.request.urlopen(request, timeout=90) as answer:
        return json.load(answer)


def test_a_long_pass_is_chosen_and_a_fault_in_the_middle_costs_nothing(page, system, site):
    page.goto(f"{system.address}/tunings/{site.pk}/found/")
    page.keyboard.press("l")
    page.locator("#question", has_text="What is read?").wait_for()
    for name in ("Greyscale, 21", "Saturation ladder", "Near black", "Window ladder"):
        page.get_by_label(name).check()
    page.get_by_label("White for drift after every … patches, 0 never").fill("10")
    page.get_by_role("button", name=re.compile("Keep these lists")).click()
    page.get_by_text(re.compile(r"7\d patches as chosen")).wait_for()
    assert page.get_by_label("Greyscale, 21").is_checked()
    page.keyboard.press("Enter")
    page.get_by_text(re.compile("About .* left")).wait_for()
    page.wait_for_function("() => /[1-9]\\d of 7\\d/.test(document.querySelector('#hand')?.textContent)")
    press(system, "api/fault/PC1-2209", kind="wrong-shape")
    page.locator("#hand .notice", has_text="an answer that the device link does not allow").wait_for()
    pass_ = Pass.objects.latest("id")
    stored = pass_.readings.count()
    page.wait_for_timeout(500)
    assert pass_.readings.count() == stored
    press(system, "api/fault/PC1-2209", kind="")
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    assert [r.index for r in pass_.readings.order_by("id")] == list(range(len(pass_.patches)))
    page.goto(f"{system.address}/tunings/{site.pk}/found/")
    for key, words in (("5", "What does its light do?"), ("6", "What is wrong")):
        page.keyboard.press(key)
        page.locator("#question", has_text=words).wait_for()
    assert page.locator("ol.wrong li").count() >= 2
    page.get_by_text("Read more of it").click()
    page.get_by_label("One patch again").select_option(label="50 %")
    page.get_by_role("button", name="Read it").click()
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    assert pass_.readings.filter(label="50 %").count() == 2
    assert page.complaints == []


def test_two_passes_are_compared_and_readings_come_from_a_file(page, system, site, tmp_path):
    page.goto(f"{system.address}/tunings/{site.pk}/found/")
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    with page.expect_download() as sent:
        page.locator(".exports a", has_text="CSV").last.click()
    file = tmp_path / "readings.csv"
    sent.value.save_as(file)
    text = file.read_text().splitlines()
    assert text[0] == "label,r,g,b,bits,range,part,window,surround,dark,X,Y,Z"
    brighter = [text[0]] + [
        ",".join([*row[:10], *(f"{float(v) * 1.3:.6g}" for v in row[10:])])
        for row in (line.split(",") for line in text[1:])
    ]
    file.write_text("\n".join(brighter))
    with page.expect_download() as picture:
        page.locator("a[data-png]").click()
    picture.value.save_as(tmp_path / "chart.png")
    assert (tmp_path / "chart.png").read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"

    page.goto(f"{system.address}/tunings/{site.pk}/left/?view=lists")
    page.locator("#readings-file").set_input_files(str(file))
    page.get_by_role("button", name="Take them up").click()
    page.get_by_text("17 readings of readings.csv are kept.").wait_for()
    assert Pass.objects.get(purpose=PassPurpose.LEFT).state == PassState.DONE
    file.write_text("label,r,g,b,bits,range,X,Y,Z\nwhite,235,235,235,8,limited,1,two,3\n")
    page.goto(f"{system.address}/tunings/{site.pk}/left/?view=lists")
    page.locator("#readings-file").set_input_files(str(file))
    page.get_by_role("button", name="Take them up").click()
    page.get_by_text("line 2, column Y").wait_for()
    assert not chosen(page, "#readings-file"), "it is mended first"
    page.locator("#readings-file").set_input_files(str(file))
    # News of anything else does not take away what was said to this page alone.
    own = PatchList.objects.create(firm=site.visit.firm, name="Four corners", patches=[["white", 100, 100, 100]])
    notify(site.pk)
    page.get_by_text(own.name).first.wait_for()
    assert page.get_by_text("line 2, column Y").is_visible()
    assert chosen(page, "#readings-file") == "readings.csv"

    page.goto(f"{system.address}/tunings/{site.pk}/compare/")
    row = page.locator(".differ tr", has_text="white, cd/m²")
    assert "higher" in row.inner_text()
    assert "cannot be told apart" in page.locator(".differ tr", has_text="gamma").inner_text()
    page.get_by_role("link", name="error", exact=True).click()
    page.locator("#question", has_text="How far is each patch").wait_for()

    page.goto(f"{system.address}/corrections/from-file/")
    page.get_by_label("Display’s maker").fill("Orrefall")
    for label in ("the reference’s readings", "the meter’s readings"):
        page.get_by_label(label).set_input_files(str(file))
    page.get_by_role("button", name="Take it up").click()
    page.get_by_text("line 2, column Y").wait_for()
    assert (chosen(page, "#id_reference"), chosen(page, "#id_field")) == (None, "readings.csv")
    assert page.get_by_label("Display’s maker").input_value() == "Orrefall"
    assert page.complaints == []


def chosen(page, field):
    return page.locator(field).evaluate("(field) => field.files[0]?.name ?? null")


def test_an_own_list_is_written_in_the_editor(page, system, site):
    page.goto(f"{system.address}/tunings/{site.pk}/found/?view=lists")
    page.get_by_role("link", name="Write one").click()
    page.get_by_label("Name").fill("Reds")
    page.get_by_label("A patch a line").fill("deep; 60; 10; 10\npale; 80; 60; wrong")
    page.get_by_role("button", name="Keep it").click()
    page.get_by_text("Line 2: wrong is no number.").wait_for()
    page.get_by_label("A patch a line").fill("deep; 60; 10; 10\npale; 80; 60; 60")
    page.get_by_role("button", name="Keep it").click()
    page.get_by_text("Reds is kept, 2 patches.").wait_for()
    page.get_by_text("19 patches as chosen").wait_for()
    assert page.get_by_label("Reds").is_checked()
    assert page.complaints == []
