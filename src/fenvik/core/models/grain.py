"""Which readings of greys tell that a display counts in larger steps than its menu does."""

from collections.abc import Callable, Sequence

import numpy as np

from fenvik.core.controls import Control
from fenvik.core.models.grains import GROUPS, choices, grained, in_grains
from fenvik.core.models.grey import Fit, Seen
from fenvik.core.models.greyfit import Quick

SUSPECTED = 0.25  # squared error a reading: less is no reason to ask
SPEAKS = 5.0  # of the squared error: what must speak for a grain
AND_SHARE = 0.25  # of it
EXPLAINED = 0.9  # squared error a reading that a grain may leave: more is of something else, such as a meter that has changed
TRIED = 4  # of all grains: as many of those that a quick fit finds likelier than none, or than the one

SeenBy = Callable[[Sequence[Control]], Sequence[Seen]]
Fitted = Callable[[Sequence[Control], Sequence[Seen]], Fit]


def find(made: Fit, seen_by: SeenBy, fitted: Fitted, share: float = AND_SHARE) -> list[Control] | None:
    """Return the knobs with the grain that explains what was read far better than the one they have; None where none does.

    ``made``: the fit with its knobs as they are; ``seen_by``: readings with the moves of other knobs; ``fitted``: a fit to those.
    ``share``: of the squared error, how much of it a grain must explain.
    """
    knobs, seen = made.knobs, seen_by(made.knobs)
    has_one = bool(grained(knobs))
    if not has_one and made.residual < max(SUSPECTED * len(seen), SPEAKS):
        return None
    turned = {k.kind for k, far in zip(knobs, np.ptp(np.array([s.moved for s in seen]), axis=0), strict=True) if far > 0}
    groups = [group for group in GROUPS if turned.intersection(group)]
    now, menu = tuple(knobs), [knob.in_grains(None) for knob in knobs]
    untold = Quick(menu, seen_by(menu), made.fine)

    def quickly(others: Sequence[Control]) -> float:
        # Counted in the menu's steps, grains are other moves of the same knobs.
        moved = np.array([s.moved for s in seen_by(others)]) * np.array([knob.every for knob in others])
        return _cost(others, untold.residual_with(moved))

    def quick(group: Sequence[str]) -> dict[tuple[Control, ...], float]:
        tried = {tuple(others): None for others in (*choices(knobs, group), in_grains(knobs, group))}
        return {others: quickly(others) for others in tried if others != now}

    as_it_is = quickly(now)
    costs = {others: cost for group in groups for others, cost in quick(group).items()}
    # A grain of all controls shows in those of one group by themselves.
    if not has_one and min(costs.values(), default=np.inf) >= as_it_is:
        return None
    if len(groups) > 1:
        costs |= quick((*GROUPS[0], *GROUPS[1]))
    in_order = sorted(costs, key=lambda others: costs[others])
    likeliest = [others for others in in_order if costs[others] < as_it_is][:TRIED] or in_order[:1]
    best, least = None, _cost(knobs, made.residual)
    for others in likeliest:
        residual = fitted(others, seen_by(others)).residual
        more = len(grained(others)) > len(grained(knobs))
        explains = residual < min((1.0 - share) * made.residual, EXPLAINED * len(seen))
        if _cost(others, residual) < least and (explains or not more):
            best, least = list(others), _cost(others, residual)
    return best


def _cost(knobs: Sequence[Control], residual: float) -> float:
    """Return the squared error with what must speak for the grains that some knobs have."""
    return residual + SPEAKS * len(grained(knobs))
