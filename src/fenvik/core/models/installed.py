"""What a display is given to install: curves that make its greys follow the target, a cube or a matrix that puts colours in place.

Curves bend each light by itself, from greys that were read. Colours are moved by what six corners of the light are turned into: the
three lights and their pairs. Every light is some white, some of a pair and some of one alone, so each moves by its share of two
corners, and greys do not move at all. A white sub-pixel, which shines with the least of the three lights, bends colours in just
that way.
"""

import base64
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy

from fenvik.core.types import Floats

CORNERS = np.array([[1, 0, 0], [1, 1, 0], [0, 1, 0], [0, 1, 1], [0, 0, 1], [1, 0, 1]], dtype=np.float64)  # round the wheel
ALONE, PAIR = np.array([0, 2, 4]), np.array([[0, 1, 5], [1, 2, 3], [5, 3, 4]])  # which corner is one light alone, or two together
MOST_GAIN = 3.0  # of a light in a corner: more is asked of no display
LEAST_POINTS = 5
TELLS = 0.25  # of signal: below it a step of the panel is as much
ABOUT, FULL = 0.03, 0.003  # of signal: near what a light gives at most; so far below where it was led to, it is full
CLEAR = 0.008  # of signal: a target that ends so far below what a light gives never meets that
STEEP = 0.1  # of signal for each of signal: by how much a display's own scale may be off beyond what was read
STEADY = 1e-4  # of signal: by how much curves rise at least from one of their values to the next, of a thousand
TIED = 0.35  # how strongly corners are held to doing nothing, against one patch that says otherwise
BEYOND = 0.1  # how much it counts that curves are met above what they are needed for
AT_LAST, LEAST_RISE = 0.015, 0.2  # of signal: the end of a curve, that tells how it would go on; of signal for each of signal
PALE = (0.26, 0.56)  # of the greatest light, between it and the least: where a turn of colours sets in, and is whole


@dataclass(frozen=True)
class Curves:
    """``values`` (3, size): output, 0 to 1, for evenly spaced input."""

    values: Floats

    @classmethod
    def none(cls, size: int) -> "Curves":
        """Return curves that change nothing."""
        return cls(np.repeat(np.linspace(0.0, 1.0, size)[None], 3, axis=0))

    @property
    def size(self) -> int:
        """How many values each has."""
        return int(self.values.shape[1])

    @property
    def inputs(self) -> Floats:
        """The input of each value."""
        return np.linspace(0.0, 1.0, self.size)

    def bent(self, fraction: Floats) -> Floats:
        """Return signal fractions (..., 3) as they leave the curves."""
        made = [np.interp(fraction[..., c], self.inputs, self.values[c]) for c in range(3)]
        return np.stack(made, axis=-1)

    def unbent(self, fraction: Floats) -> Floats:
        """Return the signal fractions (..., 3) that leave the curves as these."""
        made = [np.interp(fraction[..., c], self.values[c], self.inputs) for c in range(3)]
        return np.stack(made, axis=-1)

    def on_points(self, count: int, ends: float) -> "Curves":
        """Return the curves as they are drawn between so many points, which lie so that up to a signal they are met best.

        A cube has few points: where each lay on a curve, every bend between two of them would be cut.
        """
        s, at = self.inputs, np.linspace(0.0, 1.0, count)
        hats = np.stack([np.interp(s, at, one) for one in np.eye(count)], axis=-1)
        weight = np.where(s <= ends, 1.0, BEYOND)[:, None]
        first = self.values[:, 0]  # black is not lifted for anything
        rest = np.linalg.lstsq(weight * hats[:, 1:], weight * (self.values.T - hats[:, :1] * first), rcond=None)[0].T
        points = np.maximum.accumulate(np.clip(np.column_stack([first, rest]), 0.0, 1.0), axis=1)
        return replace(self, values=np.stack([np.interp(s, at, row) for row in points]))

    def data(self) -> dict[str, object]:
        """Return what a display is sent."""
        red, green, blue = (np.round(np.clip(row, 0.0, 1.0), 7).tolist() for row in self.values)
        return {"size": self.size, "r": red, "g": green, "b": blue}


def rolled(signal: Floats, knee: Floats | None) -> Floats:
    """Return the signals that a roll-off by points (n, 2) makes of signals, as the device link has it; None changes nothing."""
    if knee is None:
        return signal
    return np.where(signal <= knee[0, 0], signal, np.interp(signal, knee[:, 0], knee[:, 1]))


def balanced_peak(lights: Floats, weights: Floats, cost: float) -> float:
    """Return the light at which the three are cut off at the peak: as near to the weakest as ``cost`` of luminance allows.

    ``lights`` (3,): what each gives at most, in cd/m² of white; ``weights`` (3,): of luminance.
    """
    whole = float(weights @ lights)
    low, high = float(lights.min()), float(lights.max())
    if float(weights @ np.minimum(lights, low)) >= (1.0 - cost) * whole:
        return low
    for _ in range(40):
        middle = 0.5 * (low + high)
        low, high = (low, middle) if float(weights @ np.minimum(lights, middle)) >= (1.0 - cost) * whole else (middle, high)
    return high


def curves_for(
    before: Curves, levels: Floats, drives: Floats, wanted: Callable[[Floats], Floats], ends: Floats, *,
    open_top: Sequence[bool], most: Floats | None = None, knee: Floats | None = None,
) -> Curves:  # fmt: skip
    """Return the curves that should give the drives that are wanted.

    ``before``: those that were installed when greys at ``levels`` (n,) gave ``drives`` (n, 3); readings of several rounds are told
    by the signal that left the curves, so ``levels`` may be (n, 3) of that. ``wanted`` maps signals to drives. ``ends`` (3,): the
    drive at which each light ends; ``open_top``: lights that may run on to full signal there; ``most`` (3,): the drive that each
    gives at most, which no signal brings it beyond: readings there tell nothing of the way up to it. Where ``ends`` are endless the
    curves go on beyond it as they came, smooth enough to be taken apart for a cube. ``knee``: points (n, 2) of a
    roll-off that is installed; what is read is off that, and beyond the last reading it goes on so, up to where that is level.
    """
    sent = before.bent(np.repeat(levels[:, None], 3, axis=1)) if levels.ndim == 1 else levels
    s = before.inputs
    made = np.empty_like(before.values)
    for c in range(3):
        x, first = np.unique(np.round(sent[:, c], 6), return_inverse=True)
        y = np.bincount(first, drives[:, c]) / np.bincount(first)
        weight = np.sqrt(np.bincount(first)) / (1.0 + (0.06 / np.maximum(x, 0.02)) ** 2)
        fine = np.linspace(x[0], x[-1] if knee is None else max(x[-1], knee[-1, 0]), 2000)
        beside = y - rolled(x, knee)
        ends_before = knee is not None and most is not None and float(min(wanted(s)[-1], ends[c])) < float(most[c]) - CLEAR
        told = len(x) if most is None or ends_before else _before_full(x, y, beside, float(most[c]))
        off = _smooth(x[:told], beside[:told], weight[:told])
        gives = rolled(fine, knee) + off(np.minimum(fine, x[-1]))
        if most is not None and np.isfinite(ends[c]):
            gives = np.minimum(gives, max(float(y[told:].max()), float(y[told - 1])) if told < len(x) else most[c])
        gives = np.maximum.accumulate(gives + STEADY * 1e-3 * np.arange(2000))
        aim = np.minimum(wanted(s), ends[c])
        low, top = float(gives[0]), float(gives[-1])
        row = np.interp(aim, gives, fine)
        # Below what was read: straight to black. Above it: on as it went.
        dark = aim < low
        row[dark] = aim[dark] * (fine[0] / max(low, 1e-6))
        over = aim > top
        row[over] = np.minimum(fine[-1] + (aim[over] - top), 1.0)
        if open_top[c]:
            ended = np.flatnonzero(aim >= ends[c] - 1e-9)
            if ended.size:
                start = ended[0]
                row[start:] = np.linspace(row[start], 1.0, len(s) - start)
        made[c] = np.clip(np.maximum.accumulate(row), 0.0, 1.0)
        made[c, 0] = 0.0
    return replace(before, values=made)


def as_the_last(rounds: Sequence[tuple[Floats, Floats]]) -> tuple[Floats, Floats]:
    """Return signals (n, 3) that left the curves and the drives (n, 3) that came of them, of all rounds as the last one has them.

    A light does not hang on its own signal alone: what a cube or a white sub-pixel makes of greys that are balanced otherwise moves
    all three a little, about alike at all levels. The shape is told by all rounds, where it lies by the last.
    """
    sent, drives = (np.concatenate([pair[i] for pair in rounds]) for i in (0, 1))
    newest, gave = rounds[-1]
    start = 0
    for before, then in rounds[:-1]:
        for c in range(3):
            order = np.argsort(before[:, c])
            inside = (newest[:, c] >= before[:, c].min()) & (newest[:, c] <= before[:, c].max()) & (newest[:, c] > TELLS)
            if inside.sum() < LEAST_POINTS:
                continue
            was = np.interp(newest[inside, c], before[order, c], (then - before)[order, c])
            drives[start : start + len(before), c] += np.median((gave - newest)[inside, c] - was)
        start += len(before)
    return sent, drives


def _before_full(x: Floats, y: Floats, beside: Floats, most: float) -> int:
    """Return how many readings, by signal, come before a light gives what it gives at most.

    ``most`` is known roughly: what lies about there, and below where the readings before it lead, is full. ``beside``: by how much
    each lies above what its signal is meant to give.
    """
    for i in range(LEAST_POINTS, len(x)):
        before = slice(max(i - 4, 0), i)
        leads = np.polyval(np.polyfit(x[before], beside[before], 1), x[i])
        if y[i] > most - ABOUT and beside[i] < leads - FULL:
            return i
    return len(x)


def _smooth(x: Floats, off: Floats, weight: Floats) -> Callable[[Floats], Floats]:
    """Return a smooth curve through points, that goes on straight beyond the last."""
    if len(x) < LEAST_POINTS:
        return lambda v: np.interp(v, x, off)
    curve = scipy.interpolate.make_smoothing_spline(x, off, w=weight)
    end, slope = float(curve(x[-1])), float(np.clip(curve.derivative()(x[-1]), -STEEP, STEEP))
    return lambda v: np.where(v <= x[-1], curve(np.minimum(v, x[-1])), end + slope * (v - x[-1]))


def shares(lights: Floats) -> tuple[Floats, Floats]:
    """Return lights (n, 3) as shares of the six corners (n, 6) and of white (n,): they sum to the greatest of the three."""
    order = np.argsort(-lights, axis=1)
    most, middle, least = np.take_along_axis(lights, order, axis=1).T
    rows = np.arange(len(lights))
    made = np.zeros((len(lights), 6))
    made[rows, ALONE[order[:, 0]]] = most - middle
    made[rows, PAIR[order[:, 0], order[:, 1]]] = middle - least
    return made, least


@dataclass(frozen=True)
class Wheel:
    """What the six corners of the light are turned into, (6, 3)."""

    corners: Floats

    @classmethod
    def none(cls) -> "Wheel":
        """Return a wheel that changes nothing."""
        return cls(CORNERS.copy())

    def turned(self, lights: Floats) -> Floats:
        """Return lights (n, 3) as they are turned; greys stay, and what is nearly grey nearly so.

        A cube has few points, and a display draws between them: a bend right at grey would show in greys.
        """
        part, white = shares(lights)
        most = np.maximum(lights.max(axis=1), 1e-9)
        apart = np.clip(((most - white) / most - PALE[0]) / (PALE[1] - PALE[0]), 0.0, 1.0)
        soft = (apart * apart * (3.0 - 2.0 * apart))[:, None]
        result: Floats = np.maximum(lights + soft * (part @ self.corners + white[:, None] - lights), 0.0)
        return result

    def towards(self, sent: Floats, needed: Floats) -> "Wheel":
        """Return the wheel that turns lights ``sent`` (n, 3) into those that are needed (n, 3), as near as six corners allow."""
        part, white = shares(sent)
        scale = 1.0 / np.maximum(sent.max(axis=1), 1e-9)
        a = np.vstack([part * scale[:, None], TIED * np.eye(6)])
        corners = np.empty((6, 3))
        for c in range(3):
            b = np.concatenate([(needed[:, c] - white) * scale, TIED * self.corners[:, c]])
            corners[:, c] = np.linalg.lstsq(a, b, rcond=None)[0]
        return Wheel(np.clip(corners, -MOST_GAIN, MOST_GAIN))


def matrix_towards(sent: Floats, needed: Floats) -> Floats:
    """Return the matrix (3, 3), rows of which sum to 1 so that greys stay, that turns lights (n, 3) into those needed."""
    scale = 1.0 / np.maximum(sent.max(axis=1), 1e-9)
    made = np.empty((3, 3))
    for row in range(3):
        others = [c for c in range(3) if c != row]
        # Everything beside the light itself is what another light has more or less than it.
        a = (sent[:, others] - sent[:, [row]]) * scale[:, None]
        a = np.vstack([a, 0.05 * np.eye(2)])
        b = np.concatenate([(needed[:, row] - sent[:, row]) * scale, np.zeros(2)])
        beside = np.linalg.lstsq(a, b, rcond=None)[0]
        made[row, others] = np.clip(beside, -1.5, 1.5)
        made[row, row] = 1.0 - made[row, others].sum()
    return made


@dataclass(frozen=True)
class Split:
    """Curves taken apart: one that all three lights share, and what each light has beside it.

    A cube that stands behind curves of its own for each light would meet greys beside its diagonal, where it is drawn from colours.
    So the curves that stay in front are one, and the cube adds the rest, which is small and smooth.
    """

    ends: float  # the signal above which nothing was read
    shared: Floats  # (size,), going on by its input above that
    beside: Floats  # (3, size)

    @classmethod
    def of(cls, curves: Curves, ends: float) -> "Split":
        """Take curves apart."""
        s = curves.inputs
        last = int(np.searchsorted(s, ends))
        shared = curves.values.mean(axis=0)
        at_end = min(last, len(s) - 1)
        shared = np.where(np.arange(len(s)) <= at_end, shared, shared[at_end] + (s - s[at_end]))
        shared = np.maximum.accumulate(shared + 1e-9 * np.arange(len(s)))
        beside = curves.values - curves.values.mean(axis=0)
        beside[:, at_end:] = beside[:, [at_end]]
        return cls(ends, shared, beside)

    @classmethod
    def none_before(cls, curves: Curves) -> "Split":
        """Return the split of a cube that stands alone, with all of the curves in it."""
        return cls(1.0, curves.inputs, curves.values - curves.inputs)

    def curves(self) -> Curves:
        """Return the curve that all three share, even above its end."""
        s = np.linspace(0.0, 1.0, len(self.shared))
        row = np.minimum(self.shared, np.interp(self.ends, s, self.shared)) if self.ends < 1.0 else self.shared
        return Curves(np.repeat(np.clip(row, 0.0, 1.0)[None], 3, axis=0))

    def before(self, fraction: Floats) -> Floats:
        """Return the signals (..., 3) that the shared curve turns into these."""
        s = np.linspace(0.0, 1.0, len(self.shared))
        return np.asarray(np.interp(fraction, self.shared, s))

    def _beyond(self, fraction: Floats) -> Floats:
        """Return by how much signals (..., 3) lie above what the shared curve ends at, as signals before it."""
        over = np.maximum(fraction - self.shared[-1], 0.0)
        return np.asarray(over / max(float(self._rise(self.shared)), LEAST_RISE))

    def _rise(self, values: Floats) -> Floats:
        """Return by how much curves (..., size) rise at their end for each of signal."""
        last = max(round(AT_LAST * (len(self.shared) - 1)), 1)
        rise: Floats = (values[..., -1] - values[..., -1 - last]) * (len(self.shared) - 1) / last
        return rise

    def cube(self, size: int, wheel: Wheel, light: Callable[[Floats], Floats], signal: Callable[[Floats], Floats]) -> Floats:
        """Return the values (size³, 3), red quickest, of the cube behind it.

        ``light`` turns signal fractions (n, 3) into lights, ``signal`` turns lights back. The points next to grey ones stay: in the
        dark they are vivid colours, and a display that draws between all eight would bring some of their turn into greys.
        """
        step = np.linspace(0.0, 1.0, size)
        blue, green, red = np.meshgrid(step, step, step, indexing="ij")
        inside = np.stack([red, green, blue], axis=-1).reshape(-1, 3)
        s = np.linspace(0.0, 1.0, len(self.shared))
        asked = light(self.before(inside))
        beside_grey = np.clip(np.ptp(inside, axis=1) * (size - 1) - 1.0, 0.0, 1.0)[:, None]
        turned = np.clip(signal(asked + beside_grey * (wheel.turned(asked) - asked)), 0.0, 1.0)
        made = np.stack([np.interp(turned[:, c], s, self.shared + self.beside[c]) for c in range(3)], axis=-1)
        # Curves that end lower end between two points of the cube: the upper one goes on as they came, or white is drawn too low.
        made += self._beyond(inside) * self._rise(self.shared + self.beside)
        return np.asarray(np.clip(made, 0.0, 1.0))


def cube_data(size: int, values: Floats) -> dict[str, object]:
    """Return what a display is sent."""
    return {"size": size, "values": base64.b64encode(values.astype("<f4").tobytes()).decode("ascii")}
