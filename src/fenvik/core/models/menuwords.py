"""What a fit of the greys tells of a menu that is unlike most, in words."""

from collections.abc import Iterable, Sequence

import numpy as np

from fenvik.core.controls import Control
from fenvik.core.models import grains
from fenvik.core.models.grey import Fit
from fenvik.core.models.twopoint import CHANNELS


def said(knobs: Sequence[Control], model: Fit | None) -> list[str]:
    """Return what a person is told of the points and the lights of a menu, a sentence each."""
    told = grains.said(knobs)
    if model is None:
        return told
    if names := _names(model, model.backwards):
        told.append(f"{names}: more of it gives less light, and it is turned as that wants.")
    if names := _names(model, model.dead):
        told.append(f"Turning {names} does nothing, so that is left alone.")
    ended = [CHANNELS[c] for c in np.flatnonzero(np.isfinite(model.end))]
    if ended:
        which = "any light" if len(ended) == len(CHANNELS) else " and ".join(ended)
        told.append(f"Nothing lifts {which} any more near full signal: white can only be brought down to that.")
    return told


def _names(model: Fit, places: Iterable[int]) -> str:
    return ", ".join(model.knobs[k].label for k in sorted(places))
