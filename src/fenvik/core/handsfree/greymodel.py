"""The greys of a display as a model in the signal's own domain, fitted to every reading that was taken, and solved for whole steps.

Drive: the signal fraction at which the target's curve would give the light of a channel. A perfect display's drive is its signal.
Each channel has a free curve, and each control adds to it: a gain in proportion to the signal, an offset against it, a point within
its neighbours. Gains and offsets push the other channels too. Everything but the width of a point is linear.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.optimize import lsq_linear

from fenvik.core.difference import xyz_to_lab
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
ROUGH, LEAST_ROUGH = (
    0.8,
    0.0006,
)  # how bent a display's curve may be: drive by level squared, and what is left of it at any distance
UNREAD, SAME_LEVEL = (
    0.006,
    0.006,
)  # of drive: how far a level that was never read may be off; fraction of signal: which are one
DOUBT = 0.06  # of a move's effect: what it is off by
CHARGED, CHARGED_LAST = (
    0.4,
    1.0,
)  # share of what the fit does not know that a move is charged for, with readings to come and without
PRICE = 2e-5  # squared error a step: a step must be worth something
SWEEPS = 40


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


@dataclass(frozen=True)
class Seen:
    """A grey that was read: fraction of signal, drives (3,), and how many steps each knob was from where it was found (k,).

    ``when`` counts readings: light still grows a little while a display warms up.
    """

    level: float
    drives: Floats
    moved: Floats
    when: float = 0.0


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


def drives_of(xyz: Floats, target: Target, white: float, black: float) -> Floats:
    """Return the drives (n, 3) of XYZ (n, 3) for a fixed white and black in cd/m²."""
    return drive(xyz, target, white, black)


def prior_units(knobs: Sequence[Knob]) -> Floats:
    """Return what one step of each knob is taken to add before anything was seen: ranges tell the scale, widely."""
    made = np.empty(len(knobs))
    for i, k in enumerate(knobs):
        span = max((k.high - k.low) / k.step, 1.0)
        made[i] = {"gain": 0.30, "offset": 0.10, "point": 0.20, "tone": 0.20}[k.kind] / span
    return made


def fit(knobs: Sequence[Knob], seen: Sequence[Seen]) -> Fit:
    """Fit the model to everything that was seen; what no reading tells stays at its prior."""
    problem = _Problem(tuple(knobs), seen)
    shapes = [(w, s) for s in SHAPES for w in WIDTHS] if problem.moved_points.size else [(1.0, "bell")]
    return min((problem.solved(width, shape) for width, shape in shapes), key=lambda made: made.residual)


class _Problem:
    """The linear least squares behind the fit: all that does not depend on a point's width is set up once.

    Unknown, in order: the base (3n), warm-up, gains (9), offsets (9), the usual step of points (3) and of tones, and how far each
    point that was moved is from its usual step.
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
        self.own = self.u + 4
        self.size = self.own + len(self.moved_points)
        # Dark drives are noisy: the light there is little.
        self.weight = 1.0 / (NOISE * (1.0 + (0.12 / np.maximum(self.at, 0.02)) ** 2))
        self.units = prior_units(knobs)
        self.fixed = np.array([self._seen_rows(c) for c in range(3)])  # (3, readings, size)
        self.prior_rows, self.prior_values = self._prior()

    def _seen_rows(self, channel: int) -> Floats:
        rows = np.zeros((len(self.seen), self.size))
        rows[np.arange(len(self.seen)), 3 * self.which + channel] = 1.0
        when = np.array([s.when for s in self.seen])
        rows[:, self.warm] = self.at * (np.exp(-when.max(initial=0.0) / WARMS_IN) - np.exp(-when / WARMS_IN))
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
                rows[:, self.u + (3 if knob.kind == "tone" else c)] += felt
                rows[:, self.own + i] += felt
            blocks.append(rows * self.weight[:, None])
            values.append(np.array([s.drives[c] for s in self.seen]) * self.weight)
        a, b = np.vstack([*blocks, self.prior_rows]), np.concatenate([*values, self.prior_values])
        gram = a.T @ a
        known = np.linalg.inv(gram)  # the covariance of what is unknown
        x = known @ (a.T @ b)
        residual = float(((a @ x - b) ** 2).sum()) + (np.log(width / LIKELY_WIDTH) / WIDTH_DOUBT) ** 2
        usual = x[self.u : self.u + 4]
        step = np.array(
            [usual[3] if k.kind == "tone" else usual[k.channel] if k.kind == "point" else 0.0 for k in self.knobs]
        )
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


def metric(levels: Floats, target: Target, white: float, black: float) -> Floats:
    """Return the matrices (levels, 3, 3) that make a change of drives into ΔL/S_L, 1.5·Δa, Δb: CIEDE2000 near grey."""
    step = 1e-3
    aim = target.xyz(np.repeat(levels[:, None], 3, axis=1), white, black)
    away = xyz_to_lab(aim, target.white * white)[:, 0] - 50.0
    lightness = 1.0 + 0.015 * away**2 / np.sqrt(20.0 + away**2)
    weigh = np.stack([1.0 / lightness, np.full(len(levels), 1.5), np.ones(len(levels))], axis=-1)
    made = np.empty((len(levels), 3, 3))
    for c in range(3):
        up, down = (np.repeat(levels[:, None], 3, axis=1) for _ in range(2))
        up[:, c] += step
        down[:, c] -= step
        lab = [xyz_to_lab(target.xyz(v, white, black), target.white * white) for v in (up, down)]
        made[:, :, c] = weigh * (lab[0] - lab[1]) / (2 * step)
    return made


def doubt_of(model: Fit, levels: Floats, moved: Floats, seen: Sequence[Seen]) -> Floats:
    """Return how far the drives (levels, 3) may be off: by noise, and by what was turned since a level was read last."""
    made = np.full((len(levels), 3), UNREAD)
    effects = model.effects(levels)
    for i, level in enumerate(levels):
        mine = [s for s in seen if abs(s.level - level) < SAME_LEVEL]
        if not mine:
            continue
        since = effects[i] * (moved - mine[-1].moved)
        noise = NOISE * (1.0 + (0.12 / max(float(level), 0.02)) ** 2) / np.sqrt(len(mine))
        made[i] = np.hypot(noise, np.sqrt(((UNEQUAL * since) ** 2).sum(axis=1)))
    return made


def solve(
    model: Fit, moved: Floats, target: Target, white: float, black: float, *, allowed: Sequence[bool], levels: Floats,
    cap: float = 0.12, last: bool = False, curve: bool = True,
) -> Floats:  # fmt: skip
    """Return the moves (k,), in whole steps from where the knobs were found, that the model expects the least error of.

    ``cap``: most change of drive that one solve may make; ``last``: no reading will check it, so it must be surer of itself;
    ``curve``: whether luminance counts too, and not the balance alone.
    """
    use = np.flatnonzero(np.asarray(allowed))
    if not use.size:
        return moved
    weigh = metric(levels, target, white, black) * np.sqrt(_eye(levels))[:, None, None]
    if not curve:
        weigh[:, 0] = 0.0
    effects = model.effects(levels)
    now = model.at(levels, moved) - levels[:, None]
    a = (weigh @ effects[:, :, use]).reshape(-1, use.size)
    b = -(weigh @ now[:, :, None]).reshape(-1)
    size = np.sqrt((a**2).sum(axis=0))
    own = np.array([float(np.abs(effects[:, :, k]).max()) or 1.0 for k in use])
    # Each move is charged for what is not known of it; a last one twice over, for no reading will check it.
    doubt = size * np.hypot(
        (2.0 if last else 1.0) * DOUBT, (CHARGED_LAST if last else CHARGED) * model.doubt[use] / own
    )
    a = np.vstack([a, np.diag(doubt + 1e-9)])
    b = np.concatenate([b, np.zeros(use.size)])
    low, high = [], []
    for k in use:
        knob = model.knobs[k]
        most = cap / max(float(np.abs(effects[:, :, k]).max()), 1e-6)
        low.append(max((knob.low - knob.value) / knob.step - moved[k], -most) - 1e-9)
        high.append(min((knob.high - knob.value) / knob.step - moved[k], most) + 1e-9)
    lo, hi = np.minimum(np.array(low), -1e-9), np.maximum(np.array(high), 1e-9)
    x = lsq_linear(a, b, bounds=(lo, hi), method="bvls" if use.size < 40 else "trf").x
    whole = _whole(a, b, x, np.ceil(lo - 1e-6), np.floor(hi + 1e-6))
    result = moved.copy()
    result[use] += whole
    return result


def _eye(levels: Floats) -> Floats:
    """Weigh dark levels less: little is seen there, and noise is large."""
    return np.clip(levels / 0.15, 0.25, 1.0)


def _whole(a: Floats, b: Floats, x: Floats, lo: Floats, hi: Floats) -> Floats:
    """Return whole steps near x: the single step, else the pair of steps, that lowers the squared error most, until none does."""
    steps = np.clip(np.round(x), lo, hi)
    gram, pull = a.T @ a, a.T @ b
    count = len(steps)
    sign = np.repeat([1.0, -1.0], count)
    both = np.kron(np.array([[1.0, -1.0], [-1.0, 1.0]]), np.ones((count, count))) * np.kron(np.ones((2, 2)), gram)
    # Two steps of one control are one step twice, or none.
    both[np.kron(np.ones((2, 2)), np.eye(count)) > 0] = np.inf
    diag = np.concatenate([np.diag(gram)] * 2)
    for _ in range(SWEEPS * count):
        slope = gram @ steps - pull
        price = PRICE * (np.abs(np.concatenate([steps, steps]) + sign) - np.abs(np.concatenate([steps, steps])))
        single = diag + 2.0 * sign * np.concatenate([slope, slope]) + price
        single[np.concatenate([steps + 1 > hi, steps - 1 < lo])] = np.inf
        k = int(np.argmin(single))
        if single[k] < -1e-9:
            steps[k % count] += sign[k]
            continue
        pairs = single[:, None] + single[None, :] + 2.0 * both
        at = int(np.argmin(pairs))
        if not pairs.flat[at] < -1e-6:
            break
        for k in divmod(at, 2 * count):
            steps[k % count] += sign[k]
    return steps
