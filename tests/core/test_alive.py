import numpy as np
import pytest

from fenvik.core.measure.alive import Shown, far_from, is_suspicious, should_be_read
from fenvik.core.measure.uncertainty import Repeatability

METER = Repeatability.of([(0.01, 0.05, 0.01, 0.01), (1.0, 0.004, 0.0008, 0.0008), (100.0, 0.001, 0.0002, 0.0002)])
WHITE = np.array([0.95, 1.0, 1.09])


def grey(level, y):
    return Shown(np.full(3, level), WHITE * y)


@pytest.mark.parametrize(
    ("before", "now", "suspicious"),
    [
        (grey(1.0, 100), grey(0.9, 78), False),
        (grey(1.0, 100), grey(0.9, 100.1), True),
        (grey(1.0, 100), grey(0.98, 100.1), False),
        (grey(0.05, 0.12), grey(0.04, 0.121), True),
        (grey(0.02, 0.02), grey(0.01, 0.02), False),
        (
            Shown(np.array([1.0, 0, 0]), np.array([41.0, 21, 2])),
            Shown(np.array([0, 1.0, 0]), np.array([41.0, 21, 2])),
            True,
        ),
        (
            Shown(np.array([1.0, 0, 0]), np.array([41.0, 21, 2])),
            Shown(np.array([0, 1.0, 0]), np.array([36.0, 72, 12])),
            False,
        ),
        (grey(0.5, 0.0), grey(0.9, 0.0), False),
    ],
)
def test_a_patch_that_reads_like_the_one_before_it_is_suspicious(before, now, suspicious):
    assert is_suspicious(before, now, METER) is suspicious


def test_too_dark_is_believed_of_dark_patches_only():
    assert should_be_read(np.full(3, 1.0), 100.0, 0.01)
    assert should_be_read(np.full(3, 0.3), 100.0, 0.01)
    assert not should_be_read(np.full(3, 0.05), 100.0, 0.01)
    assert not should_be_read(np.zeros(3), 100.0, 0.01)
    # PQ says every light itself: 5 % is 0.06 cd/m² on a display of 800 too.
    assert should_be_read(np.full(3, 0.05), 800.0, 0.01)
    assert not should_be_read(np.full(3, 0.05), 800.0, 0.01, is_pq=True)
    assert should_be_read(np.full(3, 0.3), 800.0, 0.01, is_pq=True)


def test_the_proof_is_far_from_what_was_shown():
    assert far_from(np.full(3, 0.9)) == 0
    assert far_from(np.full(3, 0.1)) == 70
