"""The fit of the model of the greys to every reading that was taken. Linear, but for where points act and how wide."""

import copy
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fenvik.core.controls import Control
from fenvik.core.models.grey import Fit, Seen
from fenvik.core.models.greyblock import MIDDLE, Block, Readings, prior_units
from fenvik.core.models.taught import OTHER_SHAPE, WIDTH_BETWEEN, Taught
from fenvik.core.types import Floats

WIDTHS = (0.5, 0.65, 0.8, 1.0, 1.25, 1.6, 2.1)  # of a point's pull, as a share of the distance to its neighbour
KINDS = ("bell", "tent")
UNTOLD = (1.0, "bell")  # width and shape before any point was moved
SHAPES = tuple((width, kind) for kind in KINDS for width in WIDTHS)
LIKELY_WIDTH, WIDTH_DOUBT = 0.85, 0.45  # of a point's pull, and how surely: the deviation of its logarithm
LEAST_STEP = 0.4  # of the usual step: what a point does at least, whatever few readings say
BENT = 0.06  # share of a change that a straight model leaves out
TOO_LITTLE, RESCALED = 2.5, 4  # times what a step was taken to do: then that is taken anew, so often at most
SUSPECT, MOST_SUSPECTS = 0.6, 6  # of its light's usual step: a point that does less may work backwards; so many are tried
BACKWARDS = 4.0  # of the squared error: what must speak for that, for few do
UNUSUAL = 3.0  # of the squared error: what must speak for points that act on the signal before gains and offsets do
LOWS = (0.7, 0.5, 0.35, 0.25)  # of signal: from where on some displays' offsets do nothing
IN_THE_DARK_ALONE = 4.0  # of the squared error: what must speak for that


def fit(knobs: Sequence[Control], seen: Sequence[Seen], fine: float = 1.0, taught: Taught | None = None) -> Fit:
    """Fit the model to everything that was seen; what no reading tells stays at its prior. ``fine``: as of ``grey.fineness``.

    ``taught``: what the same model's controls did on an earlier sample.

    No display is quite as straight as the model. So a reading counts the less the farther the knobs have been turned since, and
    what is expected near to where they stand now is what was read near to it.

    A point that works backwards is no point that does less than others: each that seems to do next to nothing is tried that
    way too.
    """
    made = _fitted(knobs, seen, fine, taught)
    backwards: frozenset[int] = frozenset()
    for k in _suspects(made, seen)[:MOST_SUSPECTS]:
        other = _fitted(knobs, seen, fine, taught, backwards | {k})
        if other.residual < made.residual - BACKWARDS:
            made, backwards = other, backwards | {k}
    return made


def fit_untold(knobs: Sequence[Control], seen: Sequence[Seen], fine: float = 1.0) -> float:
    """Return the squared error of a quick fit: points of the usual width that act at their levels, every reading as good as any."""
    return _to_scale(tuple(knobs), seen, fine, None).solved(UNTOLD).residual


def _suspects(made: Fit, seen: Sequence[Seen]) -> list[int]:
    """Return the points that were turned and seem to do next to nothing, or the opposite, those first that do so most."""
    turned = np.ptp(np.array([s.moved for s in seen]), axis=0) > 0 if made.knobs and seen else np.zeros(len(made.knobs), dtype=bool)
    found: dict[int, float] = {}
    for channel in range(3):
        mine = [k for k, knob in enumerate(made.knobs) if knob.kind == "point" and knob.channel == channel]
        usual = float(np.median(made.step[mine])) if mine else 0.0
        found |= {k: float(made.step[k]) / usual for k in mine if usual > 0 and turned[k] and made.step[k] < SUSPECT * usual}
    return sorted(found, key=lambda k: found[k])


def _fitted(
    knobs: Sequence[Control], seen: Sequence[Seen], fine: float, taught: Taught | None, backwards: frozenset[int] = frozenset()
) -> Fit:
    """Return the fit in which some points (their places among the knobs) are taken to work backwards."""
    sign = np.array([-1.0 if k in backwards else 1.0 for k in range(len(knobs))])
    made = _best_shape(knobs, [replace(s, moved=s.moved * sign) for s in seen] if backwards else seen, fine, taught)
    return replace(made, step=made.step * sign, backwards=backwards) if backwards else made


def _best_shape(knobs: Sequence[Control], seen: Sequence[Seen], fine: float, taught: Taught | None) -> Fit:
    problem = _to_scale(tuple(knobs), seen, fine, taught)
    if not problem.moved_points:
        usual = (taught.width, taught.shape) if taught is not None and taught.width else UNTOLD
        problem.trust(_where_offsets_end(problem, problem.solved(usual)))
        return _where_offsets_end(problem, problem.solved(usual))
    made = _best(problem.solved(shape) for shape in SHAPES)
    # Where the points act is not linear: it is taken from the fit before, and what that leaves is fitted as small shifts.
    after, before = (problem.solved((made.width, made.shape), replace(made, follows=follows)) for follows in (True, False))
    made = before if before.residual < after.residual - UNUSUAL else after
    problem.trust(made)
    made = _best(problem.solved(shape, made) for shape in SHAPES)
    return _where_offsets_end(problem, problem.solved((made.width, made.shape), made))


def _where_offsets_end(problem: "_Problem", made: Fit) -> Fit:
    """Return the fit with offsets that do nothing from some signal on, where readings speak for that."""
    mine = [k for k, knob in enumerate(problem.knobs) if knob.kind == "offset"]
    if not mine or not np.ptp(problem.read.moved[:, mine], axis=0).any():
        return made
    others = (problem.with_offsets_to(low).solved((made.width, made.shape), made) for low in LOWS)
    other = _best(others)
    return other if other.residual < made.residual - IN_THE_DARK_ALONE else made


def _to_scale(knobs: tuple[Control, ...], seen: Sequence[Seen], fine: float, taught: Taught | None) -> "_Problem":
    """Return the problem with what a step is taken to do before it was seen no longer far below what was seen.

    A range tells the scale widely, but not by an order: of a menu of ±512 a step may do as much as of one of ±50.
    """
    more: dict[str, float] = {}
    for _ in range(RESCALED):
        problem = _Problem(knobs, seen, fine, more, taught)
        ratios = problem.ratios()
        if not any(ratio > TOO_LITTLE for ratio in ratios.values()):
            break
        more = {kind: more.get(kind, 1.0) * max(ratios.get(kind, 1.0), 1.0) for kind in {*more, *ratios}}
    return problem


def _best(fits: Iterable[Fit]) -> Fit:
    return min(fits, key=lambda made: made.residual)


class _Problem:
    """All blocks of a fit: everything that does not depend on where points act and how wide is set up once."""

    def __init__(
        self, knobs: tuple[Control, ...], seen: Sequence[Seen], fine: float, more: Mapping[str, float], taught: Taught | None
    ) -> None:
        self.units, self.taught = prior_units(knobs, more), taught
        self.knobs, self.read = knobs, Readings.of(seen, len(knobs), fine)
        moved = [k for k, knob in enumerate(knobs) if knob.kind in ("point", "tone") and np.any(self.read.moved[:, k])]
        self.moved_points = moved
        self.low, self.blocks = 1.0, self._blocks(1.0)
        self.weight = np.repeat(1.0 / self.read.noise[:, None], 3, axis=1)  # (readings, 3)

    def _blocks(self, low: float) -> list[Block]:
        moved, facts = self.moved_points, (self.read, self.units, self.taught, low)
        if any(knob.kind == "tone" for knob in self.knobs):
            return [Block((0, 1, 2), self.knobs, moved, *facts)]
        return [Block((c,), self.knobs, [k for k in moved if self.knobs[k].channel == c], *facts) for c in range(3)]

    def with_offsets_to(self, low: float) -> "_Problem":
        """Return the same problem with offsets that do nothing from a signal on."""
        other = copy.copy(self)
        other.low, other.blocks = low, self._blocks(low)
        return other

    def ratios(self) -> dict[str, float]:
        """Return by kind how many times what it was taken to do a step of what was moved has been seen to do."""
        made = self.solved(UNTOLD)
        told: dict[str, list[float]] = {}
        for k, knob in enumerate(self.knobs):
            if np.ptp(self.read.moved[:, k]) > 0:
                own = {"gain": made.gain, "offset": made.offset}.get(knob.kind)
                effect = made.step[k] if own is None else own[knob.channel, knob.channel]
                told.setdefault(knob.kind, []).append(abs(float(effect)) / float(self.units[k]))
        return {kind: float(np.median(ratios)) for kind, ratios in told.items()}

    def trust(self, made: Fit) -> None:
        """Weigh every reading by how far each light was moved between it and the newest one, as a fit has it."""
        read = self.read
        since = np.einsum("nck,nk->nc", made.effects(read.at, read.moved[-1]), read.moved[-1] - read.moved)
        self.weight = 1.0 / np.hypot(read.noise[:, None], BENT * since)

    def solved(self, shape: tuple[float, str], about: Fit | None = None) -> Fit:
        """Return the fit with points of a width and a shape, that act about where a fit before has them."""
        astray = np.zeros((2, 3)) if about is None else about.astray
        met = None if about is None else about.met(self.read.at, self.read.moved)
        parts = []
        for block in self.blocks:
            lights = list(block.channels)
            rows = block.rows(None if met is None else met[:, lights], shape, None if about is None else about.step)
            parts.append(_part(block, *block.squares(rows, self.weight, astray[:, lights])))
        return self._together(parts, shape, astray, follows=about is not None and about.follows)

    def _together(self, parts: Sequence["_Part"], shape: tuple[float, str], astray: Floats, *, follows: bool) -> Fit:
        """Return the fit that the blocks make together."""
        base, gain, offset, gain_doubt, offset_doubt = np.zeros((len(self.read.levels), 3)), *np.zeros((4, 3, 3))
        tilt = np.zeros((2, 3))
        astray, step, doubt = astray.copy(), np.zeros(len(self.knobs)), np.zeros(len(self.knobs))
        for part in parts:
            block = part.block
            for i, c in enumerate(block.channels):
                base[:, c] = part.x[block.base(i)]
                gain[c], offset[c] = part.three(i, "gain"), part.three(i, "offset")
                gain_doubt[c], offset_doubt[c] = part.three_off(i, "gain"), part.three_off(i, "offset")
                tilt[:, c] = part.x[block.first(i, "tilt") : block.first(i, "tilt") + 2]
                astray[:, c] += part.x[block.first(i, "place") : block.first(i, "place") + 2]
            for k, knob in enumerate(self.knobs):
                if knob.kind == "tone" or (knob.kind == "point" and knob.channel in block.channels):
                    step[k], doubt[k] = part.step(k, knob), part.doubt(k)
                elif knob.kind in ("gain", "offset") and knob.channel in block.channels:
                    doubt[k] = part.deviation(block.first(block.channels.index(knob.channel), knob.kind) + knob.channel)
        residual = sum(part.residual for part in parts) + _unlikely(shape, self.taught)
        return Fit(
            self.knobs, self.read.levels, base, gain, offset, step, doubt, *shape, residual, follows, astray, fine=self.read.fine,
            gain_doubt=gain_doubt, offset_doubt=offset_doubt, low=self.low,
            tilt=tilt,
        )  # fmt: skip


@dataclass(frozen=True)
class _Part:
    """What one block comes to: the unknown (size,), their covariance, and the squared error that is left."""

    block: Block
    x: Floats
    known: Floats
    residual: float

    def three(self, i: int, kind: str) -> Floats:
        """Return what a step of each of the three gains or offsets does to the block's i-th light."""
        start = self.block.first(i, kind)
        return self.x[start : start + 3]

    def three_off(self, i: int, kind: str) -> Floats:
        """Return how far ``three`` may be off."""
        start = self.block.first(i, kind)
        return np.sqrt(np.maximum(np.diag(self.known)[start : start + 3], 0.0))

    def deviation(self, column: int) -> float:
        """Return how far one unknown may be off."""
        return float(np.sqrt(max(self.known[column, column], 0.0)))

    def step(self, k: int, knob: Control) -> float:
        """Return what a step of a point does."""
        usual = float(self.x[self.block.usual] + (knob.at - MIDDLE) * self.x[self.block.growth])
        column = self.block.column_of.get(k)
        made = usual + (float(self.block.apart[k]) if column is None else float(self.x[column]))
        # One that seems to do next to nothing was read too little yet: no reason to turn it by a lot.
        least = LEAST_STEP * abs(usual)
        return made if abs(made) >= least else float(np.copysign(least, made))

    def doubt(self, k: int) -> float:
        """Return how far a point's step may be off."""
        usual, column = self.block.usual, self.block.column_of.get(k)
        if column is None:
            return float(np.hypot(self.deviation(usual), self.block.apart_off[k]))
        both = self.known[usual, usual] + self.known[column, column] + 2 * self.known[usual, column]
        return float(np.sqrt(max(both, 0.0)))


def _part(block: Block, a: Floats, b: Floats) -> _Part:
    known = np.linalg.inv(a.T @ a).astype(np.float64)  # the covariance of what is unknown
    x = known @ (a.T @ b)
    return _Part(block, x, known, float(((a @ x - b) ** 2).sum()))


def _unlikely(shape: tuple[float, str], taught: Taught | None) -> float:
    """Return what speaks against a width and a shape of points before anything was read, as a squared error."""
    if taught is not None and taught.width:
        other = 0.0 if shape[1] == taught.shape else OTHER_SHAPE
        return float((np.log(shape[0] / taught.width) / WIDTH_BETWEEN) ** 2) + other
    return float((np.log(shape[0] / LIKELY_WIDTH) / WIDTH_DOUBT) ** 2)
