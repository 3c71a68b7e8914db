"""The equations behind the fit of the greys, of all blocks, and what solves them for one width and shape of the points."""

import copy
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import scipy

from fenvik.core.controls import Control
from fenvik.core.models.grey import Fit, Seen
from fenvik.core.models.greyblock import Block, Readings, prior_units
from fenvik.core.models.taught import OTHER_SHAPE, WIDTH_BETWEEN, Taught
from fenvik.core.types import Bools, Floats

UNTOLD = (1.0, "bell")  # width and shape before any point was moved
LIKELY_WIDTH, WIDTH_DOUBT = 0.85, 0.45  # of a point's pull, and how surely: the deviation of its logarithm
LEAST_STEP = 0.4  # of the usual step: what a point does at least, whatever few readings say
SURELY = 2.0  # deviations: a point that does less than that by so many does nothing
BENT = 0.06  # share of a change that a straight model leaves out


class Problem:
    """All blocks of a fit: everything that does not depend on where points act and how wide is set up once."""

    def __init__(
        self, knobs: tuple[Control, ...], seen: Sequence[Seen], fine: float, more: Mapping[str, float], taught: Taught | None
    ) -> None:
        self.units, self.taught = prior_units(knobs, more), taught
        self.knobs, self.read = knobs, Readings.of(seen, len(knobs), fine)
        moved = [k for k, knob in enumerate(knobs) if knob.kind in ("point", "tone") and np.any(self.read.moved[:, k])]
        self.moved_points = moved
        self.low, self.pushes, self.end, self.off_by = 1.0, False, np.full(3, np.inf), 0.0
        self.beyond_end = 0.0  # squared error of readings that tell of a light's end alone
        self.known: dict[tuple[object, ...], Part] | None = None  # what blocks came to, where the same is asked again and again
        self.blocks = self._blocks()
        self.weight = np.repeat(1.0 / self.read.noise[:, None], 3, axis=1)  # (readings, 3)

    def _blocks(self) -> list[Block]:
        moved, facts = self.moved_points, (self.read, self.units, self.taught, self.low)
        if any(knob.kind == "tone" for knob in self.knobs):
            return [Block((0, 1, 2), self.knobs, moved, *facts)]
        return [Block((c,), self.knobs, moved, *facts, pushes=self.pushes) for c in range(3)]

    def with_offsets_to(self, low: float) -> "Problem":
        """Return the same problem with offsets that do nothing from a signal on."""
        other = copy.copy(self)
        other.low = low
        other.blocks = [block.for_other(self.read, low) for block in self.blocks]
        return other

    def with_turned(self, sign: Floats) -> "Problem":
        """Return the same problem with some knobs taken to work the other way: ``sign`` (k,) is -1 for them, 1 for all others."""
        return self.with_moves(self.read.moved * sign)

    def with_moves(self, moved: Floats) -> "Problem":
        """Return the same problem with other moves (r, k), of no knob that was not moved in this one."""
        other = copy.copy(self)
        other.__dict__.pop("untold", None)
        other.read = replace(self.read, moved=moved)
        other.blocks = [block.for_other(other.read, self.low) for block in self.blocks]
        return other

    def with_points_off_by(self, share: float) -> "Problem":
        """Return the same problem with points that are taken to act at other signals than their labels say, by a share of these."""
        other = copy.copy(self)
        other.off_by = share
        return other

    def with_points_that_push(self) -> "Problem":
        """Return the same problem with points that may push the lights that are not theirs."""
        other = copy.copy(self)
        other.pushes = True
        other.blocks = other._blocks()
        return other

    def with_ends(self, end: Floats, told: Bools, known: dict[tuple[object, ...], "Part"]) -> "Problem":
        """Return the same problem with lights that end at drives (3,), of which some readings (r, 3) tell and of nothing else.

        ``known``: what its blocks came to with other ends. A light that ends changes nothing of the others, so most is there.
        """
        other = copy.copy(self)
        other.known = known
        other.end, other.weight = end, np.where(told, 0.0, self.weight)
        other.beyond_end = float((((self.read.drives - end) * self.weight)[told] ** 2).sum())
        return other

    def ratios(self) -> dict[str, float]:
        """Return by kind how many times what it was taken to do a step of what was moved has been seen to do."""
        told: dict[str, list[float]] = {}
        parts = {c: (part, i) for part in self.untold for i, c in enumerate(part.block.channels)}
        steps = {id(part): part.steps() for part in self.untold}
        for k in np.flatnonzero(np.ptp(self.read.moved, axis=0)):
            knob = self.knobs[k]
            part, i = parts[knob.channel]
            effect = part.three(i, knob.kind)[knob.channel] if knob.kind in ("gain", "offset") else steps[id(part)][k]
            told.setdefault(knob.kind, []).append(abs(float(effect)) / float(self.units[k]))
        return {kind: float(np.median(ratios)) for kind, ratios in told.items()}

    @cached_property
    def untold(self) -> list["Part"]:
        """What the blocks come to where every reading is as good as any, and nothing is known of where points act."""
        return self._parts(UNTOLD, None)

    @property
    def untold_residual(self) -> float:
        """The squared error of that."""
        return self.residual(UNTOLD, self.untold)

    def trust(self, made: Fit) -> None:
        """Weigh every reading by how far each light was moved between it and the newest one, as a fit has it."""
        read = self.read
        since = np.einsum("nck,nk->nc", made.effects(read.at, read.moved[-1]), read.moved[-1] - read.moved)
        self.weight = 1.0 / np.hypot(read.noise[:, None], BENT * since)

    def solved(self, shape: tuple[float, str], about: Fit | None = None) -> Fit:
        """Return the fit with points of a width and a shape, that act about where a fit before has them."""
        return self.tried([shape], about).fit

    def best(self, shapes: Iterable[tuple[float, str]], about: Fit | None = None) -> Fit:
        """Return the fit with points of the likeliest of some widths and shapes, that act about where a fit before has them."""
        return self.tried(shapes, about).fit

    def tried(self, shapes: Iterable[tuple[float, str]], about: Fit | None = None) -> "Tried":
        """Return what the likeliest of some widths and shapes comes to: what it leaves is known before the fit is made of it."""
        met = None if about is None else about.met(self.read.at, self.read.moved)
        tried = [Tried(self, shape, self._parts(shape, about, met), about) for shape in shapes]
        return min(tried, key=lambda one: one.residual)

    def residual(self, shape: tuple[float, str], parts: Iterable["Part"]) -> float:
        """Return the squared error that is left, with what speaks against a width and a shape."""
        return sum(part.residual for part in parts) + self.beyond_end + _unlikely(shape, self.taught)

    def _parts(self, shape: tuple[float, str], about: Fit | None, met: Floats | None = None) -> list["Part"]:
        """Return what each block comes to. ``met``: the signals (r, 3) at which readings meet the points; None for their own."""
        astray = np.zeros((2, 3)) if about is None else about.astray
        beyond = astray - self.off_by * np.array([[1.0], [0.0]])  # what is unlikely of it
        parts = []
        for block in self.blocks:
            lights = list(block.channels)
            given = None if met is None else met[:, lights], None if about is None else about.step[block.mine], beyond[:, lights]
            key = (block, shape, self.weight[:, lights].tobytes(), *(None if x is None else x.tobytes() for x in given))
            part = None if self.known is None else self.known.get(key)
            if part is None:
                rows = block.rows(given[0], shape, given[1])
                part = Part.of(block, *block.weighed(rows, self.weight), block.wanted(given[2]))
                if self.known is not None:
                    self.known[key] = part
            parts.append(part)
        return parts

    def together(self, parts: Sequence["Part"], shape: tuple[float, str], about: Fit | None) -> Fit:
        """Return the fit that the blocks make together."""
        base, gain, offset, gain_doubt, offset_doubt = np.zeros((len(self.read.levels), 3)), *np.zeros((4, 3, 3))
        tilt, push = np.zeros((2, 3)), np.zeros((3, 3))
        astray = np.zeros((2, 3)) if about is None else about.astray.copy()
        step, doubt = np.zeros((2, len(self.knobs)))
        for part in parts:
            block = part.block
            for i, c in enumerate(block.channels):
                base[:, c] = part.x[block.base(i)]
                push[c] = part.three(i, "push")
                gain[c], offset[c] = part.three(i, "gain"), part.three(i, "offset")
                gain_doubt[c], offset_doubt[c] = part.three_off(i, "gain"), part.three_off(i, "offset")
                tilt[:, c] = part.x[block.first(i, "tilt") : block.first(i, "tilt") + 2]
                astray[:, c] += part.x[block.first(i, "place") : block.first(i, "place") + 2]
            step[block.points_of], doubt[block.points_of] = part.steps()[block.points_of], part.doubts()[block.points_of]
            for k, knob in enumerate(self.knobs):
                if knob.kind in ("gain", "offset") and knob.channel in block.channels:
                    doubt[k] = part.deviations[block.first(block.channels.index(knob.channel), knob.kind) + knob.channel]
        return Fit(
            self.knobs, self.read.levels, base, gain, offset, step, doubt, *shape, self.residual(shape, parts),
            about is not None and about.follows, astray, fine=self.read.fine, low=self.low, tilt=tilt, push=push,
            gain_doubt=gain_doubt, offset_doubt=offset_doubt, end=self.end,
        )  # fmt: skip


@dataclass(frozen=True)
class Tried:
    """A problem solved with points of one width and shape, about a fit before."""

    problem: Problem
    shape: tuple[float, str]
    parts: Sequence["Part"]
    about: Fit | None

    @cached_property
    def residual(self) -> float:
        """The squared error that is left."""
        return self.problem.residual(self.shape, self.parts)

    @property
    def fit(self) -> Fit:
        """The fit that the blocks make together, with how surely each of it is known."""
        return self.problem.together(self.parts, self.shape, self.about)


@dataclass(frozen=True)
class Part:
    """What one block comes to: the unknown (size,), the squared error that is left, and the equations' squares (size, size).

    The squares are kept as the upper triangle of their Cholesky factor.
    """

    block: Block
    x: Floats
    residual: float
    factor: Floats

    @classmethod
    def of(cls, block: Block, a: Floats, b: Floats, wanted: Floats) -> "Part":
        """Return what solves the weighed equations ``a @ x = b`` of a block, and those of what is taken of it, best."""
        squares = block.prior_squares + a.T @ a
        factor, x, failed = scipy.linalg.lapack.dposv(squares, a.T @ b + wanted @ block.prior)
        assert not failed  # every unknown has a prior
        return cls(block, x, float(((a @ x - b) ** 2).sum() + ((block.prior @ x - wanted) ** 2).sum()), factor)

    @cached_property
    def known(self) -> Floats:
        """The covariance of what is unknown (size, size), in its upper triangle alone."""
        upper: Floats = scipy.linalg.lapack.dpotri(self.factor)[0]
        return upper

    @cached_property
    def deviations(self) -> Floats:
        """How far each unknown (size,) may be off."""
        off: Floats = np.sqrt(np.maximum(self.known.diagonal(), 0.0))
        return off

    def three(self, i: int, kind: str) -> Floats:
        """Return what a step of each of the three gains, offsets, or points of a light does to the block's i-th light."""
        start = self.block.first(i, kind)
        return self.x[start : start + 3]

    def three_off(self, i: int, kind: str) -> Floats:
        """Return how far ``three`` may be off."""
        start = self.block.first(i, kind)
        off: Floats = self.deviations[start : start + 3]
        return off

    def steps(self) -> Floats:
        """Return what a step of each knob (k,) does, of those that are points."""
        block = self.block
        usual, growth = self.x[block.usual][block.kind_of], self.x[block.growth][block.kind_of]
        apart = block.apart.copy()
        apart[block.mine] = self.x[block.own :]
        made = usual + block.beyond_middle * growth + apart
        # One that seems to do next to nothing was read too little yet: no reason to turn it by a lot.
        least, size = LEAST_STEP * np.abs(usual), np.abs(made)
        told: Floats = np.where(size >= least, made, np.copysign(least, made))
        if np.any(size < least):  # how surely each is known takes as long as all the rest
            told[size + SURELY * self.doubts() < least] = 0.0
        return told

    def doubts(self) -> Floats:
        """Return how far that may be off (k,)."""
        block, usual = self.block, self.block.usual[self.block.kind_of]
        made: Floats = np.hypot(self.deviations[usual], block.apart_off)
        own = slice(block.own, block.size)
        of = usual[block.mine]
        both = self.known.diagonal()[of] + self.known.diagonal()[own] + 2 * self.known[of, np.arange(block.own, block.size)]
        made[block.mine] = np.sqrt(np.maximum(both, 0.0))
        return made


def _unlikely(shape: tuple[float, str], taught: Taught | None) -> float:
    """Return what speaks against a width and a shape of points before anything was read, as a squared error."""
    if taught is not None and taught.width:
        other = 0.0 if shape[1] == taught.shape else OTHER_SHAPE
        return float((np.log(shape[0] / taught.width) / WIDTH_BETWEEN) ** 2) + other
    return float((np.log(shape[0] / LIKELY_WIDTH) / WIDTH_DOUBT) ** 2)
