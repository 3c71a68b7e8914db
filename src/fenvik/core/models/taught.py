"""What the controls of the greys did on an earlier sample of a model: a first belief for the next one.

Samples of a model have the same menu and the same electronics; their light, their curves and, by some percent, what a step does
are their own. So nothing is taken over but what steps do, and that with the spread between samples added to what is not known.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.controls import Control
from fenvik.core.models.grey import Fit
from fenvik.core.types import Floats

BETWEEN = 0.12  # of an effect: how far two samples of a model are apart
BETWEEN_CROSS = 0.03  # of a control's own effect: the same of what it does to other lights
BETWEEN_POINTS = 0.08  # of an effect: how far a point is from its light's others, beside what was told of it
BETWEEN_POINTS_UNTOLD = 0.15  # the same of a point that nothing was told of, beside its light's others
WIDTH_BETWEEN = 0.12  # deviation of the logarithm of a width
OTHER_SHAPE = 4.0  # squared error that speaks against another shape than was found
LEAST_MOVES = 4  # controls that must have been turned: fewer teach nothing of a menu
KNOWN = 0.5  # of an effect: what is doubted by more was not told


@dataclass(frozen=True)
class Taught:
    """By control, its effect (3,) per step and the deviation of that, both of signal: of points the light it moves alone counts."""

    effects: Mapping[str, Floats]
    doubts: Mapping[str, Floats]
    width: float = 0.0  # of points, as of ``Fit``; 0 where none was turned
    shape: str = ""

    @classmethod
    def of(cls, model: Fit, moved: Sequence[bool]) -> "Taught | None":
        """Return what a fit tells of the knobs (k,) that were ``moved``; None where that is too little."""
        if sum(moved) < LEAST_MOVES:
            return None
        effects, doubts = {}, {}
        for k, knob in enumerate(model.knobs):
            if not moved[k]:
                continue
            effect, doubt = (each / knob.every for each in _told(model, k, knob))  # of a step of the menu
            if doubt[knob.channel] <= KNOWN * abs(effect[knob.channel]):
                effects[knob.id], doubts[knob.id] = effect, doubt
        points = any(knob.kind in ("point", "tone") and knob.id in effects for knob in model.knobs)
        return cls(effects, doubts, *((model.width, model.shape) if points else (0.0, "")))

    def of_knob(self, knob: Control) -> tuple[Floats, Floats] | None:
        """Return the effect (3,) that is expected of a knob of the next sample, and how far it may be off (3,); None if unknown."""
        if knob.id not in self.effects:
            return None
        effect, doubt = knob.every * self.effects[knob.id], knob.every * self.doubts[knob.id]
        between = np.full(3, BETWEEN_CROSS * abs(effect[knob.channel]))
        between[knob.channel] = BETWEEN * abs(effect[knob.channel])
        return effect, np.hypot(doubt, between)

    def of_point(self, knob: Control) -> tuple[float, float] | None:
        """Return the effect that is expected of a point, and how far it may be off beside the other points of its light."""
        if knob.id not in self.effects:
            return None
        own, doubt = (knob.every * float(each[knob.id][knob.channel]) for each in (self.effects, self.doubts))
        return own, float(np.hypot(BETWEEN_POINTS * own, doubt))

    def as_json(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {
            "effects": {name: [float(v) for v in effect] for name, effect in self.effects.items()},
            "doubts": {name: [float(v) for v in doubt] for name, doubt in self.doubts.items()},
            "width": self.width, "shape": self.shape,
        }  # fmt: skip

    @classmethod
    def from_json(cls, told: Mapping[str, Any]) -> "Taught":
        """Return what ``as_json`` made. Raises KeyError, TypeError or ValueError for anything else."""
        effects = {str(name): np.array(effect, dtype=np.float64) for name, effect in told["effects"].items()}
        doubts = {str(name): np.array(told["doubts"][name], dtype=np.float64) for name in effects}
        if any(each.shape != (3,) for each in (*effects.values(), *doubts.values())):
            raise ValueError("An effect has three lights.")
        return cls(effects, doubts, float(told["width"]), str(told["shape"]))


def _told(model: Fit, k: int, knob: Control) -> tuple[Floats, Floats]:
    """Return the effect (3,) of a step of a knob, and the deviation of it (3,)."""
    if knob.kind in ("gain", "offset"):
        effect, doubt = (model.gain, model.gain_doubt) if knob.kind == "gain" else (model.offset, model.offset_doubt)
        return effect[:, knob.channel], doubt[:, knob.channel]
    own = np.zeros(3)
    own[knob.channel] = 1.0
    return model.step[k] * own, model.doubt[k] * own
