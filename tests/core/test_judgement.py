"""What is wrong is found where it was put, and nothing where nothing was."""

from dataclasses import replace

import numpy as np
import pytest

from fenvik.core.analysis import findings
from fenvik.core.analysis.analysis import Readings, analyse
from fenvik.core.analysis.judgement import judge
from fenvik.core.analysis.ladders import clipped_from, contrast_beside, loading, uniformity
from fenvik.core.analysis.levels import READ, ends_of
from fenvik.core.colour.target import TARGETS
from fenvik.core.colour.unread import unread
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.signal.decoding import decode
from fenvik.core.signal.patches import first_list, grey

TARGET = TARGETS["bt709-bt1886"]
METER = Repeatability.of([(0.01, 0.02, 0.004, 0.004), (100.0, 0.001, 0.0002, 0.0002)])


def measured(change=lambda fraction, xyz: xyz, more=(), black=0.02, white=120.0, target=TARGET):
    patches = [*first_list(10, "limited"), *more]
    codes = np.array([p.rgb for p in patches])
    fraction = np.clip(decode(codes, 10, "limited"), 0, 1)
    xyz = change(fraction, TARGET.xyz(fraction, white, black))
    labels = tuple(p.label for p in patches)
    return analyse(Readings(codes, xyz, 10, "limited", labels, np.ones(len(codes)), METER, 0.005), target)


def kinds(analysis, **more):
    return [fault.kind for fault in judge(analysis, **more)]


def near_black():
    return [grey(level, 10, "limited") for level in (5.0, 4.0, 3.0, 2.0, 1.0)]


def test_nothing_is_found_where_nothing_is_wrong():
    assert kinds(measured(more=near_black()), wanted_luminance=120.0, coverage=0.99) == []


def test_a_blue_cast_is_found():
    faults = judge(measured(lambda f, xyz: xyz * [1.0, 1.0, 1.12]))
    assert faults[0].kind == "cast"
    assert faults[0].facts["channel"] == 2
    assert faults[0].facts["deviation"] > 5


@pytest.mark.parametrize(
    ("course", "trend"),
    [
        (lambda f: f, "rises"),
        (lambda f: 1 - f, "falls"),
        (lambda f: np.minimum(f, 0.55) + np.isclose(f, 0.6, atol=0.02) * 0.05, "from-dark"),
        (lambda f: np.minimum(1 - f, 0.55) + np.isclose(f, 0.5, atol=0.02) * 0.2, "to-bright"),
        (np.ones_like, "level"),
    ],
)
def test_how_a_cast_goes_over_the_levels_agrees_with_where_it_is_worst(course, trend):
    cast = findings.cast(measured(lambda f, xyz: xyz * (1 + course(f.min(axis=1))[:, None] * [0.0, 0.0, 0.1])))
    assert cast.channel == 2
    assert cast.trend == trend


@pytest.mark.parametrize(
    ("narrow", "turn", "beyond"), [(0.10, 0.0, True), (0.01, 0.08, False), (0.10, 0.3, False), (0.0, 0.0, None)]
)
def test_only_what_the_panel_itself_leaves_is_beyond_it(narrow, turn, beyond):
    def seen(f, xyz):
        """Narrower full colours; and red and yellow turned towards green."""
        mixed = f.max(axis=1, keepdims=True) > f.min(axis=1, keepdims=True)
        pale = (1 - narrow) * xyz + narrow * xyz[:, 1:2] * TARGET.white
        warm = (f[:, 0] == 1) & (f[:, 2] == 0) & (f[:, 1] == 1)
        return np.where(mixed, pale, xyz) * np.where(warm[:, None], [1 - turn, 1.0, 1 + turn], 1.0)

    fault = next((x for x in judge(measured(seen)) if x.kind in ("colours", "saturation")), None)
    assert (fault and fault.facts["beyond"]) == beyond


def test_a_wrong_curve_is_found():
    def darker(f, xyz):
        return xyz * np.maximum(f.max(axis=1), 0.01)[:, None] ** 0.35

    told = measured(darker)
    fault = next(f for f in judge(told) if f.kind == "tone")
    assert fault.facts["gamma"] > fault.facts["target_gamma"] + 0.2


def test_crushed_and_raised_shadows_are_told_apart():
    def crush(f, xyz):
        dark = (f[:, 0] > 0) & (f[:, 0] < 0.045)
        return np.where(dark[:, None], 0.02 * TARGET.white, xyz)

    def lift(f, xyz):
        dark = (f[:, 0] > 0) & (f[:, 0] < 0.045)
        return np.where(dark[:, None], xyz + 0.25 * TARGET.white, xyz)

    assert "crushed" in kinds(measured(crush, near_black()))
    assert "raised" in kinds(measured(lift, near_black()))


def test_shadows_and_a_curve_that_are_right_with_a_black_that_nobody_could_read_are_no_fault():
    def too_dark(f, xyz):
        return np.where(xyz[:, 1:2] < 0.05, 0.0, xyz)

    told = measured(too_dark, near_black(), black=0.045, white=60.0, target=replace(TARGET, unread=unread("projector", 0.05)))
    assert told.whole.value[told.graded_whole].mean() > TARGET.tolerance, "held against none"
    assert kinds(told) == []
    assert "tone" in kinds(measured(too_dark, near_black(), black=0.045, white=60.0))


@pytest.mark.parametrize(("white", "floor", "crushed"), [
    (100.0, 0.5, None), (100.0, 0.05, None), (100.0, 0.001, 5.0), (900.0, 0.05, 5.0),
])  # fmt: skip
def test_steps_that_a_meter_cannot_read_are_not_called_crushed(white, floor, crushed):
    level = np.array(READ)
    light = TARGET.light(level / 100.0, white, 0.0)
    shown = np.where((light < floor) | ((level <= 5.0) & (crushed is not None)), 0.0, light)
    assert ends_of(level, shown[:, None] * TARGET.white, TARGET, (), floor).crushed == crushed


def test_a_clipped_white_is_found():
    def clip(f, xyz):
        top = f.min(axis=1) > 0.895
        return np.where(top[:, None], TARGET.xyz(np.full((1, 3), 0.9), 120, 0.02), xyz)

    fault = next(f for f in judge(measured(clip)) if f.kind == "clipped")
    assert fault.facts["level"] == pytest.approx(90, abs=0.2)


def test_colours_that_are_too_saturated_are_found_and_a_light_that_is_missed():
    def strong(f, xyz):
        grey_of = xyz[:, 1:2] * TARGET.white
        return np.where((f != f[:, :1]).any(axis=1)[:, None], grey_of + 1.25 * (xyz - grey_of), xyz)

    told = measured(strong)
    fault = next(f for f in judge(told) if f.kind == "saturation")
    assert fault.facts["chroma"] > 0
    assert "dim" in kinds(told, wanted_luminance=200.0)
    assert "bright" in kinds(told, wanted_luminance=80.0)


def test_what_hurts_most_comes_first():
    told = measured(lambda f, xyz: xyz * [1.0, 1.0, 1.5])
    faults = judge(told, wanted_luminance=200.0, coverage=0.9, drift=0.03)
    weights = [f.weight for f in faults]
    assert weights == sorted(weights, reverse=True)
    assert faults[0].kind == "cast"
    assert {"reach", "drift", "dim"} <= {f.kind for f in faults}


def test_a_window_beyond_the_loading_is_said():
    ladder = loading([1, 10, 25, 50, 100], [700, 700, 690, 500, 300])
    assert ladder.falls_at == pytest.approx(27.2, abs=1)
    assert ladder.lost == pytest.approx(0.571, abs=0.01)
    assert "loaded" in kinds(measured(), loading=ladder, window=50.0)
    assert "loaded" not in kinds(measured(), loading=ladder, window=10.0)
    assert loading([1, 10, 100], [118, 118.1, 117.9], [0.2, 0.2, 0.2]).falls_at is None
    rising = loading([100, 50, 10], [120, 110, 80])
    assert rising.falls_at is None, "a display that is dimmed by small windows loses nothing with larger ones"


def test_uniformity_is_told_from_the_middle():
    places = [(x, y) for y in (0.17, 0.5, 0.83) for x in (0.17, 0.5, 0.83)]
    xyz = np.tile([95.0, 100.0, 109.0], (9, 1))
    xyz[0] *= 0.7
    xyz[8] *= [1.05, 1.0, 0.95]
    told = uniformity(places, xyz)
    assert told.darkest == 0
    assert told.share[0] == pytest.approx(0.7)
    assert told.most_tinted == 8
    assert told.duv[4] == 0
    assert "uneven" in kinds(measured(), uniformity=told)


def test_contrast_within_a_picture_may_be_a_lower_bound():
    assert contrast_beside(100.0, 0.05, 0.01) == (2000.0, False)
    assert contrast_beside(100.0, None, 0.01) == (10_000.0, True)
    assert contrast_beside(100.0, 0.001, 0.01) == (10_000.0, True)


def test_steps_within_the_noise_are_not_called_clipped():
    level = np.array([0.96, 0.98, 1.0])
    y = 100.0 * level**2.2
    xyz = np.stack([y, y, y], axis=-1)
    assert clipped_from(level, xyz, np.full(3, 0.1)) is None
    flat = np.full((3, 3), 100.0)
    assert clipped_from(level, flat, np.full(3, 0.1)) == pytest.approx(0.96)
    assert clipped_from(level, flat, np.full(3, 20.0)) is None
