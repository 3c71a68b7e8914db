"""The tape: every reading has the error that it had beside the white of its own time."""

import datetime as dt

import pytest

from fenvik.core.colour.target import TARGETS
from fenvik.core.signal.patches import patch
from fenvik.web.passes.models import Pass, PassPurpose, PassState, Reading
from fenvik.web.stops.tape import tape_of

pytestmark = pytest.mark.django_db
TARGET = TARGETS["bt709-bt1886"]
WHITE, GREEN, GREY = (100.0, 100.0, 100.0), (0.0, 100.0, 0.0), (50.0, 50.0, 50.0)


@pytest.fixture
def read(equipped, now):
    """A function that makes readings of a pass of a purpose: pairs of a patch in percent and the white that it is right for."""

    def make(purpose, *pairs):
        made = Pass.objects.create(
            tuning=equipped, purpose=purpose, bits=10, range="limited", patches=[], meter_facts={}, settle_s=0, window=10,
            average=1, created_at=now, created_by=equipped.visit.calibrator, meter=equipped.meter, source=equipped.source,
            state=PassState.DONE, finished_at=now,
        )
        rows = []
        for i, (percent, white) in enumerate(pairs):
            shown = patch("", percent, 10, "limited")
            x, y, z = TARGET.xyz(shown.fraction(10, "limited")[None], white, 0.0)[0]
            at = now + dt.timedelta(seconds=i)
            r, g, b = shown.rgb
            rows.append(
                Reading.objects.create(
                    pass_of=made, index=i, label="", r=r, g=g, b=b, x=x, y=y, z=z, at=at, started_at=at, seconds=1, clock=i
                )
            )
        return rows

    make.tuning = equipped
    return make


def test_readings_are_held_against_the_white_that_was_read_before_them(read):
    rows = read(PassPurpose.HANDS_FREE, (WHITE, 60.0), (GREEN, 60.0), (WHITE, 140.0), (GREEN, 140.0), (GREY, 140.0))
    tape = tape_of(read.tuning, rows, 140.0, 0.0)
    assert [row.id for row in tape] == [row.pk for row in reversed(rows)]
    assert max(row.error for row in tape) < 0.01, "the light was turned brighter between them; all are right"
    assert all(row.change is None or abs(row.change) < 0.01 for row in tape)


def test_where_a_pass_has_no_white_of_its_own_the_one_that_is_known_counts(read):
    rows = [*read(PassPurpose.FOUND, (WHITE, 60.0)), *read(PassPurpose.ADJUST, (GREEN, 100.0))]
    assert tape_of(read.tuning, rows, 100.0, 0.0)[0].error < 0.01
    assert tape_of(read.tuning, rows, 60.0, 0.0)[0].error > 5
    assert tape_of(read.tuning, rows, None, 0.0)[0].error is None
    assert tape_of(read.tuning, [], None, 0.0) == []


def test_readings_about_instruments_have_no_error(read):
    rows = read(PassPurpose.AIM, (WHITE, 60.0), (WHITE, 61.0))
    assert [row.error for row in tape_of(read.tuning, rows, 60.0, 0.0)] == [None, None]
