"""Answers that have the right shape and are no answers: too long, too large, or with characters that are none."""

import json

import pytest

from fenvik.link.connection import Connection
from fenvik.link.devices import Meter, Source
from fenvik.link.display import LinkedDisplay
from fenvik.link.faults import DeviceError, LinkFault
from fenvik.link.sane import LONGEST_SENTENCE
from tests.web.served import talking

METER = {
    "link": 1, "role": "meter", "maker": "Nobody", "model": "M", "serial": "S1", "firmware": "1", "features": [],
    "kind": "colorimeter", "floor": 0.01, "ceiling": 2000, "efforts": ["normal"], "typical": [[1, 0.5]],
    "repeatability": [[1, 0.01, 0.001, 0.001]],
}  # fmt: skip
CONTROL = {"id": "c", "label": "C", "group": "G", "kind": "switch", "value": True, "default": True}


def at(address):
    host, _, port = address.partition(":")
    return Connection(host, int(port), "It")


@pytest.mark.parametrize(
    "wrong",
    [
        {"floor": int("9" * 400)}, {"floor": 1e300}, {"floor": -1.0}, {"serial": "a\0b"}, {"maker": "\ud800"}, {"model": "m" * 61},
        {"repeatability": [[1, -0.01, 0.001, 0.001]]}, {"typical": [[1, -2.0]]}, {"typical": [[1, 1e9]]}, {"efforts": ["x"] * 201},
        {"features": ["x" * 501]}, {"note": "x" * 530_000},
    ],
)  # fmt: skip
def test_what_a_device_says_of_itself_is_bounded(wrong):
    with talking({"describe": METER}) as address, at(address) as line:
        assert Meter(line).describe().serial == "S1"
    with talking({"describe": METER | wrong}) as address, at(address) as line, pytest.raises(LinkFault):
        Meter(line).describe()


@pytest.mark.parametrize("more", ["two\nlines", "x" * 5000, {"a": {"b": "\x07"}}, [1e300], json.loads("[" * 20 + "]" * 20)])
def test_what_the_link_does_not_know_is_ignored_whatever_it_is(more):
    told = METER | {"note": more, "typical": [[1, 0.5]], "a\nb": 1, "page": "https"}
    with talking({"describe": told, "controls": [CONTROL | {"help": more}]}) as address, at(address) as line:
        assert Meter(line).describe().facts == METER | {"page": "https"}
        assert LinkedDisplay(line, "t").controls("m") == [CONTROL]


def test_what_is_only_shown_is_told_as_a_sentence():
    state = {"mode": "m", "signal": "sdr", "input": "1", "on_minutes": 9, "notices": ["Saving is on.\nTurn it off.", "x" * 9000]}
    menu = [CONTROL | {"label": "Colour\ntone", "group": "a\tb"}]
    with talking({"state": state, "controls": menu}) as address, at(address) as line:
        display = LinkedDisplay(line, "t")
        assert display.state().notices == ("Saving is on. Turn it off.", "x" * (LONGEST_SENTENCE - 1) + "…")
        assert display.controls("m") == [CONTROL | {"label": "Colour tone", "group": "a b"}]
    for wrong in ({"id": "a\nb"}, {"kind": "choice", "options": ["a\nb"], "value": "a\nb", "default": "a\nb"}):
        with talking({"controls": [CONTROL | wrong]}) as address, at(address) as line, pytest.raises(LinkFault):
            LinkedDisplay(line, "t").controls("m")


def test_a_source_may_have_a_library_of_charts():
    source = {name: METER[name] for name in ("link", "maker", "model", "serial", "firmware", "features")} | {"role": "source"}
    source |= {"formats": ["sdr"], "bits": [8], "frame_rates": [60], "charts": [f"chart {i} of a series" for i in range(5000)]}
    with talking({"describe": source}) as address, at(address) as line:
        assert len(Source(line).describe().facts["charts"]) == 5000


@pytest.mark.parametrize(
    "rows",
    [
        [CONTROL | {"id": f"c{i}"} for i in range(60_000)], [CONTROL | {"id": f"c{i}"} for i in range(2001)],
        [CONTROL | {"id": ""}],
        [CONTROL | {"label": "l" * 81}], [CONTROL | {"kind": "choice", "options": ["a"] * 501, "value": "a", "default": "a"}],
        [CONTROL | {"kind": "range", "min": 0, "max": 1e300, "step": 1, "value": 0, "default": 0}],
    ],
)  # fmt: skip
def test_a_menu_is_bounded(rows):
    with talking({"controls": rows}) as address, at(address) as line, pytest.raises(LinkFault):
        LinkedDisplay(line, "t").controls("m")


@pytest.mark.parametrize(
    ("data", "kept"), [({"retry_s": 3, "trace": "one\ntwo"}, {"retry_s": 3}), ("Trace:\n  line 3", {}), (["a\nb"], {}), (None, {})]
)
def test_a_refusals_own_sentence_is_cut_and_can_be_shown(data, kept):
    words = "No\0t\ud800 now.\n" + "x" * 40_000
    told = json.dumps({"jsonrpc": "2.0", "id": 1, "error": {"code": 5, "message": words, "data": data}}).encode()
    with talking({"read": told}) as address, at(address) as line, pytest.raises(DeviceError) as refusal:
        Meter(line).read()
    assert refusal.value.data == kept
    said = str(refusal.value)
    assert said.startswith("It: No t now. xxx")
    assert len(said) <= LONGEST_SENTENCE + 4
    assert said.encode()
