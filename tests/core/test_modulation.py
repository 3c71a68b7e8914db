"""What a light's frequency says beside the rates of pictures."""

import pytest

from fenvik.core.measure.modulation import beside, words


@pytest.mark.parametrize(
    ("hertz", "fits"),
    [
        (240.0, {24, 30, 60}), (100.0, {25, 50}), (119.88, {24, 30, 60}), (480.0, {24, 30, 60}), (97.0, set()),
        (600.0, {24, 25, 30, 50, 60}),
    ],
)  # fmt: skip
def test_which_rates_a_panel_runs_in_multiples_of(hertz, fits):
    assert {int(r.rate) for r in beside(hertz) if r.fits} == fits
    said = words(hertz)
    assert f"{hertz:.1f} times a second" in said
    assert ("none of the usual rates" in said) == (not fits)
