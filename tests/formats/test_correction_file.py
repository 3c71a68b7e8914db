import contextlib

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenvik.formats import correction as files
from fenvik.formats import readings
from fenvik.formats.readings import ReadingsError


def sample(**other):
    facts = {
        "labels": ("white", "red", 'a "quoted" name', "blau Ä"),
        "rgb": ((235, 235, 235), (235, 16, 16), (16, 235, 16), (16, 16, 235)),
        "reference": np.array([[95.1, 100.0, 108.9], [41.2, 21.3, 1.9], [35.8, 71.5, 11.9], [18.0, 7.2, 95.0]]),
        "meter": np.array([[95.0, 99.0, 108.0], [41.0, 21.0, 1.8], [35.0, 71.0, 12.0], [18.1, 7.1, 94.0]]),
        "bits": 8,
        "range": "limited",
        "method": "four-colour",
        "matrix": np.array([[1.01, 0.002, 0.0], [0.0, 1.0, 0.001], [0.0, 0.0, 0.99]]),
        "facts": {"REFERENCE_METER": "Tarn S2", "NOTE": "slow, in the dark"},
        "created": "2026-11-25T10:00:00+00:00",
    }
    return files.CorrectionFile(**(facts | other))


def test_what_is_written_is_read_again():
    made = sample()
    back = files.read(files.write(made))
    assert back.labels == made.labels
    assert back.rgb == made.rgb
    np.testing.assert_allclose(back.reference, made.reference)
    np.testing.assert_allclose(back.meter, made.meter)
    np.testing.assert_allclose(back.matrix, made.matrix)
    assert back.method == "four-colour"
    assert back.facts["NOTE"] == "slow, in the dark"
    assert back.created == made.created


def test_any_reader_of_cgats_sees_the_reference_in_it():
    read = readings.read(files.write(sample()))
    np.testing.assert_allclose(read.xyz, sample().reference)


def test_a_file_without_a_matrix_is_a_correction_too():
    assert files.read(files.write(sample(matrix=None))).matrix is None


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ((b"CGATS.17", b"r,g,b"), "does not begin with CGATS"),
        ((b"METER_Z\r\n", b"METER_W\r\n"), "column METER_Z: the field is missing"),
        ((b'SIGNAL_BITS "8"', b'SIGNAL_BITS "9"'), "column SIGNAL_BITS"),
        ((b'SIGNAL_RANGE "limited"', b'SIGNAL_RANGE "wide"'), "column SIGNAL_RANGE"),
        ((b'CORRECTION_METHOD "four-colour"', b'CORRECTION_METHOD "magic"'), "column CORRECTION_METHOD"),
        ((b'CORRECTION_MATRIX "1.01', b'CORRECTION_MATRIX "'), "nine numbers"),
        ((b"95.1 100 108.9", b"95.1 one 108.9"), "column XYZ_Y"),
        ((b"95.1 100 108.9", b"95.1 -1 108.9"), "no luminance"),
        ((b'"white" 235', b'"white" 256'), "column RGB_R"),
        ((b'"white" 235', b'"white"'), "values and should have 10"),
        ((b"END_DATA\r\n", b""), "END_DATA is missing"),
    ],
)
def test_what_is_wrong_is_said_with_its_line(change, says):
    data = files.write(sample())
    assert change[0] in data
    broken = data.replace(*change) if change[0] != b"END_DATA\r\n" else data[: -len(b"END_DATA\r\n")]
    with pytest.raises(ReadingsError, match=says):
        files.read(broken)


def test_a_matrix_that_mixes_up_colours_is_refused():
    with pytest.raises(ReadingsError, match="turned round"):
        files.read(files.write(sample(matrix=np.ones((3, 3)))))


@given(st.binary(max_size=400), st.integers(0, 900))
def test_whatever_the_bytes_it_is_a_correction_or_one_error(noise, at):
    data = files.write(sample())
    with contextlib.suppress(ReadingsError):
        files.read(data[:at] + noise + data[at + len(noise) :])
