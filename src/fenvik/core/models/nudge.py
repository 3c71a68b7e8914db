"""Which controls to turn, by how many steps, and what the error will be then.

The squared predicted error over all levels concerned, with what is not yet known of the controls counted in, plus a
small price a step and a larger one a control touched. The continuous optimum of each small set of controls is found by
weighted least squares on the local metric of the error; whole steps by trying the neighbours with the exact formula.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations, product

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control
from fenvik.core.models.twopoint import Response, light
from fenvik.core.types import Bools, Floats

STEP_PRICE = 0.0004  # squared error: a step more must be worth a visible trifle
CONTROL_PRICE = 0.004  # squared error: a third control must earn its walk through the menu
AT_MOST = 3  # controls at a time for a person
METRIC_STEP = 0.004  # of signal: near the size of one step of a usual control
MOVE_LIMIT = 0.15  # of signal: beyond it the local metric says nothing
WORTH_A_MOVE = 0.08  # error over all levels: for less nobody should have to walk through a menu
POLISH_ROUNDS = 40
OVER_BLACK = 4.0  # times the display's black: below it black speaks for luminance
# A move that is read again afterwards may be bold: what it gets wrong is learned from and mended by the next one.
DOUBT_PRICE = 0.25
CLIP_SHARE = 0.5  # of the rise that the last stretch of the greyscale should have: below it a channel clips


@dataclass(frozen=True)
class Level:
    """Where the display stands at one level, as far as is known now."""

    level: float  # fraction of signal
    drive: Floats  # (3,)
    covariance: Floats  # (3, 3) of the drive: noise, and doubt about changes since it was read
    weight: float = 1.0


@dataclass(frozen=True)
class Move:
    """One control of a nudge."""

    control: Control
    steps: int  # of the control; positive is up

    @property
    def value(self) -> float:
        """What the control will show."""
        return self.control.value_at(self.steps)

    @property
    def turns(self) -> int:
        """By how many steps of the menu."""
        return round((self.value - self.control.value) / self.control.step_of_menu)


@dataclass(frozen=True)
class Nudge:
    """A proposed change with the error expected after it; no moves: as good as the steps allow."""

    moves: tuple[Move, ...]
    now: Floats  # error of each level as it stands (n,)
    now_std: Floats
    after: Floats  # error of each level expected after the moves (n,)
    after_std: Floats
    overall_now: float
    overall_after: float
    levels: tuple[float, ...]
    clipping: tuple[int, ...] = ()  # channels whose gain must not be raised
    idle: tuple[str, ...] = ()  # labels of controls that were found to do nothing
    at_end: tuple[str, ...] = ()  # labels of wanted controls that have no steps left

    def at(self, level: float) -> int:
        """Return the index of the level nearest to a fraction of signal."""
        return int(np.argmin(np.abs(np.asarray(self.levels) - level)))


@dataclass(frozen=True)
class Surroundings:
    """What errors are counted against."""

    target: Target
    white: float  # cd/m²
    black: float  # cd/m²
    # Whether gains and offsets are to bring luminance too: PQ says every light itself, and this menu has nothing else for it.
    tone: bool = False

    def errors(self, levels: Floats, drives: Floats) -> Floats:
        """Return the target's error (..., n) of drives (..., n, 3) at levels (n,): colour alone, or the whole with ``tone``."""
        wanted = self.target.xyz(np.repeat(levels[:, None], 3, axis=1), self.white, self.black)
        got, lab_white = light(drives, self.target, self.white, self.black), self.target.white * self.white
        colour = self.target.metric.colour_only(wanted, got, lab_white)
        if not self.tone:
            return colour
        return np.where(self.says_tone(levels), self.target.metric.whole(wanted, got, lab_white), colour)

    def says_tone(self, levels: Floats) -> Bools:
        """Return at which of the levels (n,) light is the signal's and not the display's own black."""
        wanted = self.target.xyz(np.repeat(levels[:, None], 3, axis=1), self.white, self.black)[:, 1]
        told: Bools = self.tone & (wanted > OVER_BLACK * self.black)
        return told

    def neutral(self, levels: Floats, drives: Floats) -> Floats:
        """Return the drives (n, 3) that are wanted at levels (n,) of drives (n, 3): their own mean, or the level with ``tone``."""
        own = drives.mean(axis=-1, keepdims=True)
        wanted = np.where(self.says_tone(levels)[:, None], levels[:, None], own)
        return np.repeat(wanted, 3, axis=-1)

    def metric(self, levels: Floats, drives: Floats) -> Floats:
        """Return M (n, 3, 3) with error² ≈ d·M·d for a small change d of drive around the target's neutral.

        The neutral is the grey of the reading's own luminance, or of the wanted one with ``tone``: one drive for all three lights.
        """
        neutral = self.neutral(levels, drives)
        directions = np.array([[1, 0, 0], [0, 1, 0], [0, 0, 1], [1, 1, 0], [1, 0, 1], [0, 1, 1]], dtype=np.float64)
        step = directions[:, None, :] * METRIC_STEP
        square = 0.5 * (self.errors(levels, neutral + step) ** 2 + self.errors(levels, neutral - step) ** 2)
        square = square / METRIC_STEP**2
        metric = np.zeros((levels.size, 3, 3))
        for i in range(3):
            metric[:, i, i] = square[i]
        for (i, j), both in zip(((0, 1), (0, 2), (1, 2)), square[3:], strict=True):
            metric[:, i, j] = metric[:, j, i] = 0.5 * (both - square[i] - square[j])
        return metric


def clipping_channels(levels: Floats, drives: Floats) -> tuple[int, ...]:
    """Return the channels that hardly rise any more between the two brightest of the levels (n,), drives (n, 3).

    Only a pair that reaches 100 % says anything; without one the answer is empty.
    """
    order = np.argsort(levels)
    if order.size < 3 or levels[order[-1]] < 0.995:
        return ()
    top, below = order[-1], order[-2]
    wanted = levels[top] - levels[below]
    rise = drives[top] - drives[below]
    return tuple(int(channel) for channel in range(3) if rise[channel] < CLIP_SHARE * wanted)


@dataclass(frozen=True)
class _Problem:
    """The arrays of one search: n levels, k controls."""

    surroundings: Surroundings
    at: Floats  # (n,)
    drives: Floats  # (n, 3) as they stand
    noise: Floats  # (n, 3, 3)
    metric: Floats  # (n, 3, 3)
    jacobians: Floats  # (n, 3, k)
    doubts: Floats  # (n, k, k)
    weight: Floats  # (n,), sum 1
    room: tuple[tuple[int, int], ...]
    reach: Floats  # (k,) largest believed effect of a step, of signal

    @property
    def noise_square(self) -> Floats:
        """Mean square error that the noise alone makes at each level."""
        result: Floats = np.einsum("nij,nji->n", self.metric, self.noise)
        return result

    def ahead(self, moves: Floats) -> Floats:
        """Drives (m, n, 3) after moves (m, k)."""
        result: Floats = self.drives + np.einsum("nck,mk->mnc", self.jacobians, moves)
        return result

    def charged(self, moves: Floats, plan: Floats) -> Floats:
        """Square errors (m, n) with doubt at the price of a move that the next reading will check."""
        error = self.surroundings.errors(self.at, self.ahead(moves + plan))
        unknown = np.einsum("mk,nkl,ml->mn", moves, self.doubts, moves)
        result: Floats = error**2 + DOUBT_PRICE * unknown
        return result

    def cost(self, moves: Floats, plan: Floats) -> Floats:
        """What is minimised, (m,)."""
        price = STEP_PRICE * np.abs(moves).sum(axis=1) + CONTROL_PRICE * (moves != 0).sum(axis=1)
        result: Floats = self.charged(moves, plan) @ self.weight + price
        return result

    @cached_property
    def _roots(self) -> Floats:
        """Roots of the metric (n, 3, 3), weighed."""
        size, axes = np.linalg.eigh(self.metric)
        roots = np.sqrt(np.maximum(size, 0.0))[:, :, None] * np.swapaxes(axes, -1, -2)
        return np.asarray(roots * np.sqrt(self.weight)[:, None, None])

    @cached_property
    def _parts(self) -> Floats:
        """What a step of each control does to the errors (3 n, k)."""
        made = self._roots @ self.jacobians
        return np.asarray(made.reshape(-1, made.shape[-1]))

    @cached_property
    def _normal(self) -> Floats:
        """The normal equations (k, k) of all controls, doubt included."""
        doubt = np.einsum("n,nkl->kl", self.weight, self.doubts)
        return np.asarray(self._parts.T @ self._parts + DOUBT_PRICE * doubt + np.eye(len(doubt)) * 1e-9)

    def optimum(self, chosen: Sequence[int], plan: Floats) -> Floats:
        """Continuous least squares over the chosen controls, within their ranges and MOVE_LIMIT."""
        picked = list(chosen)
        drives = self.ahead(plan[None])[0]
        error = (self._roots @ (drives - self.surroundings.neutral(self.at, drives))[:, :, None]).ravel()
        part = self._parts[:, picked]
        normal = self._normal[picked][:, picked]
        best = np.linalg.solve(normal, -part.T @ error)
        low = np.array([max(self.room[i][0], -MOVE_LIMIT / self.reach[i]) for i in chosen])
        high = np.array([min(self.room[i][1], MOVE_LIMIT / self.reach[i]) for i in chosen])
        return np.clip(best, low, high)

    def neighbours(self, best: Floats, chosen: Sequence[int]) -> Iterator[Floats]:
        """Whole-step moves (k,) around a continuous optimum, within range."""
        choices = [
            sorted({float(np.clip(step, *self.room[index])) for step in (np.floor(value), np.ceil(value))})
            for value, index in zip(best, chosen, strict=True)
        ]
        for steps in product(*choices):
            move = np.zeros(len(self.room))
            move[list(chosen)] = steps
            yield move

    def polish(self, move: Floats, plan: Floats) -> Floats:
        """Walk single steps downhill with the controls that move already."""
        touched = np.flatnonzero(move)
        best_cost = float(self.cost(move[None], plan)[0])
        for _ in range(POLISH_ROUNDS):
            around = []
            for index, step in product(touched, (-1.0, 1.0)):
                tried = move.copy()
                tried[index] += step
                if self.room[index][0] <= tried[index] <= self.room[index][1]:
                    around.append(tried)
            if not around:
                break
            costs = self.cost(np.array(around), plan)
            if costs.min() >= best_cost:
                break
            best_cost, move = float(costs.min()), around[int(np.argmin(costs))]
        return move

    def saving(self, move: Floats, plan: Floats) -> tuple[float, float]:
        """Return how much a move lowers the cost, and the std of that from the readings' noise."""
        none, some = self.cost(np.array([np.zeros_like(move), move]), plan)
        pull = np.einsum("nij,njk,k->ni", self.metric, self.jacobians, move)
        variance = np.einsum("ni,nij,nj->n", pull, self.noise, pull)
        return float(none - some), float(2.0 * np.sqrt((self.weight**2 * variance).sum()))


def _problem(
    levels: Sequence[Level],
    controls: Sequence[Control],
    response: Response,
    surroundings: Surroundings,
    clipping: Sequence[int],
) -> _Problem:
    at = np.array([level.level for level in levels])
    drives = np.array([level.drive for level in levels])
    noise = np.array([level.covariance for level in levels])
    metric = surroundings.metric(at, drives)
    # A level that the meter can hardly tell must not decide what the others need.
    weight = np.array([level.weight for level in levels]) / (1.0 + np.einsum("nij,nji->n", metric, noise))
    room = []
    for control in controls:
        low, high = control.room
        room.append((low, min(high, 0) if control.kind == "gain" and control.channel in clipping else high))
    least = np.where(response.observed, 0.05 * response.usual, [control.may_do for control in controls])
    return _Problem(
        surroundings=surroundings,
        at=at,
        drives=drives,
        noise=noise,
        metric=metric,
        jacobians=np.array([response.jacobian(v) for v in at]),
        doubts=np.array([response.doubt(v, m) for v, m in zip(at, metric, strict=True)]),
        weight=weight / weight.sum(),
        room=tuple(room),
        reach=np.maximum(np.abs(response.mean).max(axis=(1, 2)), least),
    )


def propose(
    *,
    levels: Sequence[Level],
    controls: Sequence[Control],
    response: Response,
    surroundings: Surroundings,
    allowed: Sequence[str] | None = None,
    at_most: int = AT_MOST,
    clipping: Sequence[int] = (),
) -> Nudge:
    """Return the best next move of at most so many controls; ``allowed`` names the controls that may move.

    All controls take part in the look ahead, so the gains leave to the offsets what the offsets will mend; only the
    allowed ones are in the answer. ``clipping``: channels whose gain must not go up. Raises ValueError without a level.
    """
    if not levels:
        raise ValueError("a nudge needs at least one level that was read")
    problem = _problem(levels, controls, response, surroundings, clipping)
    k = len(controls)
    usable = [i for i, control in enumerate(controls) if not response.does_nothing(control)]
    ids = {control.id for control in controls} if allowed is None else set(allowed)
    mine = [i for i in usable if controls[i].id in ids]
    others = [i for i in usable if controls[i].id not in ids]
    plan = np.zeros(k)
    if mine and others:
        plan[others] = problem.optimum([*mine, *others], plan)[len(mine) :]
    tries = [np.zeros(k)]
    for size in range(1, min(at_most, len(mine)) + 1):
        for chosen in combinations(mine, size):
            tries.extend(problem.neighbours(problem.optimum(chosen, plan), chosen))
    moves = np.unique(np.array(tries), axis=0)
    best = problem.polish(moves[int(np.argmin(problem.cost(moves, plan)))], plan)
    saved, trifle = problem.saving(best, plan)
    nothing = np.zeros(k)
    now, after = np.sqrt(problem.charged(np.array([nothing, best]), plan))
    gained = float(np.sqrt(now**2 @ problem.weight) - np.sqrt(after**2 @ problem.weight))
    if saved <= trifle or gained < WORTH_A_MOVE:
        best = nothing
    now, after = np.sqrt(problem.charged(np.array([nothing, best]), nothing))
    noise_square = problem.noise_square
    unknown = np.einsum("k,nkl,l->n", best, problem.doubts, best)
    steps = [round(float(step)) for step in best]
    return Nudge(
        moves=tuple(Move(control, step) for control, step in zip(controls, steps, strict=True) if step),
        now=now,
        now_std=np.sqrt(noise_square),
        after=after,
        after_std=np.sqrt(noise_square + unknown),
        overall_now=float(np.sqrt(now**2 @ problem.weight)),
        overall_after=float(np.sqrt(after**2 @ problem.weight)),
        levels=tuple(float(v) for v in problem.at),
        clipping=tuple(clipping),
        idle=tuple(control.label for i, control in enumerate(controls) if i not in usable),
        at_end=tuple(controls[i].label for i in mine if 0 in controls[i].room and not steps[i]),
    )
