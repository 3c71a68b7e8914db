"""What is seen while a pass runs, and what crashes and restarts cost."""

import io
import time

import pytest
from PIL import Image

from fenvik.web.passes.models import Pass, PassState, Reading

pytestmark = pytest.mark.django_db(transaction=True)


def until(page, condition):
    for _ in range(1800):
        if condition():
            return
        page.wait_for_timeout(50)
    raise AssertionError("it did not happen in time")


def start(page, system, tuning, settle="0.15"):
    tuning.settle_s = float(settle)
    tuning.save()
    page.goto(f"{system.address}/tunings/{tuning.pk}/found/")
    page.keyboard.press("Enter")
    until(page, lambda: Reading.objects.count() >= 2)


def test_a_killed_worker_is_replaced_and_no_patch_is_read_twice(page, system, equipped_for_browser):
    start(page, system, equipped_for_browser)
    system.kill("worker")
    read = Reading.objects.count()
    page.wait_for_timeout(500)
    assert Reading.objects.count() == read < 17
    system.start("worker")
    until(page, lambda: Pass.objects.get().state == PassState.DONE)
    assert list(Reading.objects.order_by("id").values_list("index", flat=True)) == list(range(17))
    page.get_by_role("link", name="Go on to Adjust").wait_for()


def test_a_tab_left_open_over_a_restart_of_the_web_goes_on(page, system, equipped_for_browser):
    start(page, system, equipped_for_browser)
    system.kill("web")
    page.locator("#link-state", has_text="onnect").wait_for()
    system.start_web()
    until(page, lambda: Pass.objects.get().state == PassState.DONE)
    newest = Reading.objects.order_by("-id")[0].pk
    page.wait_for_selector(f"[data-reading='{newest}']")
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    page.keyboard.press("m")
    page.get_by_role("button", name="Pause").wait_for()


def test_pause_go_on_and_stop_from_the_keyboard(page, system, equipped_for_browser):
    start(page, system, equipped_for_browser)
    page.keyboard.press("p")
    page.get_by_role("button", name="Go on").wait_for()
    read = Reading.objects.count()
    page.wait_for_timeout(400)
    assert Reading.objects.count() == read
    page.keyboard.press("Enter")
    until(page, lambda: Reading.objects.count() > read)
    page.keyboard.press("x")
    until(page, lambda: Pass.objects.get().state == PassState.STOPPED)
    assert Reading.objects.count() < 17
    assert page.complaints == []


def test_reading_on_follows_the_level_and_the_screen_follows_the_reading(page, system, equipped_for_browser):
    tuning = equipped_for_browser
    page.goto(f"{system.address}/tunings/{tuning.pk}/adjust/")
    page.keyboard.press(".")
    until(page, lambda: Reading.objects.filter(label="80 %").count() >= 3)
    page.keyboard.press("ArrowUp")
    until(page, lambda: Reading.objects.filter(label="90 %").count() >= 2)
    page.locator("#hand", has_text="90 %").first.wait_for()
    page.keyboard.press("?")
    keys = page.locator("#keys-list").inner_text()
    assert "stop reading" in keys
    assert "the control" in keys or "level up" in keys
    page.keyboard.press("Escape")
    page.keyboard.press(".")
    until(page, lambda: not Pass.objects.filter(finished_at=None).exists())
    assert page.complaints == []


def luminance_of(page):
    """Return the mean linear luminance of what is on the screen, as a share of white."""
    picture = Image.open(io.BytesIO(page.screenshot())).convert("RGB")
    count = picture.width * picture.height
    total = 0.0
    for shade, weight in zip(range(3), (0.2126, 0.7152, 0.0722), strict=True):
        for value, times in enumerate(picture.getchannel(shade).histogram()):
            total += weight * times * (value / 255) ** 2.2
    return total / count


def test_the_dim_surface_does_not_light_the_room(page, system, equipped_for_browser):
    start(page, system, equipped_for_browser, settle="0")
    page.get_by_role("link", name="Go on to Adjust").wait_for()
    for view in ("balance", "tone", "colours", "errors"):
        page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/found/?view={view}")
        assert luminance_of(page) < 0.06
    page.goto(f"{system.address}/visits/")
    assert luminance_of(page) > 0.5  # the desk does: the check above can fail


def test_on_a_phone_the_hand_comes_first_and_nothing_runs_over(page, system, equipped_for_browser):
    page.set_viewport_size({"width": 390, "height": 844})
    for stop in ("arrival", "groundwork", "instruments", "found", "adjust", "left", "handover"):
        page.goto(f"{system.address}/tunings/{equipped_for_browser.pk}/{stop}/")
        wide = page.evaluate("() => document.documentElement.scrollWidth")
        assert wide <= 390, stop
        if stop in ("found", "adjust"):
            hand, field = page.locator("#hand").bounding_box(), page.locator("#field").bounding_box()
            assert hand["y"] < field["y"]
            button = page.locator("#hand .ember").first.bounding_box()
            assert button["y"] + button["height"] <= 844
    page.goto(f"{system.address}/visits/")
    assert page.evaluate("() => document.documentElement.scrollWidth") <= 390


def test_people_who_type_values_keep_nobody_elses_pass_from_running(system, equipped_for_browser, person, now):
    """More passes wait for a person than a worker has slots; one over the link runs beside them, and an answer is still heard."""
    from fenvik.web.devices.keyed import keyed_meter, keyed_source
    from fenvik.web.passes import services
    from fenvik.web.visits.models import Tuning

    waiting = []
    for i in range(10):
        meter = keyed_meter(
            actor=person, name=f"Meter {i}", serial=f"K{i}", kind="colorimeter", floor=0.01, order="XYZ", now=now
        )
        source = keyed_source(actor=person, name=f"Disc {i}", range_="limited", now=now)
        tuning = Tuning.objects.get(pk=equipped_for_browser.pk)
        display = tuning.display
        display.pk, display.serial = None, f"another {i}"
        display.save()
        tuning.pk = tuning.aim_id = tuning.measuring_id = None
        tuning.display, tuning.meter, tuning.source = display, meter, source
        tuning.save()
        waiting.append(services.start_pass(tuning_id=tuning.pk, actor=person, now=now))

    def until_so(condition):
        end = time.monotonic() + 90
        while not condition():
            assert time.monotonic() < end
            time.sleep(0.05)

    until_so(lambda: all(p.is_parked for p in Pass.objects.filter(pk__in=[p.pk for p in waiting])))
    linked = services.start_pass(tuning_id=equipped_for_browser.pk, actor=person, now=now)
    until_so(lambda: Pass.objects.get(pk=linked.pk).state == PassState.DONE)
    one = Pass.objects.get(pk=waiting[3].pk)
    services.answer(pass_id=one.pk, actor=person, number=one.asks["n"], said={"xyz": [95, 100, 109]})
    until_so(lambda: one.readings.count() == 1)
    for pass_ in waiting:
        services.ask_to_stop(pass_id=pass_.pk, actor=person, now=now)
