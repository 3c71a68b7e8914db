"""The greys of a display as a model in the signal's own domain, fitted to every reading that was taken, and solved for whole steps.

Drive: the signal fraction at which the target's curve would give the light of a channel. A perfect display's drive is its signal.
Each channel has a free curve, and each control adds to it: a gain in proportion to the signal, an offset against it, a point within
its neighbours. Gains and offsets push the other channels too. Everything but the width of a point is linear.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import lsq_linear

from fenvik.core.response import drive
from fenvik.core.target import Target
from fenvik.core.types import Floats

WIDTHS = (0.55, 0.75, 1.0, 1.3, 1.7, 2.2)  # of a point's pull, as a share of the distance to its neighbour
NOISE = 0.0008  # of drive: what a reading is off by, beside the meter's noise
CROSS = 0.15  # of a control's own effect: how much it may push the other channels
DOUBT = 0.06  # of a move's effect: what it is off by
PRICE = 2e-5  # squared error a step: a step must be worth something
SWEEPS = 40


@dataclass(frozen=True)
class Knob:
    """A control of the greys. ``kind``: gain, offset, point; ``channel`` 0 to 2; ``at``: a point's fraction of signal."""

    id: str
    kind: str
    channel: int
    at: float
    value: float
    low: float
    high: float
    step: float


@dataclass(frozen=True)
class Seen:
    """A grey that was read: fraction of signal, drives (3,), and how many steps each knob was from where it was found (k,)."""

    level: float
    drives: Floats
    moved: Floats


@dataclass(frozen=True)
class Fit:
    """``base`` maps a level to the drives (3,) without any move; ``effect`` (k, ) knows what each knob does."""

    knobs: tuple[Knob, ...]
    levels: Floats
    base: Floats  # (levels, 3)
    gain: Floats  # (3, 3): channel by control
    offset: Floats
    unit: Floats  # (3,) of a point
    width: float
    residual: float

    def effects(self, levels: Floats) -> Floats:
        """Return the drives (levels, 3, k) that one step of each knob adds."""
        made = np.zeros((len(levels), 3, len(self.knobs)))
        reach = _reach(self.knobs)
        for k, knob in enumerate(self.knobs):
            if knob.kind == "gain":
                made[:, :, k] = levels[:, None] * self.gain[:, knob.channel]
            elif knob.kind == "offset":
                made[:, :, k] = (1.0 - levels)[:, None] * self.offset[:, knob.channel]
            else:
                made[:, knob.channel, k] = self.unit[knob.channel] * _tent(levels, knob.at, self.width * reach[k])
        return made

    def at(self, levels: Floats, moved: Floats) -> Floats:
        """Return the drives (levels, 3) for moves (k,)."""
        base = np.stack([np.interp(levels, self.levels, self.base[:, c] - self.levels) for c in range(3)], axis=-1)
        result: Floats = base + levels[:, None] + self.effects(levels) @ moved
        return result


def _tent(levels: Floats, at: float, width: float) -> Floats:
    # A bell with the width of a tent: displays round the tent's corners.
    return np.exp(-0.5 * ((levels - at) / (0.55 * max(width, 1e-3))) ** 2)


def _reach(knobs: Sequence[Knob]) -> Floats:
    """Return each point's distance to its neighbours, as fractions of signal."""
    at = sorted({k.at for k in knobs if k.kind == "point"})
    made = np.ones(len(knobs))
    for i, knob in enumerate(knobs):
        if knob.kind == "point" and len(at) > 1:
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
        made[i] = {"gain": 0.30, "offset": 0.10, "point": 0.24}[k.kind] / span
    return made


def fit(knobs: Sequence[Knob], seen: Sequence[Seen]) -> Fit:
    """Fit the model to everything that was seen; what no reading tells stays at its prior."""
    best: Fit | None = None
    has_points = any(k.kind == "point" for k in knobs)
    moved_points = has_points and any(
        np.any([s.moved[i] for i, k in enumerate(knobs) if k.kind == "point"]) for s in seen
    )
    for width in WIDTHS if moved_points else (1.0,):
        made = _fitted(tuple(knobs), seen, width)
        if best is None or made.residual < best.residual:
            best = made
    assert best is not None
    return best


def _fitted(knobs: tuple[Knob, ...], seen: Sequence[Seen], width: float) -> Fit:
    levels = np.array(sorted({round(s.level, 6) for s in seen}))
    n = len(levels)
    prior = prior_units(knobs)
    own = {
        kind: [
            float(np.mean([prior[i] for i, k in enumerate(knobs) if k.kind == kind and k.channel == c] or [0.0]))
            for c in range(3)
        ]
        for kind in ("gain", "offset", "point")
    }
    reach = _reach(knobs)
    # Unknown: base (3n), gain (9), offset (9), unit of points (3).
    g0, o0, u0, size = 3 * n, 3 * n + 9, 3 * n + 18, 3 * n + 21
    rows, wanted = [], []
    for s in seen:
        at = int(np.searchsorted(levels, round(s.level, 6)))
        for c in range(3):
            row = np.zeros(size)
            row[3 * at + c] = 1.0
            for k, knob in enumerate(knobs):
                if not s.moved[k]:
                    continue
                if knob.kind == "gain":
                    row[g0 + 3 * c + knob.channel] += s.level * s.moved[k]
                elif knob.kind == "offset":
                    row[o0 + 3 * c + knob.channel] += (1.0 - s.level) * s.moved[k]
                elif knob.channel == c:
                    row[u0 + c] += float(_tent(np.array([s.level]), knob.at, width * reach[k])[0]) * s.moved[k]
            # Dark drives are noisy: the light there is little.
            weight = 1.0 / (NOISE * (1.0 + (0.12 / max(s.level, 0.02)) ** 2))
            rows.append(row * weight)
            wanted.append(float(s.drives[c]) * weight)
    for c in range(3):
        for k in range(3):
            for start, kind in ((g0, "gain"), (o0, "offset")):
                middle, spread = (own[kind][c], 0.8 * own[kind][c]) if c == k else (0.0, CROSS * own[kind][k])
                row = np.zeros(size)
                row[start + 3 * c + k] = 1.0 / max(spread, 1e-7)
                rows.append(row)
                wanted.append(middle / max(spread, 1e-7))
        row = np.zeros(size)
        row[u0 + c] = 1.0 / max(0.8 * own["point"][c], 1e-7)
        rows.append(row)
        wanted.append(own["point"][c] / max(0.8 * own["point"][c], 1e-7))
    # A base whose neighbours are far from a line is doubted a little, so that levels read once lean on the others.
    for at in range(1, n - 1):
        span = levels[at + 1] - levels[at - 1]
        share = (levels[at] - levels[at - 1]) / span
        for c in range(3):
            row = np.zeros(size)
            row[3 * at + c], row[3 * (at - 1) + c], row[3 * (at + 1) + c] = 1.0, -(1 - share), -share
            rows.append(row / 0.03)
            wanted.append(0.0)
    a, b = np.array(rows), np.array(wanted)
    x, *_ = np.linalg.lstsq(a, b, rcond=None)
    residual = float(((a @ x - b) ** 2).sum())
    return Fit(
        knobs, levels, x[: 3 * n].reshape(n, 3), x[g0:o0].reshape(3, 3), x[o0:u0].reshape(3, 3), x[u0:], width, residual
    )


def metric(levels: Floats, target: Target, white: float, black: float) -> Floats:
    """Return the matrices (levels, 3, 3) that make a change of drives into ΔL/S_L, 1.5·Δa, Δb: CIEDE2000 near grey."""
    step = 1e-3
    made = np.empty((len(levels), 3, 3))
    for c in range(3):
        up, down = (np.repeat(levels[:, None], 3, axis=1) for _ in range(2))
        up[:, c] += step
        down[:, c] -= step
        made[:, :, c] = (
            _near(target.xyz(up, white, black), target, white) - _near(target.xyz(down, white, black), target, white)
        ) / (2 * step)
    return made


def _near(xyz: Floats, target: Target, white: float) -> Floats:
    from fenvik.core.difference import xyz_to_lab

    lab = xyz_to_lab(xyz, target.white * white)
    lightness = 1.0 + 0.015 * (lab[:, 0] - 50.0) ** 2 / np.sqrt(20.0 + (lab[:, 0] - 50.0) ** 2)
    return np.stack([lab[:, 0] / lightness, 1.5 * lab[:, 1], lab[:, 2]], axis=-1)


def solve(
    model: Fit, moved: Floats, target: Target, white: float, black: float, *, allowed: Sequence[bool], levels: Floats,
    cap: float = 0.12, last: bool = False,
) -> Floats:  # fmt: skip
    """Return the moves (k,), in whole steps from where the knobs were found, that the model expects the least error of.

    ``cap``: most change of drive that one solve may make; ``last``: no reading will check it, so it must be surer of itself.
    """
    use = np.flatnonzero(np.asarray(allowed))
    if not use.size:
        return moved
    weigh = metric(levels, target, white, black) * np.sqrt(_eye(levels))[:, None, None]
    effects = model.effects(levels)
    now = model.at(levels, moved) - levels[:, None]
    a = (weigh @ effects[:, :, use]).reshape(-1, use.size)
    b = -(weigh @ now[:, :, None]).reshape(-1)
    doubt = (2.5 if last else 1.0) * DOUBT * np.sqrt((a**2).sum(axis=0))
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
    """Return whole steps near x: one at a time the one that lowers the squared error most, until none does."""
    steps = np.clip(np.round(x), lo, hi)
    gram, pull = a.T @ a, a.T @ b
    diag = np.diag(gram)
    for _ in range(SWEEPS * len(x)):
        slope = gram @ steps - pull
        price = PRICE * (np.abs(steps + np.array([[1], [-1]])) - np.abs(steps))
        change = np.stack([diag + 2 * slope, diag - 2 * slope]) + price
        change[0][steps + 1 > hi], change[1][steps - 1 < lo] = np.inf, np.inf
        way, k = np.unravel_index(int(np.argmin(change)), change.shape)
        if change[way, k] >= -1e-9:
            break
        steps[k] += 1 if way == 0 else -1
    return steps
