"""The controls of the greys: gains, offsets and points, told from their roles."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.types import Floats


@dataclass(frozen=True)
class Knob:
    """A control of the greys. ``kind``: gain, offset, point, or tone, which is a point that moves the three lights alike.

    ``channel`` 0 to 2 (of a tone without meaning); ``at``: a point's fraction of signal.
    """

    id: str
    kind: str
    channel: int
    at: float
    value: float
    low: float
    high: float
    step: float


CHANNELS = {"red": 0, "green": 1, "blue": 2}
KINDS = {"gain": "gain", "offset": "offset", "at": "point"}


def knobs_of(controls: Sequence[dict[str, Any]], values: Mapping[str, Any], kinds: Sequence[str]) -> list[Knob]:
    """Return the controls of the greys of these kinds, by their roles and in their order, standing at ``values``.

    Points of luminance alone are left out where the three lights have points of their own, which do the same.
    """
    made = []
    for control in controls:
        role = (control.get("role") or "").split(".")
        if control["kind"] != "range" or values.get(control["id"]) is None or len(role) < 3:
            continue
        if role[0] == "white" and role[-1] in CHANNELS and role[1] in KINDS:
            kind, channel = KINDS[role[1]], CHANNELS[role[-1]]
            at = float(".".join(role[2:-1])) / 100.0 if kind == "point" else 1.0
        elif role[:2] == ["gamma", "at"]:
            kind, channel, at = "tone", 0, float(".".join(role[2:])) / 100.0
        else:
            continue
        if kind in kinds:
            low, high, step = (float(control[member]) for member in ("min", "max", "step"))
            made.append(Knob(control["id"], kind, channel, at, float(values[control["id"]]), low, high, step))
    if any(knob.kind == "point" for knob in made):
        made = [knob for knob in made if knob.kind != "tone"]
    return made


def prior_units(knobs: Sequence[Knob]) -> Floats:
    """Return what one step of each knob is taken to add before anything was seen: ranges tell the scale, widely."""
    made = np.empty(len(knobs))
    for i, k in enumerate(knobs):
        span = max((k.high - k.low) / k.step, 1.0)
        made[i] = {"gain": 0.30, "offset": 0.10, "point": 0.20, "tone": 0.20}[k.kind] / span
    return made
