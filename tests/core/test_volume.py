import numpy as np
import pytest

from fenvik.core.analysis.volume import Model, lattice, share
from fenvik.core.colour.itp import delta_itp
from fenvik.core.colour.target import TARGETS
from fenvik.core.errors import ShapeError

WIDE = TARGETS["bt2020-pq"]


def display(target, peak, loss=1.0):
    three = target.matrix.T * peak * loss
    return three, target.matrix.sum(axis=1) * peak, np.zeros(3)


def test_a_display_that_is_the_target_reaches_all_of_it():
    assert share(*display(WIDE, 1000.0), WIDE, 1000.0) > 0.97


def test_a_narrower_one_reaches_less_and_one_with_dim_colours_less_still():
    narrow = TARGETS["bt709-2.4"]
    part = share(*display(narrow, 1000.0), WIDE, 1000.0)
    assert 0.5 < part < 0.6, "counted evenly in ICtCp, BT.709 is half of BT.2020"
    assert 0.72 < share(*display(TARGETS["p3d65-pq"], 1000.0), WIDE, 1000.0) < 0.78
    assert share(*display(WIDE, 1000.0, loss=0.5), WIDE, 1000.0) < 0.9, "white is more than the sum: colours lack light"
    assert share(*display(WIDE, 300.0), WIDE, 1000.0) < 0.9


def test_the_model_gives_its_corners_back_and_is_turned_round():
    three, white, black = np.diag([10.0, 20.0, 5.0]) + 0.1, np.array([14.0, 26.0, 9.0]), np.full(3, 0.1)
    made = Model(three, white, black)
    np.testing.assert_allclose(made.xyz([[0, 0, 0], [1, 0, 0], [1, 1, 1]]), [black, three[0], white])
    drives = np.random.default_rng(3).uniform(0, 1, (50, 3))
    np.testing.assert_allclose(made.drives(made.xyz(drives)), drives, atol=1e-9)
    with pytest.raises(ShapeError):
        Model(three[:2], white, black)


def test_the_nearest_colour_within_reach_is_nearer_than_the_one_with_its_drives_cut_off():
    made = Model(*display(TARGETS["bt709-2.4"], 600.0))
    wanted = lattice(WIDE, 600.0)
    cut, near = made.xyz(np.clip(made.drives(wanted), 0, 1)), made.nearest(wanted)
    assert (delta_itp(wanted, near) <= delta_itp(wanted, cut) + 1e-6).all()
    assert made.drives(near).min() > -1e-6
    # By trying: none of many colours within reach comes nearer.
    i = int(np.argmax(delta_itp(wanted, near)))
    tried = made.xyz(np.random.default_rng(4).uniform(0, 1, (20_000, 3)))
    assert delta_itp(np.broadcast_to(wanted[i], tried.shape), tried).min() > delta_itp(wanted, near)[i] - 0.05
