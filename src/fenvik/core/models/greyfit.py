"""The fit of the model of the greys to every reading that was taken. Linear, but for where points act and how wide."""

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from fenvik.core.controls import Control
from fenvik.core.models.grey import Fit, Seen
from fenvik.core.models.greyends import with_ends
from fenvik.core.models.greyproblem import UNTOLD, Problem
from fenvik.core.models.taught import Taught
from fenvik.core.types import Floats

WIDTHS = (0.5, 0.65, 0.8, 1.0, 1.25, 1.6, 2.1)  # of a point's pull, as a share of the distance to its neighbour
KINDS = ("bell", "tent")
SHAPES = tuple((width, kind) for kind in KINDS for width in WIDTHS)
TOO_LITTLE, RESCALED = 2.5, 4  # times what a step was taken to do: then that is taken anew, so often at most
SUSPECT, MOST_SUSPECTS = 0.6, 6  # of its light's usual step: a point that does less may work backwards; so many are tried
BACKWARDS = 4.0  # of the squared error: what must speak for that, for few do
UNUSUAL = 3.0  # of the squared error: what must speak for points that act on the signal before gains and offsets do
UNTOLD_BY = 0.25  # squared error that a reading leaves where a display may be unlike most
A_SIGN = 2.0  # of the squared error: less explained is no reason to look closer
OTHERWISE, AND_SHARE = 5.0, 0.25  # of the squared error: what must speak for it; another way of being unlike explains a part
AT_WHITE = np.array([[1.0], [0.0]])
ELSEWHERE = (-0.08, -0.04, 0.04, 0.08)  # of a point's signal: by how much some act below or above what their labels say
LOWS = (0.7, 0.5, 0.35, 0.25)  # of signal: from where on some displays' offsets do nothing
IN_THE_DARK_ALONE = 4.0  # of the squared error: what must speak for that


def fit(
    knobs: Sequence[Control], seen: Sequence[Seen], fine: float = 1.0, taught: Taught | None = None, *, may_end: bool = True
) -> Fit:
    """Fit the model to everything that was seen; what no reading tells stays at its prior. ``fine``: as of ``grey.fineness``.

    ``taught``: what the same model's controls did on an earlier sample. ``may_end``: whether lights may end below full signal.

    No display is quite as straight as the model. So a reading counts the less the farther the knobs have been turned since, and
    what is expected near to where they stand now is what was read near to it.

    A point that works backwards is no point that does less than others: each that seems to do next to nothing is tried that
    way too, by everything anew where it explains more as all the rest stands.
    """
    sign = np.ones(len(knobs))
    problem, made = _best_shape(knobs, seen, fine, taught, may_end=may_end)
    for k in _suspects(made, seen)[:MOST_SUSPECTS]:
        turned = np.where(np.arange(len(knobs)) == k, -1.0, 1.0)
        about = replace(made, step=made.step * turned)
        if problem.with_turned(turned).tried([(made.width, made.shape)], about).residual >= made.residual:
            continue
        others = [replace(s, moved=s.moved * sign * turned) for s in seen]
        other_problem, other = _best_shape(knobs, others, fine, taught, may_end=may_end)
        if other.residual < made.residual - BACKWARDS:
            problem, made, sign = other_problem, other, sign * turned
    return replace(made, step=made.step * sign, backwards=frozenset(np.flatnonzero(sign < 0.0).tolist()))


class Quick:
    """Quick fits: points of the usual width that act at their levels, every reading as good as any.

    For knobs that may have been moved otherwise; all that does not depend on that is set up once.
    """

    def __init__(self, knobs: Sequence[Control], seen: Sequence[Seen], fine: float = 1.0) -> None:
        self.problem = _to_scale(tuple(knobs), seen, fine, None)

    @property
    def residual(self) -> float:
        """The squared error that is left."""
        return self.problem.untold_residual

    def residual_with(self, moved: Floats) -> float:
        """Return the squared error that is left where the knobs were moved by other steps (r, k), of none that was not moved."""
        return self.problem.with_moves(moved).untold_residual


def _suspects(made: Fit, seen: Sequence[Seen]) -> list[int]:
    """Return the points that were turned and seem to do next to nothing, or the opposite, those first that do so most."""
    turned = np.ptp(np.array([s.moved for s in seen]), axis=0) > 0 if made.knobs and seen else np.zeros(len(made.knobs), dtype=bool)
    found: dict[int, float] = {}
    for channel in range(3):
        mine = [k for k, knob in enumerate(made.knobs) if knob.kind == "point" and knob.channel == channel]
        usual = float(np.median(made.step[mine])) if mine else 0.0
        found |= {k: float(made.step[k]) / usual for k in mine if usual > 0 and turned[k] and made.step[k] < SUSPECT * usual}
    return sorted(found, key=lambda k: found[k])


def _best_shape(
    knobs: Sequence[Control], seen: Sequence[Seen], fine: float, taught: Taught | None, *, may_end: bool
) -> tuple["Problem", Fit]:
    """Return the problem, with the ways in which the display is unlike most, and its fit."""
    problem = _to_scale(tuple(knobs), seen, fine, taught)
    if not problem.moved_points:
        usual = (taught.width, taught.shape) if taught is not None and taught.width else UNTOLD
        problem.trust(_where_offsets_end(problem, problem.solved(usual)))
        made = _where_offsets_end(problem, problem.solved(usual))
        if made.residual <= UNTOLD_BY * len(seen) or not may_end:
            return problem, made
        problem, made = with_ends(problem, made)
        return problem, _where_offsets_end(problem, made)
    made = problem.best(SHAPES)
    # Where the points act is not linear: it is taken from the fit before, and what that leaves is fitted as small shifts.
    after, before = (problem.tried([(made.width, made.shape)], replace(made, follows=follows)) for follows in (True, False))
    made = (before if before.residual < after.residual - UNUSUAL else after).fit
    problem.trust(made)
    made = problem.best(SHAPES, made)
    while made.residual > UNTOLD_BY * len(seen):
        others = [(each, fitted) for each, fitted in _unusual(problem, made, may_end=may_end)]
        likeliest, other = min(others, key=lambda one: one[1].residual, default=(problem, made))
        if other.residual >= min(made.residual - OTHERWISE, (1.0 - AND_SHARE) * made.residual):
            break
        problem, made = likeliest, other
    return problem, _where_offsets_end(problem, problem.solved((made.width, made.shape), made))


def _unusual(problem: "Problem", made: Fit, *, may_end: bool) -> Iterator[tuple["Problem", Fit]]:
    """Yield problem and fit with one more way in which few displays are unlike the others.

    Points that push other lights; points that act at other signals than their labels say; lights that end.
    """
    pushing = None if problem.pushes else problem.with_points_that_push()
    # Where it explains nothing with the points as wide as they are taken to be, it does not with others.
    if pushing is not None and pushing.tried([(made.width, made.shape)], made).residual < made.residual - A_SIGN:
        other = pushing.best(SHAPES, made)
        # As with them the signals at which readings meet the points are others, once more about that.
        yield pushing, pushing.solved((other.width, other.shape), other)
    if not problem.off_by:
        tried = [(problem.with_points_off_by(far), replace(made, astray=made.astray + far * AT_WHITE)) for far in ELSEWHERE]
        least = min((each.tried([(made.width, made.shape)], about) for each, about in tried), key=lambda one: one.residual)
        yield least.problem, least.fit
    if may_end and np.isinf(problem.end).any():
        yield with_ends(problem, made)


def _where_offsets_end(problem: "Problem", made: Fit) -> Fit:
    """Return the fit with offsets that do nothing from some signal on, where readings speak for that."""
    mine = [k for k, knob in enumerate(problem.knobs) if knob.kind == "offset"]
    if not mine or not np.ptp(problem.read.moved[:, mine], axis=0).any():
        return made
    others = (problem.with_offsets_to(low).tried([(made.width, made.shape)], made) for low in LOWS)
    other = min(others, key=lambda each: each.residual)
    return other.fit if other.residual < made.residual - IN_THE_DARK_ALONE else made


def _to_scale(knobs: tuple[Control, ...], seen: Sequence[Seen], fine: float, taught: Taught | None) -> "Problem":
    """Return the problem with what a step is taken to do before it was seen no longer far below what was seen.

    A range tells the scale widely, but not by an order: of a menu of ±512 a step may do as much as of one of ±50.
    """
    more: dict[str, float] = {}
    for _ in range(RESCALED):
        problem = Problem(knobs, seen, fine, more, taught)
        ratios = problem.ratios()
        if not any(ratio > TOO_LITTLE for ratio in ratios.values()):
            break
        more = {kind: more.get(kind, 1.0) * max(ratios.get(kind, 1.0), 1.0) for kind in {*more, *ratios}}
    return problem
