"""What the end of a target makes of highlights, by value."""

from dataclasses import replace

import numpy as np
import pytest

from fenvik.core.analysis import highlights
from fenvik.core.colour import curves
from fenvik.core.colour.target import TARGETS

CLIP = replace(TARGETS["bt2020-pq"], mastered=(4000.0, 0.0))
ROLLED = replace(CLIP, rolls_off=True)


def test_detail_is_lost_where_all_looks_alike_and_only_there():
    # By hand: a clip at 700 cd/m² loses what lies between the PQ signals of 700 and 4000, of what lies between 203 and 4000.
    low, end, high = (float(curves.pq_inverse(v)) for v in (203.0, 700.0, 4000.0))
    assert highlights.lost(CLIP, 700.0, 4000.0) == pytest.approx((high - end) / (high - low), abs=0.02)
    assert highlights.lost(ROLLED, 700.0, 4000.0) < 0.5 * highlights.lost(CLIP, 700.0, 4000.0)
    assert highlights.lost(CLIP, 4000.0, 4000.0) == 0.0


def test_bright_colours_pale_by_what_each_light_loses_and_not_where_all_three_follow_one():
    assert highlights.paling(CLIP, 700.0, 1000.0) > 0.01
    assert highlights.paling(ROLLED, 700.0, 1000.0) > 0.01
    assert highlights.paling(replace(ROLLED, rolled_by="greatest"), 700.0, 1000.0) < 1e-6
    assert highlights.paling(CLIP, 1200.0, 1000.0) < 1e-6


def test_three_points_stand_for_the_standard_s_roll_off_and_none_for_what_does_not_bend():
    points = highlights.three_points(ROLLED, 700.0, 0.0)
    assert len(points) == 3
    signal = curves.pq_inverse(np.array([50.0, 203.0, 400.0, 600.0, 1000.0, 2000.0, 4000.0]))
    by_points, by_curve = (t.light(signal, 700.0, 0.0) for t in (replace(CLIP, knees=points), ROLLED))
    np.testing.assert_allclose(curves.pq_inverse(by_points), curves.pq_inverse(by_curve), atol=0.012)
    assert highlights.three_points(ROLLED, 5000.0, 0.0) == ()
