"""The greys of a display as a model in the signal's own domain: what every level gives, and what a step of each control adds.

Drive: the signal fraction at which the target's curve would give the light of a channel. A perfect display's drive is its signal.
Each channel has a free curve, and each control adds to it: a gain in proportion to the signal, an offset against it, a point within
its neighbours. Gains and offsets push the other channels too. Points act on the signal that gains and offsets leave, or on the one
that arrives: which of them, the readings tell.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from fenvik.core.colour import curves
from fenvik.core.colour.target import Target
from fenvik.core.controls import Control
from fenvik.core.models.rolloff import RollOff
from fenvik.core.models.twopoint import drive
from fenvik.core.types import Bools, Floats

OF_DARKER = 0.5  # of the light that is wanted: what the signal gives of it at least
FINER_IN_PQ = 0.5
NOISE = 0.002  # of drive: what a reading is off by, beside the meter's noise


@dataclass(frozen=True)
class Seen:
    """A grey that was read: fraction of signal, drives (3,), and how many steps each knob was from where it was found (k,).

    ``when`` counts readings: light still grows a little while a display warms up. ``before``: how far it may be
    shifted by what was turned since; 1 for colour management, 0 for nothing.
    """

    level: float
    drives: Floats
    moved: Floats
    when: float = 0.0
    before: float = 0.0
    doubt: float = 1.0  # how many times less its drives are known than in the middle: where a display ends, light hardly tells


@dataclass(frozen=True)
class Fit:
    """``base`` maps a level to the drives (3,) without any move; the rest knows what a step of each knob does."""

    knobs: tuple[Control, ...]
    levels: Floats
    base: Floats  # (levels, 3), with the warm-up of the newest reading
    gain: Floats  # (3, 3): channel by control
    offset: Floats
    step: Floats  # (k,): of each point and tone
    doubt: Floats  # (k,): deviation of each knob's effect on its own light
    width: float
    shape: str
    residual: float
    follows: bool  # whether points act on the signal that gains and offsets leave, and not on the one that arrives
    astray: Floats  # (2, 3): of signal, by how much the points meet white and black elsewhere, beside that
    boost: float = 0.0  # light of a white sub-pixel that the drives were freed of
    fine: float = 1.0  # as of ``fineness``
    low: float = 1.0  # of signal: from where on offsets do nothing
    tilt: Floats = field(default_factory=lambda: np.zeros((2, 3)))  # what a gain adds to its own light at black, an offset at white
    push: Floats = field(default_factory=lambda: np.zeros((3, 3)))  # light by points: what a step of those of another adds to it
    backwards: frozenset[int] = frozenset()  # points, by their places among the knobs, that take away where others add
    gain_doubt: Floats = field(default_factory=lambda: np.zeros((3, 3)))  # deviations of ``gain`` and ``offset``
    offset_doubt: Floats = field(default_factory=lambda: np.zeros((3, 3)))
    end: Floats = field(default_factory=lambda: np.full(3, np.inf))  # drives of each light that it never goes beyond

    @property
    def dead(self) -> frozenset[int]:
        """Points, by their places among the knobs, that were turned and surely do nothing."""
        return frozenset(k for k, knob in enumerate(self.knobs) if knob.kind in ("point", "tone") and self.step[k] == 0.0)

    def met(self, levels: Floats, moved: Floats) -> Floats:
        """Return the signal (levels, 3) at which the points meet greys, for moves (k,) or (levels, k)."""
        made = ends(levels) @ self.astray + levels[:, None]
        if self.follows:
            for kind, share, effect in (("gain", levels, self.gain), ("offset", in_the_dark(levels, self.low), self.offset)):
                mine = [k for k, knob in enumerate(self.knobs) if knob.kind == kind]
                pushed = moved[..., mine] @ effect[:, [self.knobs[k].channel for k in mine]].T
                made = made + share[:, None] * pushed
        return made

    def effects(self, levels: Floats, moved: Floats) -> Floats:
        """Return the drives (levels, 3, k) that one more step of each knob adds where they stand at ``moved`` (k,)."""
        made = np.zeros((len(levels), 3, len(self.knobs)))
        pull = pulls(self.knobs, self.met(levels, moved), self.width, self.shape)
        for k, knob in enumerate(self.knobs):
            if knob.kind == "gain":
                made[:, :, k] = levels[:, None] * self.gain[:, knob.channel]
                made[:, knob.channel, k] += (1.0 - levels) * self.tilt[0, knob.channel]
            elif knob.kind == "offset":
                made[:, :, k] = in_the_dark(levels, self.low)[:, None] * self.offset[:, knob.channel]
                made[:, knob.channel, k] += levels * self.tilt[1, knob.channel]
        tones = [k for k, knob in enumerate(self.knobs) if knob.kind == "tone"]
        made[:, :, tones] = self.step[tones] * pull[:, :, tones]
        points = [k for k, knob in enumerate(self.knobs) if knob.kind == "point"]
        lights = [self.knobs[k].channel for k in points]
        sign = np.array([-1.0 if k in self.backwards else 1.0 for k in points])
        made[:, :, points] = sign * self.push[:, lights] * pull[:, :, points]
        made[:, lights, points] = self.step[points] * pull[:, lights, points]
        return made

    def at(self, levels: Floats, moved: Floats) -> Floats:
        """Return the drives (levels, 3) for moves (k,)."""
        return np.minimum(self.unended_at(levels, moved), self.end)

    def unended_at(self, levels: Floats, moved: Floats) -> Floats:
        """Return the drives (levels, 3) for moves (k,) that lights would have if they went on beyond their ends."""
        return self.of_readings(levels, np.broadcast_to(moved, (len(levels), len(moved))))

    def ended_at(self, levels: Floats, moved: Floats) -> Bools:
        """Return which lights (levels, 3) are cut off at their ends, for moves (k,)."""
        return self.unended_at(levels, moved) > self.end

    def of_readings(self, levels: Floats, moved: Floats) -> Floats:
        """Return what ``unended_at`` does for moves (levels, k), others at each level."""
        base = np.stack([np.interp(levels, self.levels, self.base[:, c] - self.levels) for c in range(3)], axis=-1)
        result: Floats = base + levels[:, None] + np.einsum("nck,nk->nc", self.effects(levels, moved), moved)
        return result


def fineness(target: Target) -> float:
    """Return how far drives are off by noise and by what no model has, beside a gamma curve's: in PQ they are finer."""
    return FINER_IN_PQ if target.curve == "pq" else 1.0


def ends(levels: Floats) -> Floats:
    """Return the shares (levels, 2) that something at white and something at black has of each level."""
    return np.stack([levels, 1.0 - levels], axis=-1)


def in_the_dark(levels: Floats, low: float) -> Floats:
    """Return the share (levels,) of an offset's step that is felt: all of it at black, less from there on, none from ``low`` on."""
    share: Floats = np.maximum(1.0 - levels / low, 0.0)
    return share


def pulls(knobs: Sequence[Control], met: Floats, width: float, shape: str) -> Floats:
    """Return the share (..., k) of a point's or a tone's step that is felt at signals ``met`` (...); 0 for gains and offsets."""
    made = np.zeros((*met.shape, len(knobs)))
    mine = [k for k, knob in enumerate(knobs) if knob.kind in ("point", "tone")]
    if mine:
        at = np.array([knobs[k].at for k in mine])
        made[..., mine] = pull(np.abs(met[..., None] - at) / np.maximum(width * reach_of(at, at), 1e-3), shape)
    return made


def pull(away: Floats, shape: str) -> Floats:
    """Return the share of a point's step that is felt so many widths away from it, for a bell or a tent."""
    result: Floats = np.exp(-0.5 * (away / 0.55) ** 2) if shape == "bell" else np.clip(1.0 - 0.75 * away, 0.0, 1.0)
    return result


def reach_of(points: Floats, at: Floats) -> Floats:
    """Return the distance (k,) of those points that lie at signals (k,) to their neighbours: the mean of both, or the only one."""
    levels, reach = _reaches(tuple(points.tolist()))
    return reach[np.searchsorted(levels, at)] if len(levels) > 1 else np.ones(len(at))


@lru_cache(maxsize=256)
def _reaches(points: tuple[float, ...]) -> tuple[Floats, Floats]:
    levels = np.unique(points)
    gaps = np.diff(levels)
    return levels, np.concatenate([gaps[:1], (gaps[1:] + gaps[:-1]) / 2.0, gaps[-1:]])


def drives_of(
    xyz: Floats, target: Target, white: float, black: float, boost: float = 0.0, roll: RollOff | None = None
) -> Floats:
    """Return the drives (n, 3) of XYZ (n, 3) for a fixed white and black in cd/m².

    ``boost``: what a white sub-pixel adds to the sum of the three lights, as a share of it. It shines as much as the weakest of
    the three does, so a light that stands out of the others stands out by that much more in what drives it. ``roll``: how an HDR
    display ends; its drives are the course that comes before that, without the black that adds to every light.
    """
    if boost:
        light = xyz @ target.inverse_matrix.T
        xyz = (light + boost * (light - light.min(axis=1, keepdims=True))) @ target.matrix.T
    if target.curve != "pq":
        return drive(xyz, target, white, black)
    made = drive(np.asarray(xyz) - black * target.white, target.plain, white, black)
    return made if roll is None else roll.course_of(made)


def wanted_of(levels: Floats, target: Target, white: float, black: float, roll: RollOff | None = None) -> Floats:
    """Return the drives (n,) that greys at levels (n,) are to have: their signal, but where the target ends below it.

    In HDR the display's own black is part of the light; of what is darker than that, half is left to the signal: detail stays.
    """
    if target.curve != "pq":
        return levels
    luminance = target.xyz(np.repeat(levels[:, None], 3, axis=1), white, black)[:, 1]
    own = curves.pq_inverse(np.maximum(luminance - black, OF_DARKER * luminance))
    return own if roll is None else roll.course_of(own)


def seen_at(drives: Floats, target: Target, white: float, black: float, roll: RollOff | None = None) -> Floats:
    """Return XYZ (n, 3) that drives (n, 3) show: the inverse of ``drives_of`` without a white sub-pixel."""
    if target.curve != "pq":
        return target.xyz(drives, white, black)
    shown = drives if roll is None else roll.shown(drives)
    return target.plain.xyz(shown, curves.PQ_PEAK_CD_M2, 0.0) + black * target.white


def seen_of(boost: float) -> Floats:
    """Return the matrix (3, 3) that makes small changes of drives freed of a white sub-pixel into changes that are seen."""
    result: Floats = (np.eye(3) + boost / 3.0 * np.ones((3, 3))) / (1.0 + boost)
    return result
