"""PQ that ends as a target wants it, with a reference white of its own, or with less light: by controls, and installed."""

from dataclasses import replace

import numpy as np
import pytest

from bench.rolled import BUDGET, PQ, by_controls, installed
from fenvik.core.models.installed import Curves, curves_for, rolled
from fenvik.core.models.palette import palette_for

FROM_4000, BY_POINTS = "rolled off from 4,000 cd/m²", "bent by two points"
DIMMER, LESS_LIGHT = "a reference white of 100 cd/m²", "light at 300 cd/m²"


@pytest.mark.parametrize(("way", "aim", "seed", "most"), [
    (by_controls, FROM_4000, 7001, 1.2),
    (by_controls, DIMMER, 7000, 2.0), (by_controls, LESS_LIGHT, 7003, 1.0),
    (installed, FROM_4000, 102, 1.3), (installed, BY_POINTS, 102, 0.8), (installed, DIMMER, 102, 1.0),
])  # fmt: skip
def test_greys_end_as_is_wanted_and_the_peak_is_kept(way, aim, seed, most):
    made = way((aim, seed))
    notes = made["job"].desk.notes
    assert made["left"].mean() < most < 0.3 * made["found"].mean()
    assert not made["back"]
    assert made["job"].desk.spent <= BUDGET
    # Controls that make less of all light make less of the peak too, and say so.
    takes = [note for note in notes if "takes light at the top" in note]
    assert (made["peak"] < 0.97) == bool(takes) == (aim == DIMMER and way is by_controls) or aim == LESS_LIGHT
    assert not takes or aim != LESS_LIGHT
    assert not [note for note in notes if "does not fit together" in note or "light late" in note]
    assert sum(note.startswith("It follows the standard to") for note in notes) <= 1


def test_curves_are_not_cut_off_where_a_roll_off_bends_what_comes_of_them():
    knee = np.array([[0.6, 0.6], [0.75, 0.7], [0.9, 0.75]])
    levels = np.linspace(0.05, 0.85, 12)
    scale = np.array([0.985, 1.0, 1.01])
    drives = scale * rolled(levels, knee)[:, None]
    ends, most = np.full(3, 0.735), np.full(3, 0.745) * scale
    made = curves_for(
        Curves.none(1024), levels, drives, lambda s: np.minimum(rolled(s, knee), 0.735), ends,
        open_top=[False] * 3, most=most, knee=knee,
    )  # fmt: skip
    at = np.linspace(0.1, 1.0, 40)
    gives = scale * np.stack([rolled(row, knee) for row in made.bent(np.repeat(at[:, None], 3, axis=1)).T], axis=-1)
    np.testing.assert_allclose(gives, np.repeat(np.minimum(rolled(at, knee), 0.735)[:, None], 3, axis=1), atol=0.004)


def test_what_drives_a_display_is_the_signal_by_itself_and_its_end_its_own():
    target = replace(PQ, rolls_off=True, mastered=(4000.0, 0.005), diffuse=60.0)
    assert target.plain == replace(PQ, mastered=target.mastered)
    assert target.unrolled.diffuse == 60.0
    palette = palette_for(replace(target, diffuse=None), 300.0)
    plain = palette_for(PQ, 300.0)
    assert (palette.reach < palette.top, plain.reach == plain.top) == (True, True)
    assert palette.end[0] == pytest.approx(plain.end[0], abs=0.02 * plain.end[0])
