"""Settings sheets as files: there and back, and bytes that mean no good."""

import contextlib
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.formats import sheet

CONTROLS = [
    {"id": "a", "label": "=cmd()", "group": "Picture", "role": "light", "kind": "range"},
    {"id": "b", "label": "Räume, öffnen", "group": "Picture", "role": None, "kind": "switch"},
    {"id": "c", "label": "Mode", "group": "More", "role": None, "kind": "choice"},
]
VALUES = {"a": -5, "b": True, "c": "Low"}


@pytest.mark.parametrize(
    "data", [sheet.write_json({"model": "M"}, CONTROLS, VALUES), sheet.write_csv(CONTROLS, VALUES)], ids=["json", "csv"]
)
def test_a_sheet_goes_out_and_comes_back(data):
    rows = sheet.read(data).rows
    assert {row["control"]: row["value"] for row in rows} == {"a": "-5", "b": "on", "c": "Low"}
    assert [row["label"] for row in rows][1] == "Räume, öffnen"


def test_no_cell_is_a_formula_and_numbers_stay_numbers():
    text = sheet.write_csv(CONTROLS, VALUES).decode()
    assert "'=cmd()" in text
    assert ",-5" in text


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "latin-1"])
def test_any_encoding_is_read(encoding):
    rows = sheet.read("control;value\r\nHelligkeit für Räume;7\r\n".encode(encoding)).rows
    assert rows[0]["control"] == "Helligkeit für Räume"


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "empty"),
        (b"\x00\x01\x02", "no text"),
        (b"{", "JSON"),
        (b'{"format": "other"}', "no settings sheet"),
        (b"[1, 2]", "no settings sheet"),
        (b'{"format": "settings-sheet", "settings": [{"control": 5}]}', "Setting 1"),
        (b"name,number\nx,1\n", "control"),
        (b"control,value,role\na\n", "cells"),
        (b"x" * 1_000_001, "bytes"),
        (b"[" * 100_000, "JSON"),
    ],
)
def test_what_is_no_sheet_gets_one_sentence(data, words):
    with pytest.raises(sheet.SheetFileError) as caught:
        sheet.read(data)
    assert words in str(caught.value)
    assert "Nothing was stored" in str(caught.value)


def test_a_broken_file_says_where():
    with pytest.raises(sheet.SheetFileError) as caught:
        sheet.read(b'{"format": "settings-sheet",\n "settings": [}')
    assert (caught.value.line, caught.value.column) == (2, 15)


@given(st.binary(max_size=400))
def test_no_bytes_make_anything_but_rows_or_a_sentence(data):
    try:
        rows = sheet.read(data).rows
    except sheet.SheetFileError:
        return
    assert all(set(row) == {"control", "label", "role", "value"} for row in rows)


@given(
    st.recursive(
        st.none() | st.booleans() | st.floats() | st.text(max_size=5),
        lambda x: st.lists(x, max_size=3) | st.dictionaries(st.text(max_size=8), x, max_size=3),
    )
)
def test_no_json_makes_anything_but_rows_or_a_sentence(value):
    data = json.dumps({"format": "settings-sheet", "version": 1, "settings": value}).encode()
    with contextlib.suppress(sheet.SheetFileError):
        sheet.read(data)
