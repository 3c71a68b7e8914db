"""Files of readings: two forms, and one line with line and column about whatever is wrong."""

import tracemalloc

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.formats.readings import ReadingsError, read

HEAD = "r,g,b,bits,range,X,Y,Z\n"
CGATS = """CGATS.17
ORIGINATOR "a hand"
KEYWORD "SIGNAL_BITS"
KEYWORD "SIGNAL_RANGE"
SIGNAL_BITS 10
SIGNAL_RANGE limited
NUMBER_OF_FIELDS 7
BEGIN_DATA_FORMAT
SAMPLE_NAME RGB_R RGB_G RGB_B XYZ_X XYZ_Y XYZ_Z
END_DATA_FORMAT
NUMBER_OF_SETS 2
BEGIN_DATA
"white, all" 940 940 940 95.05 100 108.9
black 64 64 64 0.01 0.01 -0.002
END_DATA
"""


def test_a_csv_is_read_in_any_order_of_columns_with_what_else_it_has():
    data = '\ufefflabel,Z,Y,X,range,bits,b,g,r,note\r\n"a, ""b""",3,2,1,full,8,255,0,0,x\r\n\r\n'
    data += ",0.5,.25,1e-1,limited,10,64,64,940,\r\n"
    made = read(data.encode())
    assert made.labels == ['a, "b"', None]
    assert made.lines == [2, 4]
    np.testing.assert_array_equal(made.codes, [[0, 0, 255], [940, 64, 64]])
    np.testing.assert_allclose(made.xyz, [[1, 2, 3], [0.1, 0.25, 0.5]])
    np.testing.assert_allclose(made.signal, [[0, 0, 1], [1, 0, 0]])


def test_cgats_is_told_by_its_content():
    made = read(CGATS.encode())
    assert made.labels == ["white, all", "black"]
    np.testing.assert_allclose(made.signal, [[1, 1, 1], [0, 0, 0]])
    assert made.xyz[1, 2] == -0.002


def test_foot_and_head_room_are_kept():
    made = read((HEAD + "1,16,254,8,limited,1,1,1\n").encode())
    np.testing.assert_allclose(made.signal, [[-15 / 219, 0, 238 / 219]])


@pytest.mark.parametrize(
    ("data", "line", "column", "words"),
    [
        (b"", 1, "-", "nothing"),
        (HEAD.encode(), 1, "-", "no reading"),
        (b"r,g,b,bits,range,X,Y\n1,1,1,8,full,1,1\n", 1, "Z", "missing"),
        (b"r,g,b,bits,range,X,Y,Z,Y\n", 1, "Y", "twice"),
        ((HEAD + "256,0,0,8,full,1,1,1").encode(), 2, "r", "no code of 8 bits"),
        ((HEAD + "1.5,0,0,8,full,1,1,1").encode(), 2, "r", "no whole number"),
        ((HEAD + "1,-1,0,8,full,1,1,1").encode(), 2, "g", "no code of 8 bits"),
        ((HEAD + "1,0,0,9,full,1,1,1").encode(), 2, "bits", "none of"),
        ((HEAD + "1,0,0,8,wide,1,1,1").encode(), 2, "range", "neither"),
        ((HEAD + "\n\n1,0,0,8,full,1,nan,1").encode(), 4, "Y", "no finite number"),
        ((HEAD + "1,0,0,8,full,1e999,1,1").encode(), 2, "X", "no finite number"),
        ((HEAD + "1,0,0,8,full,1_0,1,1").encode(), 2, "X", "no finite number"),
        ((HEAD + "1,0,0,8,full,1,-0.1,1").encode(), 2, "Y", "below 0"),
        ((HEAD + "1,0,0,8,full,1,1").encode(), 2, "Z", "7 values and should have 8"),
        ((HEAD + '1,0,0,8,full,1,"1,1').encode(), 2, "-", "quote"),
        ((HEAD + "1,0,0,8,full,1,1,1").encode("utf-16"), 1, "-", "UTF-8"),
        ((HEAD + "1,0,0,8,full,1,1,\0").encode(), 2, "-", "NUL"),
        ((HEAD + "1,0,0,8,full,1,1," + "1" * 70_000).encode(), 2, "-", "64 KiB"),
        (CGATS.replace("SETS 2", "SETS 3").encode(), 11, "NUMBER_OF_SETS", "there are 2"),
        (CGATS.replace('KEYWORD "SIGNAL_BITS"\n', "").encode(), 11, "SIGNAL_BITS", "not declared"),
        (CGATS.replace(" XYZ_Y", " Y").encode(), 12, "XYZ_Y", "missing"),
        (CGATS.replace("END_DATA\n", "").encode(), 14, "-", "END_DATA is missing"),
        (CGATS.replace("0.01 -0.002", "0.01").encode(), 14, "-", "6 values and should have 7"),
    ],
)
def test_what_is_wrong_is_said_with_its_place(data, line, column, words):
    with pytest.raises(ReadingsError) as caught:
        read(data)
    assert (caught.value.line, caught.value.column) == (line, column)
    assert words in str(caught.value)
    assert "\n" not in str(caught.value)


@given(
    st.binary(max_size=300)
    | st.text(max_size=200).map(lambda t: (HEAD + t).encode())
    | st.text(max_size=200).map(lambda t: (CGATS + t).encode())
)
def test_no_bytes_make_anything_but_readings_or_one_line(data):
    try:
        assert np.isfinite(read(data).xyz).all()
    except ReadingsError as error:
        said = str(error)
    else:
        return
    assert said.startswith("line ")


def test_a_hostile_line_or_a_million_of_them_costs_little_memory():
    """Before anything is made of a file it is measured as bytes: what is allocated stays below twice its size."""
    for data in (b"r,g,b," + b"9" * 8_000_000, b"\n" * 16_000_000, "r,g,b,😀".encode() * 600_000):
        tracemalloc.start()
        with pytest.raises(ReadingsError):
            read(data)
        assert tracemalloc.get_traced_memory()[1] < 2 * len(data) + 1_000_000
        tracemalloc.stop()
