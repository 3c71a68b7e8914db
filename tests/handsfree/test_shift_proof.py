"""A mode that moves white by itself, unknown to whoever adjusts: found, taken out, and that mode ends right."""

from dataclasses import replace

import numpy as np
import pytest

from bench.site import Site
from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.colour.space import D65_XY, xy_to_uv, xyz_to_uv
from fenvik.core.colour.target import TARGETS
from fenvik.core.measure.shift import base_for, shift_of
from tests.handsfree.jobs import adjusted


@pytest.mark.parametrize("lights", [(0.985, 1.0, 0.97), (1.0, 1.06, 0.985), (1.03, 0.985, 1.02)])
def test_the_mode_ends_at_the_wanted_white_after_one_correction(lights):
    """Both modes keep their balance in one place, as where a preset is shared; the truth is the light itself."""
    here = Site(1, "p2", 11)
    for item in here.display.menu.items.values():
        if (item.role or "").startswith(("white.", "gamma", "light", "colour.")):
            object.__setattr__(item, "shared", True)
    here.display.optics.build.shift["p3"] = lights
    for name, value in here.display.menu.values["p2"].items():
        here.display.menu.values["p3"][name] = value

    def whites(mode, levels=(100.0, 70.0)):
        here.display.choose_mode(mode)
        return np.array([here.read((level,) * 3)[1] for level in levels])

    def truth(mode):
        here.display.choose_mode(mode)
        here._show((100.0,) * 3)
        return xyz_to_uv(spectrum_to_xyz(here.display.optics.radiance(mode, (0.5, 0.5))))

    shift = shift_of([whites("p2") for _ in range(3)], [whites("p3") for _ in range(3)])
    assert shift.uv == pytest.approx(truth("p3") - truth("p2"), abs=0.0005)
    here.display.choose_mode("p2")
    target = replace(TARGETS["bt709-bt1886"], white_xy=base_for(D65_XY, shift))
    adjusted(here, target, budget=140)
    here.display.choose_mode("p2")
    for name, value in here.display.menu.values["p2"].items():
        here.display.menu.values["p3"][name] = value  # what both share
    assert np.hypot(*(truth("p3") - xy_to_uv(D65_XY))) < 0.001
    assert np.hypot(*(truth("p2") - xy_to_uv(target.white_xy))) < 0.001
