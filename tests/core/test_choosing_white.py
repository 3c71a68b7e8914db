"""A white chosen and a white matched: drives from four readings, choices that are no chance, eyes that differ."""

import numpy as np
import pytest

from fenvik.core.colour.observers import SpectrumError, match_for
from fenvik.core.colour.science import WAVELENGTHS_NM, observer, spectrum_to_xyz
from fenvik.core.colour.space import D65_XY, uv_to_xyz, xy_to_uv, xyz_to_uv, xyz_to_xy
from fenvik.core.measure.blind import BY_CHANCE, runs, verdict
from fenvik.core.measure.matching import BEGINS, STEP, WAYS, begins_at, match_of, stepped
from fenvik.core.models.whitedrive import WEAKER, DriveError, drive_of, off
from fenvik.core.signal.patterns import PATTERNS, PatternError, Signal
from fenvik.standins.bench import make_bench
from fenvik.standins.eye import Eye
from fenvik.standins.spectra import phosphor_lcd, quantum_dots, wrgb_oled
from fenvik.standins.world import Picture

CANDIDATES = [(0.0, 0.0), (0.006, 0.004), (-0.007, 0.008), (-0.004, -0.011)]


def to_xy(du, dv):
    return tuple(float(v) for v in xyz_to_xy(uv_to_xyz(xy_to_uv(D65_XY) + np.array([du, dv]))))


@pytest.mark.parametrize(("index", "mode", "limit"), [(0, "m2", 0.0004), (1, "p2", 0.0008), (2, "c2", 0.0004), (3, "q2", 0.0006)])
def test_four_readings_say_how_another_white_is_driven(index, mode, limit):
    """By the true light of stand-ins, the panel with a white sub-pixel among them, at the same luminance."""
    bench = make_bench(haste=float("inf"))
    display, world = bench.displays[index], bench.world
    world.signal.bits = 10
    display.choose_mode(mode)

    def light(gains):
        signal = 0.8 * np.asarray(gains) ** (1 / 2.4)
        codes = tuple(int(c) for c in np.round(64 + 876 * signal))
        world.picture = Picture(codes, 10.0, (64, 64, 64))
        share = ((np.array(codes) - 64) / 876 / 0.8) ** 2.4
        return share, spectrum_to_xyz(display.optics.radiance(mode, (0.5, 0.5)))

    _, white = light((1, 1, 1))
    read = [light(np.where(np.arange(3) == i, WEAKER, 1.0)) for i in range(3)]
    drive = drive_of(white, [xyz for _, xyz in read], [share[i] for i, (share, _) in enumerate(read)])
    for candidate in CANDIDATES:
        wanted = to_xy(*candidate)
        first = light(drive.gains_for(wanted))
        again = light(drive.gains_for(wanted, [first]))
        # A code of ten bits is worth some 0.0003 in u′v′.
        assert off(again[1], wanted) < limit, (candidate, off(first[1], wanted))
        assert again[1][1] == pytest.approx(0.9 * white[1], rel=0.02)


def test_white_that_does_not_answer_is_said():
    white = np.array([95.0, 100.0, 108.0])
    with pytest.raises(DriveError, match="does not answer"):
        drive_of(white, [white, white * 0.9, white * 0.8])
    drive = drive_of(white, [white - [6, 3, 0.3], white - [5, 10, 1.5], white - [2.5, 1, 14]])
    with pytest.raises(DriveError, match="cannot be driven"):
        drive.gains_for((0.25, 0.45))


@pytest.mark.parametrize("count", [2, 3, 4, 5])
def test_equal_whites_are_not_told_apart_nineteen_times_of_twenty(count):
    draw = np.random.default_rng(count)
    chosen, rounds = 0, []
    for _ in range(4000):
        picks = []
        while not (said := verdict(picks, count)).over:
            picks.append(int(draw.integers(count)))
        chosen += said.chosen is not None
        rounds.append(len(picks))
    assert chosen / 4000 < BY_CHANCE + 3 * (BY_CHANCE / 4000) ** 0.5
    assert max(rounds) <= runs(count)[1]


def test_who_sees_a_difference_is_believed_with_one_slip_and_who_sees_none_is_asked_no_longer():
    assert verdict([1] * 6, 2).chosen == 1
    assert not verdict([1] * 5, 2).over
    assert verdict([1] * 5 + [0] + [1] * 4, 2).chosen == 1
    assert verdict([None, None], 2).over
    assert verdict([None, None], 2).chosen is None
    assert verdict([0, 1, 0], 3) == verdict([0, 1, 0], 3)
    assert verdict([2, 2, 2, 2], 3).chosen == 2
    with pytest.raises(ValueError, match="two at least"):
        verdict([], 1)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_an_eye_that_differs_brings_two_displays_together(seed):
    """From three sides, a step at a time by what the eye says, ending where it says "the same"; beside what CIE 2015 predicts."""
    lcd, oled, eye = phosphor_lcd(), wrgb_oled(), Eye(seed)

    def light(lights, xy):
        x, y = xy
        return np.linalg.solve((lights @ observer("CIE 1931 2°")).T, [x / y, 1.0, (1 - x - y) / y]) @ lights

    reference = light(lcd, D65_XY)
    ends = []
    words = {"yellower": "blue", "bluer": "yellow", "greener": "magenta", "more magenta": "green"}
    for number in range(3):
        at = begins_at(number, turned=20.0)
        for _ in range(80):
            says = eye.compare(reference, light(oled, to_xy(*at))).says
            if says == "the same":
                break
            at = stepped(at, words[says])
        assert says == "the same"
        ends.append(at)
    match = match_of(ends)
    assert match.agrees
    assert np.hypot(*(eye.uv(light(oled, to_xy(*match.uv))) - eye.uv(reference))) < 0.001
    predicted = np.array(match_for(lcd, D65_XY, oled, "CIE 2015 10°"))
    assert np.hypot(*match.uv) > 0.003, "alike by the meter they looked different"
    assert np.hypot(*(match.uv - predicted)) < 0.6 * np.hypot(*predicted), "the prediction goes the right way"


def test_what_an_observer_is_predicted_to_see_is_the_same_light_for_that_observer():
    lcd, other = phosphor_lcd(), quantum_dots()
    du, dv = match_for(lcd, D65_XY, other, "CIE 2015 10°")
    functions = observer("CIE 2015 10°")

    def seen(lights, xy):
        x, y = xy
        share = np.linalg.solve((lights @ observer("CIE 1931 2°")).T, [x / y, 1.0, (1 - x - y) / y])
        return xyz_to_uv((share @ lights) @ functions)

    assert seen(other, to_xy(du, dv)) == pytest.approx(seen(lcd, D65_XY), abs=2e-6)
    assert match_for(lcd, D65_XY, lcd, "CIE 2015 10°") == pytest.approx((0, 0), abs=1e-9)
    assert match_for(lcd, D65_XY, other, "CIE 1931 2°") == pytest.approx((0, 0), abs=1e-6)
    with pytest.raises(SpectrumError):
        match_for(lcd, D65_XY, np.ones((3, WAVELENGTHS_NM.size)), "CIE 2015 10°")


def test_steps_and_beginnings_are_what_they_say():
    assert np.hypot(*stepped((0, 0), "green")) == pytest.approx(STEP, abs=1e-5)
    assert np.array(stepped((0, 0), "green")) == pytest.approx(-np.array(stepped((0, 0), "magenta")))
    assert set(WAYS) == {"yellow", "blue", "green", "magenta"}
    sides = np.array([begins_at(i) for i in range(3)])
    assert np.hypot(*sides.T) == pytest.approx(BEGINS, abs=1e-4)
    assert sides.mean(axis=0) == pytest.approx((0, 0), abs=1e-5)


def test_the_scene_is_white_where_it_is_white_and_each_half_has_its_own():
    pattern = PATTERNS["white-scene"]
    board = pattern.drawn(320, 180, Signal(8, "full"), {"right": "100 80 60", "shows": "white", "level": "100"})
    assert tuple(board.codes[90, 10]) == (255, 255, 255)
    assert board.codes[90, 310] == pytest.approx(255 * np.array([1.0, 0.8, 0.6]) ** (1 / 2.4), abs=1)
    assert 0 < np.ptp(board.codes[90, 155:165, 2].astype(int)) < 50, "the seam is soft"
    wide = pattern.drawn(320, 180, Signal(10, "limited"), {"curve": "pq", "space": "bt2020", "shows": "skin", "level": "58"})
    greys = wide.codes[int(180 * 0.15), int(320 * 0.1)]
    assert np.ptp(greys.astype(int)) <= 1, "a grey is a grey in the container too"
    with pytest.raises(PatternError, match="three percentages"):
        pattern.drawn(32, 18, Signal(), {"left": "100 100"})
