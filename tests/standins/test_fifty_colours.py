"""The promise of a correction, on the stand-ins: fifty colours that it was not made of, four samples of everything."""

import math

import numpy as np
import pytest

from bench.awaited import result_of
from fenvik.core.measure.correction import additivity, make_correction, residuals
from fenvik.core.measure.correction_patches import correction_list, rows_for
from fenvik.core.signal.decoding import encode
from fenvik.standins.bench import make_bench
from fenvik.standins.world import Picture, Signal

SEEDS = [55 + 13 * i for i in range(4)]
ADDITIVE = [("OF55-0417", "m2"), ("LL4-0093", "c2"), ("AQ75-0308", "q2"), ("CH2-0071", "l2")]
HARMFUL = ("process.energy", "process.ambient", "process.dimming", "process.dynamic-contrast", "process.iris")


class Site:
    """A display with its processing off, a colorimeter and a spectroradiometer in front of it."""

    def __init__(self, serial, mode, seed):
        self.bench = make_bench(haste=math.inf, seed=seed)
        self.world = self.bench.world
        self.world.front, self.world.signal = serial, Signal("sdr", "bt709", 10, "limited", 60.0)
        display = next(d for d in self.bench.displays if d.serial == serial)
        for item in display.menu.items.values():
            if item.role in HARMFUL:
                display.menu.set(mode, item.id, item.off)
        display.wanted_mode = mode
        display.optics.on_since = -86_400.0  # warmed up, as whoever makes a correction waits for
        self.field, self.reference = self.bench.meters[0], self.bench.meters[1]

    def read(self, meter, codes, average):
        self.world.picture = Picture(rgb=codes, window=10.0, surround=(64, 64, 64))
        answer = result_of(meter.read({"average": average, "effort": "slow"}))
        return np.array(answer["xyz"])

    def correction(self, method):
        listed = [p for p in correction_list(method, 10, "limited") if p.label != "black"]
        rows = rows_for(method, [p.label for p in listed])
        both = [[self.read(meter, listed[i].rgb, 4) for i in rows] for meter in (self.field, self.reference)]
        white = None if method == "primaries" else 3
        return make_correction(method, both[0], both[1], white=white, repeatability=0.001), np.array(both[1][:4])

    def off_on_fifty(self, matrix, seed):
        percent = np.random.default_rng(seed).uniform(25.0, 100.0, (50, 3))
        codes = [tuple(int(c) for c in row) for row in encode(percent, 10, "limited")]
        # Read long, so that what is seen is the correction and not the noise of the check.
        field = np.array([self.read(self.field, c, 32) for c in codes])
        reference = np.array([self.read(self.reference, c, 32) for c in codes])
        dxy, dy = residuals(matrix, field, reference)
        return float(np.abs(dxy).max()), float(np.abs(dy).max())


@pytest.mark.parametrize(("serial", "mode"), ADDITIVE)
@pytest.mark.parametrize("method", ["four-colour", "weighted"])
def test_a_correction_holds_on_colours_it_was_not_made_of(serial, mode, method):
    for seed in SEEDS if method == "four-colour" else SEEDS[:3]:
        site = Site(serial, mode, seed)
        made, four = site.correction(method)
        assert not additivity(four)[1]
        xy, y = site.off_on_fifty(made.matrix, seed)
        assert xy < 0.0008, (seed, xy)
        assert y < 0.6, (seed, y)


@pytest.mark.parametrize("method", ["four-colour", "weighted"])
def test_a_correction_holds_where_white_is_more_than_the_sum(method):
    for seed in SEEDS if method == "four-colour" else SEEDS[:3]:
        site = Site("SW65-0112", "p2", seed)
        made, four = site.correction(method)
        off, is_more = additivity(four)
        assert is_more
        assert off > 0.1
        xy, y = site.off_on_fifty(made.matrix, seed)
        assert xy < 0.0015, (seed, xy)
        assert y < 1.5, (seed, y)


def test_without_a_correction_the_colorimeter_is_farther_off_than_the_promise():
    site = Site("LL4-0093", "c2", SEEDS[0])
    xy, _ = site.off_on_fifty(np.eye(3), SEEDS[0])
    assert xy > 0.002


def test_a_colorimeter_misses_narrow_light_by_what_its_maker_promises():
    site = Site("LL4-0093", "c2", SEEDS[1])
    off = []
    for rgb in ((940, 64, 64), (64, 940, 64), (64, 64, 940)):
        field, reference = (site.read(meter, rgb, 32) for meter in (site.field, site.reference))
        off.append(np.abs(field[:2] / field.sum() - reference[:2] / reference.sum()).max())
    assert 0.001 < max(off) < 0.009
