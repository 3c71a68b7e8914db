"""The client of a display against the stand-in, and against displays that break the link."""

from dataclasses import replace
from types import SimpleNamespace

import pytest

from fenvik.link import display
from fenvik.link.connection import Connection
from fenvik.link.display import (
    LinkedDisplay,
    PictureMode,
    checked_control,
    find_mode,
    modes_moved,
    modes_named,
    modes_told_apart,
)
from fenvik.link.faults import DeviceError, LinkFault


@pytest.fixture
def line(bench):
    with Connection("127.0.0.1", bench.displays[0].port, "A display") as connection:
        yield LinkedDisplay(connection)


def paired(line):
    line.show_code()
    line.answer_code("4711")
    return line


def test_pairing_opens_the_menu(line):
    with pytest.raises(DeviceError) as refused:
        line.modes()
    assert refused.value.number == DeviceError.NOT_PAIRED
    paired(line)
    assert [m.label for m in line.modes()] == ["Shop", "Film", "Film HDR"]
    assert line.state().mode == "m2"
    assert line.state().signal == "sdr"


def test_a_wrong_code_says_how_many_tries_are_left(line):
    line.show_code()
    with pytest.raises(DeviceError) as refused:
        line.answer_code("0000")
    assert (refused.value.number, refused.value.data["left"]) == (DeviceError.WRONG_CODE, 2)


@pytest.mark.parametrize(("number", "is_told"), [(DeviceError.UNSUPPORTED, False), (-32602, False), (DeviceError.BUSY, True)])
def test_what_a_display_says_that_it_does_not_have_is_taken_away(number, is_told, line, monkeypatch):
    def refuses(method, **params):
        raise DeviceError("A display", number, "no", {})

    monkeypatch.setattr(line, "_call", refuses)
    if is_told:
        with pytest.raises(DeviceError):
            line.uninstall("m2", "curves")
    else:
        line.uninstall("m2", "curves")


def test_controls_come_with_values_and_are_set_to_steps(line):
    paired(line)
    controls = {c["id"]: c for c in line.controls("m2")}
    assert controls["pic-1"]["role"] == "light"
    assert controls["eco-1"]["off"] == "Off"
    assert line.set("m2", "pic-1", 40.4) == 40
    with pytest.raises(DeviceError) as refused:
        line.set("m2", "pic-1", 500)
    assert refused.value.number == DeviceError.OUT_OF_RANGE
    line.choose("m1")
    assert line.state().mode == "m1"
    line.reset("m2")
    assert {c["id"]: c["value"] for c in line.controls("m2")}["pic-1"] == 34


GOOD = {
    "id": "x", "label": "X", "group": "G", "kind": "range", "role": "light", "min": 0, "max": 10, "step": 1, "value": 3,
    "default": 5,
}


def test_what_arithmetic_leaves_of_a_number_is_no_other_value(line, monkeypatch):
    row = GOOD | {"step": 0.1, "value": 0.1 + 0.2}
    assert checked_control(line.connection, row)["value"] == 0.3
    monkeypatch.setattr(line, "_call", lambda method, **params: {"value": 0.1 + 0.2})
    assert line.set("m2", "x", 0.3) == 0.3


@pytest.mark.parametrize(
    "change",
    [
        {"id": 5}, {"kind": "slider"}, {"min": 10}, {"step": 0}, {"max": "10"}, {"value": "3"}, {"value": True}, {"role": 7},
        {"default": None}, {"kind": "choice"}, {"kind": "choice", "options": ["a"], "value": "b", "default": "a"},
        {"kind": "switch"}, {"role": "process.noise"},
    ],
)  # fmt: skip
def test_a_control_of_another_shape_is_a_fault(change):
    connection = Connection("127.0.0.1", 1, "A display")
    assert checked_control(connection, GOOD) == GOOD
    with pytest.raises(LinkFault):
        checked_control(connection, GOOD | change)


@pytest.fixture
def hours(monkeypatch):
    """A clock that stands but while somebody sleeps; it begins with this hour."""
    clock = SimpleNamespace(now=3600.0, monotonic=lambda: clock.now)
    clock.sleep = lambda seconds: setattr(clock, "now", clock.now + seconds)
    monkeypatch.setattr(display, "time", clock)
    return clock


@pytest.mark.parametrize("late_s", [0.0, 0.3, 2.5, 4.0])
def test_what_is_told_late_is_waited_for(line, bench, hours, monkeypatch, late_s):
    paired(line)
    shown, told = bench.displays[0], [(0.0, "m2", 50)]
    state, described = line._state, shown.menu.described
    now = lambda part: [row for row in told if row[0] <= hours.now - late_s][-1][part]  # noqa: E731
    monkeypatch.setattr(line, "_state", lambda: replace(state(), mode=now(1)))
    monkeypatch.setattr(
        shown.menu, "described", lambda mode: [c | {"value": now(2)} if c["id"] == "pic-1" else c for c in described(mode)]
    )
    told.append((hours.now, "m1", line.set("m2", "pic-1", 40)))
    line.choose("m1")
    assert {c["id"]: c["value"] for c in line.controls("m2")}["pic-1"] == 40
    assert line.state().mode == "m1"
    assert hours.now - 3600.0 <= late_s + 2.5


def test_what_stands_otherwise_is_waited_for_once(line, bench, hours):
    paired(line)
    line.was_set("m2", [("pic-1", 99)])  # over another line; and turned since
    bench.displays[0].set_control("m2", "pic-1", 40)
    for _ in range(2):
        assert {c["id"]: c["value"] for c in line.controls("m2")}["pic-1"] == 40
        assert 5.0 < hours.now - 3600.0 < 9.0
        line.was_set("m2", [("pic-1", 99)])


@pytest.mark.parametrize("late_s", [0.5, None])
def test_a_control_that_moves_after_its_answer_is_waited_for(line, bench, hours, late_s):
    paired(line)
    display_, menu = bench.displays[0], bench.displays[0].menu
    described, asked = menu.described, []

    def told(mode):
        for at, name, value in asked:
            if late_s is not None and hours.now >= at + late_s:
                menu.set(mode, name, value)
        return described(mode)

    def slow(mode, control, value):
        asked.append((hours.now, control, value))
        return menu.values[mode][control]

    menu.described, display_.set_control = told, slow
    came = [34]
    for value in (40, 41, 42):
        came.append(line.set("m2", "pic-1", value, was=came[-1]))
    assert came == ([34, 40, 41, 42] if late_s else [34] * 4)
    waited = hours.now
    assert line.set("m2", "pic-1", 43, was=came[-1]) == (43 if late_s else 34)
    assert (hours.now > waited) == (late_s is not None), "what sticks is not waited for again"


ALIKE = [
    PictureMode("u1", "User", ("sdr",)), PictureMode("u2", "User ", ("hdr10",)), PictureMode("u3", "user", ("hdr10",)),
    PictureMode("g", "Game", ("sdr", "hdr10")),
]  # fmt: skip


@pytest.mark.parametrize(
    ("named", "signal", "found"),
    [
        ("User", "sdr", "u1"), (" user", "hdr10", "u2"), ("u3", "hdr10", "u3"), ("USER", "hlg", "u1"),
        ("game", "hlg", "g"), ("Film", "sdr", None),
    ],
)  # fmt: skip
def test_of_several_modes_of_one_name_the_one_is_meant_that_takes_the_signal(named, signal, found):
    assert getattr(find_mode(ALIKE, named, signal), "id", None) == found


def test_modes_of_one_name_are_told_apart_by_their_signals_or_ids():
    assert [mode.id for mode in modes_named(ALIKE, "user (SDR); G")[0]] == ["u1", "g"]
    assert modes_told_apart(ALIKE) == {"u1": "User (SDR)", "u2": "User  (u2)", "u3": "user (u3)", "g": "Game"}


@pytest.mark.parametrize(("typed", "ids", "nameless"), [
    ("", ["f", "fd", "l"], []),
    ("film, Dark", ["fd"], []),
    ("Film , dark,Film", ["f", "fd"], []),
    ("Dark, Film; other", ["f"], ["Dark", "other"]),
    ("Dark", [], ["Dark"]),
    ("L" * 60 + ", film", ["f", "l"], []),
    ("l" * 70, ["l"], []),
    (" ,;, ", ["f", "fd", "l"], []),
])  # fmt: skip
def test_modes_are_named_with_commas_between_and_within(typed, ids, nameless):
    modes = [PictureMode(id_, label, ("sdr",)) for id_, label in (("f", "Film"), ("fd", "Film, dark"), ("l", "L" * 70))]
    named, none = modes_named(modes, typed)
    assert ([mode.id for mode in named], none) == (ids, nameless)


def modes_of(*told):
    return [PictureMode(id_, label, tuple(signals.split())) for id_, label, signals in told]


@pytest.mark.parametrize(("now", "moved"), [
    (modes_of(("1", "Film", "sdr"), ("2", "Game", "sdr"), ("3", "Film", "hdr10")), {}),
    (modes_of(("1", "Game", "sdr"), ("2", "film ", "sdr"), ("3", "Film", "hdr10")), {"1": "2", "2": "1"}),
    (modes_of(("1", "Expert", "sdr"), ("2", "Game", "sdr"), ("3", "Film", "hdr10")), {}),  # only called otherwise
    (modes_of(("9", "Film", "hdr10")), {"3": "9"}),  # it lists what takes the signal that arrives
    (modes_of(("1", "Vivid", "sdr"), ("2", "Film", "sdr"), ("4", "Film", "sdr"), ("3", "Film", "hdr10")), {}),  # which of the two?
])  # fmt: skip
def test_modes_are_followed_to_their_new_ids(now, moved):
    assert modes_moved(modes_of(("1", "Film", "sdr"), ("2", "Game", "sdr"), ("3", "Film", "hdr10")), now) == moved
