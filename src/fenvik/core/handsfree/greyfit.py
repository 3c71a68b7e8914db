"""The fit of the model of the greys to every reading that was taken. Linear, but for where points act and how wide."""

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from fenvik.core.handsfree.greymodel import NOISE, Fit, Seen, ends, pulls
from fenvik.core.handsfree.knobs import Knob, prior_units
from fenvik.core.types import Floats

WIDTHS = (0.5, 0.65, 0.8, 1.0, 1.25, 1.6, 2.1)  # of a point's pull, as a share of the distance to its neighbour
SHAPES = ("bell", "tent")
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
ASTRAY = np.array([0.02, 0.005])  # of signal: by how much points may meet white and black elsewhere than at their levels
UNUSUAL = 6.0  # of the squared error: what must speak for points that act on the signal before gains and offsets do
NEAR = 0.002  # of signal: how steep a point's pull is, is told over this


def fit(knobs: Sequence[Knob], seen: Sequence[Seen]) -> Fit:
    """Fit the model to everything that was seen; what no reading tells stays at its prior.

    No display is quite as straight as the model. So a reading counts the less the farther the knobs have been turned since, and
    what is expected near to where they stand now is what was read near to it.
    """
    problem = _Problem(tuple(knobs), seen)
    if not problem.moved_points.size:
        problem.trust(problem.solved(1.0, "bell"))
        return problem.solved(1.0, "bell")
    shapes = [(width, shape) for shape in SHAPES for width in WIDTHS]
    made = _best(problem.solved(width, shape) for width, shape in shapes)
    # Where the points act is not linear: it is taken from the fit before, and what that leaves is fitted as small shifts.
    after, before = (problem.solved(made.width, made.shape, replace(made, follows=follows)) for follows in (True, False))
    made = before if before.residual < after.residual - UNUSUAL else after
    problem.trust(made)
    made = _best(problem.solved(width, shape, made) for width, shape in shapes)
    return problem.solved(made.width, made.shape, made)


def _best(fits: Iterable[Fit]) -> Fit:
    return min(fits, key=lambda made: made.residual)


class _Problem:
    """The linear least squares behind the fit: all that does not depend on where points act and how wide is set up once.

    Unknown, in order: the base (3n), warm-up, gains (9), offsets (9), the usual step of points (3) and of tones, how it grows
    with the level (4), what colour management shifted (6), how far each point that was moved is from its usual step, and by how
    much points meet white (3) and black (3) elsewhere than was taken.
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
        self.place = self.own + len(self.moved_points)
        self.size = self.place + 6
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
        for i, spread in enumerate(np.repeat(ASTRAY, 3)):  # the last rows: what they want depends on where the fit is about
            say({self.place + i: 1.0}, 0.0, float(spread))
        return np.array(rows), np.array(wanted)

    def _rough(self, at: int) -> float:
        """Return how far a level's base may lie from the line between its neighbours: curves are smooth, less so in the dark."""
        half = 0.5 * float(self.levels[at + 1] - self.levels[at - 1])
        return (ROUGH * half**2 + LEAST_ROUGH) * (1.0 + (0.1 / max(float(self.levels[at]), 0.02)) ** 2)

    def trust(self, made: Fit) -> None:
        """Weigh every reading by how far each light was moved between it and the newest one, as a fit has it."""
        since = np.einsum("nck,nk->nc", made.effects(self.at, self.moved[-1]), self.moved[-1] - self.moved)
        self.weight = 1.0 / np.hypot(self.noise[:, None], BENT * since)

    def _rows(self, width: float, shape: str, about: Fit | None) -> Floats:
        """Return what each reading says (3, readings, size) of the unknown, with points that act about where a fit has them."""
        rows = self.fixed.copy()
        met = np.repeat(self.at[:, None], 3, axis=1) if about is None else about.met(self.at, self.moved)
        pull = pulls(self.knobs, met, width, shape)
        for i, k in enumerate(self.moved_points):
            knob = self.knobs[k]
            for c in range(3) if knob.kind == "tone" else (knob.channel,):
                felt = pull[:, c, k] * self.moved[:, k]
                usual = 3 if knob.kind == "tone" else c
                rows[c, :, self.u + usual] += felt
                rows[c, :, self.growth + usual] += (knob.at - MIDDLE) * felt
                rows[c, :, self.own + i] += felt
        if about is not None:
            up, down = (pulls(self.knobs, met + way * NEAR, width, shape) for way in (1.0, -1.0))
            steps = about.step * self.moved  # (readings, k)
            for c in range(3):
                mine = [k for k in self.moved_points if self.knobs[k].kind == "tone" or self.knobs[k].channel == c]
                steep = ((up - down)[:, c, mine] * steps[:, mine]).sum(axis=1) / (2 * NEAR)
                rows[c][:, [self.place + c, self.place + 3 + c]] += steep[:, None] * ends(self.at)
        return rows

    def solved(self, width: float, shape: str, about: Fit | None = None) -> Fit:
        """Return the fit with points of a width and a shape, that act about where a fit before has them."""
        astray = np.zeros((2, 3)) if about is None else about.astray
        rows, drives = self._rows(width, shape, about), np.array([s.drives for s in self.seen])
        blocks = [rows[c] * self.weight[:, c, None] for c in range(3)]
        values = [drives[:, c] * self.weight[:, c] for c in range(3)]
        prior = self.prior_values.copy()
        prior[-6:] -= (astray / ASTRAY[:, None]).reshape(-1)
        a, b = np.vstack([*blocks, self.prior_rows]), np.concatenate([*values, prior])
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
        step[self.moved_points] += x[self.own : self.place]
        step = np.where(np.abs(step) < least, np.where(step < 0, -least, least), step)
        doubt = self._doubt(known)
        return Fit(
            self.knobs, self.levels, x[: self.warm].reshape(-1, 3), x[self.g : self.o].reshape(3, 3),
            x[self.o : self.u].reshape(3, 3), step, doubt, width, shape, residual, about is not None and about.follows,
            astray + x[self.place :].reshape(2, 3),
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
