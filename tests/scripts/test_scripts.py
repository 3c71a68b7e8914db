"""The page's scripts, module by module, in the browser that they are for; no server, no database."""

from pathlib import Path

import pytest

SCRIPTS = Path(__file__).resolve().parents[2] / "src" / "fenvik" / "web" / "static" / "js"
HOST = "http://scripts.invalid"


@pytest.fixture(scope="module")
def window(chromium):
    context = chromium.new_context()
    context.route(f"{HOST}/**", answer)
    yield context.new_page()
    context.close()


@pytest.fixture
def page(window):
    """An empty page whose scripts come from the folder anew; nothing of the test before is kept in its browser."""
    window.goto(f"{HOST}/")
    window.evaluate("() => { localStorage.clear(); sessionStorage.clear(); }")
    window.goto(f"{HOST}/")
    return window


def answer(route):
    name = route.request.url.removeprefix(f"{HOST}/").split("?")[0]
    if name:
        route.fulfill(path=SCRIPTS / name, content_type="text/javascript")
    else:
        route.fulfill(body="<!doctype html><title>scripts</title><body></body>", content_type="text/html")


def run(page, module, script, body=""):
    """Give the page a body, import a module as ``m``, and return what a piece of script returns."""
    page.evaluate("html => { document.body.innerHTML = html; }", body)
    return page.evaluate(f"async () => {{ const m = await import('{HOST}/{module}'); {script} }}")


FIELD = '<input id="f" data-turn="{step}" data-low="-10" data-high="10" value="{value}">'
TURN = """
const field = document.getElementById("f");
let heard = 0;
field.addEventListener("input", () => { heard += 1; });
const used = m.turned({ target: field, key: KEY, shiftKey: SHIFT });
return [used, field.value, heard];
"""


@pytest.mark.parametrize(
    ("value", "step", "key", "shift", "wanted"),
    [
        ("3", 1, "ArrowUp", False, "4"), ("3", 1, "ArrowDown", True, "-2"), ("9", 1, "ArrowUp", True, "10"),
        ("", 1, "ArrowUp", False, "-9"), ("−3", 1, "ArrowUp", False, "-2"), ("0,5", 0.1, "ArrowUp", False, "0.6"),
    ],
)  # fmt: skip
def test_arrows_turn_a_value_by_its_step_within_its_range(page, value, step, key, shift, wanted):
    script = TURN.replace("KEY", repr(key)).replace("SHIFT", str(shift).lower())
    assert run(page, "turning.js", script, FIELD.format(step=step, value=value)) == [True, wanted, 1]


def test_enter_walks_through_a_sheet_and_sends_it_at_its_end(page):
    body = '<form id="w" data-walk><input id="a"><input id="b"></form><button form="w" type="button" id="s"></button>'
    script = """
    let sent = 0;
    document.getElementById("s").addEventListener("click", () => { sent += 1; });
    const at = [];
    for (const id of ["a", "b"]) {
      const field = document.getElementById(id);
      field.focus();
      m.turned({ target: field, key: "Enter", shiftKey: false });
      at.push([document.activeElement.id, sent]);
    }
    return at;
    """
    assert run(page, "turning.js", script, body) == [["b", 0], ["b", 1]]


@pytest.mark.parametrize(
    ("made", "is_line"),
    [
        ("new TypeError('Failed to fetch')", True), ("new TypeError('NetworkError when attempting to fetch resource.')", True),
        ("new TypeError('Load failed')", True), ("new TypeError(\"Cannot read properties of null (reading 'x')\")", False),
        ("new Error('Failed to fetch')", False), ("'Failed to fetch'", False),
    ],
)  # fmt: skip
def test_only_a_line_that_is_gone_is_called_so(page, made, is_line):
    body = '<span id="link-state"></span>'
    script = f"""
    let prevented = false;
    m.broke({{ reason: {made}, preventDefault: () => {{ prevented = true; }} }});
    return [prevented, document.getElementById("link-state").textContent.startsWith("not connected")];
    """
    assert run(page, "forms.js", script, body) == [is_line, is_line]


LIVE = """
const made = [];
class Stream extends EventTarget {
  constructor(to) { super(); this.to = to; this.readyState = 1; this.closed = false; made.push(this); }
  close() { this.closed = true; this.readyState = 2; }
}
let gone = 0;
const live = new m.Live("/live/", { makeStream: (to) => new Stream(to), goTo: () => { gone += 1; } });
const page = new EventTarget();
live.watch(page);
const shown = (persisted) => page.dispatchEvent(Object.assign(new Event("pageshow"), { persisted }));
"""


def test_a_page_that_is_left_closes_its_stream_and_back_opens_a_new_one(page):
    script = LIVE + """
    page.dispatchEvent(new Event("pagehide"));
    const left = made.map((s) => s.closed);
    shown(true);
    page.dispatchEvent(new Event("pagehide"));
    shown(true);
    return [left, made.map((s) => s.closed)];
    """
    assert run(page, "live.js", script) == [[True], [True, True, False]]


def test_a_page_that_is_shown_for_the_first_time_has_one_stream(page):
    assert run(page, "live.js", LIVE + "shown(false); return made.length;") == 1


def test_fragments_are_put_in_and_a_server_that_is_back_is_found(page):
    script = LIVE + """
    const told = (name, data) => made.at(-1).dispatchEvent(Object.assign(new Event(name), { data }));
    told("fragments", JSON.stringify({ field: '<main id="field">new</main>' }));
    const text = document.getElementById("field").textContent;
    made[0].readyState = 0;
    told("error");
    const waits = document.getElementById("link-state").textContent;
    made[0].readyState = 2;
    told("error");
    const said = document.getElementById("link-state").textContent;
    await new Promise((done) => { const look = () => (made.length > 1 ? done() : setTimeout(look, 20)); look(); });
    told("ended");
    return [text, waits, said.split(":")[0], made.length, made.at(-1).closed, gone];
    """
    body = '<main id="field">old</main><span id="link-state"></span>'
    assert run(page, "live.js", script, body) == ["new", "connecting again", "not connected", 2, True, 1]


PUT = """
m.put("hand", '<aside id="hand">' + FRESH + '</aside>');
return document.getElementById("hand").innerHTML;
"""


@pytest.mark.parametrize(
    ("old", "fresh", "stays"),
    [
        ("<p>a</p>", "<p>b</p>", False),
        ('<input name="once" value="1" type="hidden"><p>a</p>', '<input name="once" value="2" type="hidden"><p>a</p>', True),
        ('<input id="typed" value="5"><p>a</p>', '<input id="typed" value="6"><p>b</p>', True),
    ],
    ids=["what is new is put in", "a new key alone changes nothing", "what is being typed in stays"],
)
def test_fragments_are_put_in_where_they_changed_and_nobody_types(page, old, fresh, stays):
    body = f'<aside id="hand">{old}</aside>'
    before = "const typed = document.getElementById('typed'); if (typed) typed.focus();\n"
    shown = run(page, "fragments.js", before + PUT.replace("FRESH", repr(fresh)), body)
    assert shown == (old if stays else fresh)


def test_a_draft_is_filled_in_again_until_the_server_has_another_number(page):
    fields = '<input name="a" value="1"><select name="b"><option>x<option>y</select>'
    body = '<div id="notices"></div><form data-draft="sheet" data-draft-of="{}">' + fields + "</form>"
    keep = """
    const form = document.querySelector("form");
    form.elements.a.value = "2";
    form.elements.b.value = "y";
    m.keepDraft(form);
    """
    restore = """
    const form = document.querySelector("form");
    m.restoreDraft(form);
    const said = document.getElementById("notices").textContent;
    return [form.elements.a.value, form.elements.b.value, said.includes("filled in again")];
    """
    run(page, "drafts.js", keep, body.format(7))
    assert run(page, "drafts.js", restore, body.format(7)) == ["2", "y", True]
    assert run(page, "drafts.js", restore, body.format(8)) == ["1", "x", False]
    assert run(page, "drafts.js", restore, body.format(7)) == ["1", "x", False], "it is dropped for good"


def test_a_form_that_stays_gets_a_new_key(page):
    script = """
    const keys = [];
    const form = document.querySelector("form");
    for (let i = 0; i < 2; i += 1) {
      m.newKey(form);
      keys.push(form.elements.once.value);
    }
    return keys;
    """
    one, two = run(page, "forms.js", script, '<form><input name="once" value="k"></form>')
    assert len(one) == len(two) == 32
    assert one != two


def test_a_key_presses_what_carries_its_name_and_leaves_fields_alone(page):
    body = '<button data-key="m" id="m">m</button><input id="i">'
    script = """
    let pressed = 0;
    document.getElementById("m").addEventListener("click", () => { pressed += 1; });
    const press = (target) => m.pressed({ key: "m", target, preventDefault() {} });
    press(document.body);
    press(document.getElementById("i"));
    return pressed;
    """
    assert run(page, "keys.js", script, body) == 1


def test_cells_say_which_column_they_were(page):
    body = (
        '<table class="list"><thead><tr><th>pass</th><th>grey\n average</th></tr></thead><tbody><tr><th>A</th><td>1</td></tr>'
        '<tr><td colspan="2">none</td></tr></tbody></table>'
        '<table class="several"><thead><tr><th colspan="2">two</th></tr></thead>'
        "<tbody><tr><td>1</td><td>2</td></tr></tbody></table>"
    )
    script = "m.nameCells(document); return [...document.querySelectorAll('td')].map((c) => c.dataset.name || '');"
    assert run(page, "cards.js", script, body) == ["grey average", "", "", ""]
    assert page.eval_on_selector_all("table", "all => all.map((t) => t.classList.contains('cards'))") == [True, False]


def test_what_an_error_sounds_like_can_be_tried(page):
    script = """
    const heard = [];
    m.sound.context = { currentTime: 0 };
    m.sound.tone = (hertz, seconds) => heard.push([Math.round(hertz), seconds]);
    for (const error of [6, 3, 1, 0]) m.sound.tryOut(error);
    return heard;
    """
    assert run(page, "sound.js", script) == [[880, 0.16], [440, 0.16], [277, 0.16], [1100, 0.012]]


@pytest.mark.parametrize(
    ("number", "across", "up", "wanted"),
    [
        (0, 0.005, 0, "0.605:0.6 0.75:0.68"), (1, -0.3, 0, "0.6:0.6 0.601:0.68"), (0, 0, 0.2, "0.6:0.679 0.75:0.68"),
        (1, 0.4, 0.005, "0.6:0.6 1:0.685"),
    ],
)  # fmt: skip
def test_a_point_of_a_roll_off_is_moved_and_stays_between_its_neighbours(page, number, across, up, wanted):
    script = f"return m.written(m.moved(m.pointsOf('0,6:0.6; 0.75:0.68'), {number}, {across}, {up}));"
    assert run(page, "ending.js", script) == wanted


def test_what_are_no_points_is_none(page):
    assert run(page, "ending.js", "return [m.pointsOf('0.6'), m.pointsOf('a:b'), m.pointsOf('')];") == [[], [], []]
