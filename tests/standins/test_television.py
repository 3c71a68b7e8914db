"""The stand-in's own page, worked in a real browser by arrow keys."""

import pytest

from tests.browser.television import Television


@pytest.fixture
def television(chromium, tmp_path):
    import subprocess
    import sys

    from tests.browser.conftest import ROOT

    process = subprocess.Popen(
        [sys.executable, "-m", "fenvik.cli", "standins", "--haste", "inf"],
        env={"PYTHONPATH": str(ROOT / "src"), "PATH": ""},
        stdout=subprocess.PIPE,
        text=True,
    )
    pages = next(line.split()[1] for line in process.stdout if line.startswith("pages"))
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    yield Television(context, pages)
    context.close()
    process.terminate()
    process.wait(10)
    process.stdout.close()


def test_presses_belong_to_the_row_that_was_chosen(television):
    television.turn("eco-1", "Off")
    television.turn("pic-1", 40)
    television.turn("wb-gb", -7)
    television.page.wait_for_timeout(600)
    shown = {name: television.value(name) for name in television.ids() if not name.startswith("pq")}
    assert shown == {
        "": "Film", "input": "Input 1", "pic-1": "40", "pic-2": "90", "pic-3": "50", "pic-4": "Middle", "pic-5": "50",
        "pic-6": "0", "wb-gr": "0", "wb-gg": "0", "wb-gb": "-7", "wb-or": "0", "wb-og": "0", "wb-ob": "0",
        "eco-1": "Off", "eco-2": "off",
    }


def test_no_press_is_lost_to_an_answer_that_was_asked_for_before_it(television):
    page = television.page
    television.turn("wb-gb", 0)
    page.evaluate(
        "() => { const ask = window.fetch; window.fetch = async (...asked) => { const answer = await ask(...asked);"
        " if (!asked[1]) await new Promise((r) => setTimeout(r, 250)); return answer; }; }"
    )
    for _ in range(12):
        page.keyboard.press("ArrowLeft")
        page.wait_for_timeout(100)
    page.wait_for_function("() => document.querySelector(`.row[data-control='wb-gb'] b`)?.textContent === '-12'")


def test_a_mode_is_chosen_and_shift_goes_by_five(television):
    page = television.page
    for _ in range(12):
        page.keyboard.press("ArrowUp")
    page.keyboard.press("ArrowLeft")
    page.wait_for_function("() => document.querySelector('.row b')?.textContent === 'Shop'")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Shift+ArrowRight")
    page.wait_for_function("() => document.querySelectorAll('.row b')[2]?.textContent === '95'")
    page.keyboard.press("m")
    assert page.locator("#menu").is_hidden()


def test_each_input_of_the_lcd_has_its_own_values(television):
    television.turn("pic-1", 40)
    television.turn("input", "Input 1")
    television.page.keyboard.press("ArrowRight")
    television.page.wait_for_function(
        "() => document.querySelector(`.row[data-control='pic-1'] b`)?.textContent === '34'"
    )
    assert television.value("input") == "Input 2"
    television.turn("input", "Input 1")
    television.page.wait_for_function(
        "() => document.querySelector(`.row[data-control='pic-1'] b`)?.textContent === '40'"
    )


def test_a_meter_is_aimed_on_the_page(television):
    page = television.page
    page.goto(page.url.split("/display/")[0] + "/display/NOT-THERE")  # of which there is no page, so all of them are shown
    field = page.get_by_label("Aim of Pebble C1 to the right, percent")
    field.fill("12")
    with page.expect_response("**/api/world") as answer:
        field.press("Tab")
    assert answer.value.ok
    page.reload()
    assert page.get_by_label("Aim of Pebble C1 to the right, percent").input_value() == "12"
