"""The greys of a display as a model in the signal's own domain, fitted to every reading that was taken, and solved for whole steps.

Drive: the signal fraction at which the target's curve would give the light of a channel. A perfect display's drive is its signal.
Each channel has a free curve, and each control adds to it: a gain in proportion to the signal, an offset against it, a point within
its neighbours. Gains and offsets push the other channels too. Everything but the width of a point is linear.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.handsfree.knobs import Knob, prior_units
from fenvik.core.response import drive
from fenvik.core.target import Target
from fenvik.core.types import Floats

WIDTHS = (0.5, 0.65, 0.8, 1.0, 1.25, 1.6, 2.1)  # of a point's pull, as a share of the distance to its neighbour
SHAPES = ("bell", "tent")
NOISE = 0.002  # of drive: what a reading is off by, beside the meter's noise
CROSS = 0.15  # of a control's own effect: how much it may push the other channels
UNEQUAL = 0.25  # of a point's effect: how far one point's step is from its light's usual one
WARMING, WARMS_IN = 0.004, 60.0  # of drive at white that warm-up may still add, and in how many readings most of it
LIKELY_WIDTH, WIDTH_DOUBT = 0.85, 0.45  # of a point's pull, and how surely: the deviation of its logarithm
LEAST_STEP = 0.4  # of the usual step: what a point does at least, whatever few readings say
ROUGH = 0.8  # how bent a display's curve may be: drive by level squared
LEAST_ROUGH = 0.0006  # of drive: what is left of that at any distance
BENT = 0.06  # share of a change that a straight model leaves out
MIDDLE, GROWTH = 0.5, 0.5  # of signal, and of a point's usual step: how much more it may do at white than in the middle, twice
SHIFTED = 0.004  # of drive: what colour management may do to greys


@dataclass(frozen=True)
class Seen:
    """A grey that was read: fraction of signal, drives (3,), and how many steps each knob was from where it was found (k,).

    ``when`` counts readings: light still grows a little while a display warms up. ``before``: colour management was turned since.
    """

    level: float
    drives: Floats
    moved: Floats
    when: float = 0.0
    before: bool = False


@dataclass(frozen=True)
class Fit:
    """``base`` maps a level to the drives (3,) without any move; the rest knows what a step of each knob does."""

    knobs: tuple[Knob, ...]
    levels: Floats
    base: Floats  # (levels, 3), with the warm-up of the newest reading
    gain: Floats  # (3, 3): channel by control
    offset: Floats
    step: Floats  # (k,): of each point and tone
    doubt: Floats  # (k,): deviation of each knob's effect on its own light
    width: float
    shape: str
    residual: float
    boost: float = 0.0  # light of a white sub-pixel that the drives were freed of

    def effects(self, levels: Floats) -> Floats:
        """Return the drives (levels, 3, k) that one step of each knob adds."""
        made = np.zeros((len(levels), 3, len(self.knobs)))
        pull = pulls(self.knobs, levels, self.width, self.shape)
        for k, knob in enumerate(self.knobs):
            if knob.kind == "gain":
                made[:, :, k] = levels[:, None] * self.gain[:, knob.channel]
            elif knob.kind == "offset":
                made[:, :, k] = (1.0 - levels)[:, None] * self.offset[:, knob.channel]
            elif knob.kind == "tone":
                made[:, :, k] = self.step[k] * pull[:, k, None]
            else:
                made[:, knob.channel, k] = self.step[k] * pull[:, k]
        return made

    def at(self, levels: Floats, moved: Floats) -> Floats:
        """Return the drives (levels, 3) for moves (k,)."""
        base = np.stack([np.interp(levels, self.levels, self.base[:, c] - self.levels) for c in range(3)], axis=-1)
        result: Floats = base + levels[:, None] + self.effects(levels) @ moved
        return result


def pulls(knobs: Sequence[Knob], levels: Floats, width: float, shape: str) -> Floats:
    """Return the share (levels, k) of a point's or a tone's step that is felt at each level; 0 for gains and offsets."""
    reach = _reach(knobs)
    made = np.zeros((len(levels), len(knobs)))
    for k, knob in enumerate(knobs):
        if knob.kind in ("point", "tone"):
            away = (levels - knob.at) / max(width * reach[k], 1e-3)
            made[:, k] = (
                np.exp(-0.5 * (away / 0.55) ** 2) if shape == "bell" else np.clip(1.0 - 0.75 * np.abs(away), 0.0, 1.0)
            )
    return made


def _reach(knobs: Sequence[Knob]) -> Floats:
    """Return each point's distance to its neighbours, as fractions of signal."""
    at = sorted({k.at for k in knobs if k.kind in ("point", "tone")})
    made = np.ones(len(knobs))
    for i, knob in enumerate(knobs):
        if knob.kind in ("point", "tone") and len(at) > 1:
            j = at.index(knob.at)
            made[i] = np.mean([abs(at[n] - knob.at) for n in (j - 1, j + 1) if 0 <= n < len(at)])
    return made


def drives_of(xyz: Floats, target: Target, white: float, black: float, boost: float = 0.0) -> Floats:
    """Return the drives (n, 3) of XYZ (n, 3) for a fixed white and black in cd/m².

    ``boost``: what a white sub-pixel adds to the sum of the three lights, as a share of it. It shines as much as the weakest of
    the three does, so a light that stands out of the others stands out by that much more in what drives it.
    """
    if boost:
        light = xyz @ target.inverse_matrix.T
        xyz = (light + boost * (light - light.min(axis=1, keepdims=True))) @ target.matrix.T
    return drive(xyz, target, white, black)


def seen_of(boost: float) -> Floats:
    """Return the matrix (3, 3) that makes small changes of drives freed of a white sub-pixel into changes that are seen."""
    result: Floats = (np.eye(3) + boost / 3.0 * np.ones((3, 3))) / (1.0 + boost)
    return result


def fit(knobs: Sequence[Knob], seen: Sequence[Seen]) -> Fit:
    """Fit the model to everything that was seen; what no reading tells stays at its prior.

    No display is quite as straight as the model. So a reading counts the less the farther the knobs have been turned since, and
    what is expected near to where they stand now is what was read near to it.
    """
    problem = _Problem(tuple(knobs), seen)
    shapes = [(w, s) for s in SHAPES for w in WIDTHS] if problem.moved_points.size else [(1.0, "bell")]
    made = min((problem.solved(width, shape) for width, shape in shapes), key=lambda made: made.residual)
    problem.trust(made)
    return min((problem.solved(width, shape) for width, shape in shapes), key=lambda made: made.residual)


class _Problem:
    """The linear least squares behind the fit: all that does not depend on a point's width is set up once.

    Unknown, in order: the base (3n), warm-up, gains (9), offsets (9), the usual step of points (3) and of tones, how it grows
    with the level (4), what colour management shifted (6), and how far each point that was moved is from its usual step.
    """

    def __init__(self, knobs: tuple[Knob, ...], seen: Sequence[Seen]) -> None:
        self.knobs, self.seen = knobs, seen
        self.at = np.array([s.level for s in seen])
        self.moved = np.array([s.moved for s in seen]).reshape(len(seen), len(knobs))
        self.levels, self.which = np.unique(np.round(self.at, 6), return_inverse=True)
        points = [k for k, knob in enumerate(knobs) if knob.kind in ("point", "tone")]
        self.moved_points = np.array([k for k in points if np.any(self.moved[:, k])], dtype=int)
        n = len(self.levels)
        self.warm = 3 * n
        self.g, self.o, self.u = 3 * n + 1, 3 * n + 10, 3 * n + 19
        self.growth = self.u + 4
        self.shift = self.growth + 4
        self.own = self.shift + 6
        self.size = self.own + len(self.moved_points)
        # Dark drives are noisy: the light there is little.
        self.noise = NOISE * (1.0 + (0.12 / np.maximum(self.at, 0.02)) ** 2)
        self.weight = np.repeat(1.0 / self.noise[:, None], 3, axis=1)  # (readings, 3)
        self.units = prior_units(knobs)
        self.fixed = np.array([self._seen_rows(c) for c in range(3)])  # (3, readings, size)
        self.prior_rows, self.prior_values = self._prior()

    def _seen_rows(self, channel: int) -> Floats:
        rows = np.zeros((len(self.seen), self.size))
        rows[np.arange(len(self.seen)), 3 * self.which + channel] = 1.0
        when = np.array([s.when for s in self.seen])
        rows[:, self.warm] = self.at * (np.exp(-when.max(initial=0.0) / WARMS_IN) - np.exp(-when / WARMS_IN))
        before = np.array([s.before for s in self.seen], dtype=float)
        rows[:, self.shift + channel] = before * self.at
        rows[:, self.shift + 3 + channel] = before * (1.0 - self.at)
        for k, knob in enumerate(self.knobs):
            if knob.kind == "gain":
                rows[:, self.g + 3 * channel + knob.channel] += self.at * self.moved[:, k]
            elif knob.kind == "offset":
                rows[:, self.o + 3 * channel + knob.channel] += (1.0 - self.at) * self.moved[:, k]
        return rows

    def _usual(self, kind: str, channel: int) -> float:
        found = [
            self.units[k]
            for k, knob in enumerate(self.knobs)
            if knob.kind == kind and (kind == "tone" or knob.channel == channel)
        ]
        return float(np.mean(found)) if found else 0.0

    def _prior(self) -> tuple[Floats, Floats]:
        rows, wanted = [], []

        def say(columns: dict[int, float], value: float, spread: float) -> None:
            row = np.zeros(self.size)
            for column, share in columns.items():
                row[column] = share
            rows.append(row / max(spread, 1e-5))
            wanted.append(value / max(spread, 1e-5))

        say({self.warm: 1.0}, 0.0, WARMING)
        for start, kind in ((self.g, "gain"), (self.o, "offset")):
            for c in range(3):
                for k in range(3):
                    usual = self._usual(kind, k)
                    say({start + 3 * c + k: 1.0}, usual if c == k else 0.0, (0.8 if c == k else CROSS) * usual)
        for c in range(3):
            say({self.u + c: 1.0}, self._usual("point", c), 0.8 * self._usual("point", c))
        say({self.u + 3: 1.0}, self._usual("tone", 0), 0.8 * self._usual("tone", 0))
        for c in range(4):
            say({self.growth + c: 1.0}, 0.0, GROWTH * self._usual("tone" if c == 3 else "point", c))
        for i in range(6):
            say({self.shift + i: 1.0}, 0.0, SHIFTED)
        for i, k in enumerate(self.moved_points):
            say({self.own + i: 1.0}, 0.0, UNEQUAL * self.units[k])
        # A base whose neighbours are far from a line is doubted a little, so that levels read once lean on the others.
        for at in range(1, len(self.levels) - 1):
            span = self.levels[at + 1] - self.levels[at - 1]
            share = (self.levels[at] - self.levels[at - 1]) / span
            for c in range(3):
                say({3 * at + c: 1.0, 3 * (at - 1) + c: -(1 - share), 3 * (at + 1) + c: -share}, 0.0, self._rough(at))
        return np.array(rows), np.array(wanted)

    def _rough(self, at: int) -> float:
        """Return how far a level's base may lie from the line between its neighbours: curves are smooth, less so in the dark."""
        half = 0.5 * float(self.levels[at + 1] - self.levels[at - 1])
        return (ROUGH * half**2 + LEAST_ROUGH) * (1.0 + (0.1 / max(float(self.levels[at]), 0.02)) ** 2)

    def trust(self, made: Fit) -> None:
        """Weigh every reading by how far each light was moved between it and the newest one, as a fit has it."""
        since = np.einsum("nck,nk->nc", made.effects(self.at), self.moved[-1] - self.moved)
        self.weight = 1.0 / np.hypot(self.noise[:, None], BENT * since)

    def solved(self, width: float, shape: str) -> Fit:
        """Return the fit with points of a width and a shape."""
        pull = pulls(self.knobs, self.at, width, shape)
        blocks, values = [], []
        for c in range(3):
            rows = self.fixed[c].copy()
            for i, k in enumerate(self.moved_points):
                knob = self.knobs[k]
                if knob.kind == "point" and knob.channel != c:
                    continue
                felt = pull[:, k] * self.moved[:, k]
                usual = 3 if knob.kind == "tone" else c
                rows[:, self.u + usual] += felt
                rows[:, self.growth + usual] += (knob.at - MIDDLE) * felt
                rows[:, self.own + i] += felt
            blocks.append(rows * self.weight[:, c, None])
            values.append(np.array([s.drives[c] for s in self.seen]) * self.weight[:, c])
        a, b = np.vstack([*blocks, self.prior_rows]), np.concatenate([*values, self.prior_values])
        gram = a.T @ a
        known = np.linalg.inv(gram)  # the covariance of what is unknown
        x = known @ (a.T @ b)
        residual = float(((a @ x - b) ** 2).sum()) + (np.log(width / LIKELY_WIDTH) / WIDTH_DOUBT) ** 2
        step = np.zeros(len(self.knobs))
        for k, knob in enumerate(self.knobs):
            if knob.kind in ("point", "tone"):
                at = 3 if knob.kind == "tone" else knob.channel
                step[k] = x[self.u + at] + (knob.at - MIDDLE) * x[self.growth + at]
        # One that seems to do next to nothing was read too little yet: no reason to turn it by a lot.
        least = LEAST_STEP * np.abs(step)
        step[self.moved_points] += x[self.own :]
        step = np.where(np.abs(step) < least, np.where(step < 0, -least, least), step)
        doubt = self._doubt(known)
        return Fit(
            self.knobs, self.levels, x[: self.warm].reshape(-1, 3), x[self.g : self.o].reshape(3, 3),
            x[self.o : self.u].reshape(3, 3), step, doubt, width, shape, residual,
        )  # fmt: skip

    def _doubt(self, known: Floats) -> Floats:
        made = np.zeros(len(self.knobs))
        place = {int(k): self.own + i for i, k in enumerate(self.moved_points)}
        for k, knob in enumerate(self.knobs):
            if knob.kind in ("gain", "offset"):
                at = (self.g if knob.kind == "gain" else self.o) + 4 * knob.channel
                made[k] = np.sqrt(max(known[at, at], 0.0))
                continue
            usual = self.u + (3 if knob.kind == "tone" else knob.channel)
            spread = known[usual, usual] + (
                known[place[k], place[k]] + 2 * known[usual, place[k]] if k in place else (UNEQUAL * self.units[k]) ** 2
            )
            made[k] = np.sqrt(max(spread, 0.0))
        return made
