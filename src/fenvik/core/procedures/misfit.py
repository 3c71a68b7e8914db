"""Readings of greys that no display gives which gave those before them: whether the picture is still the one that it was.

White tells of a light that is another, black of a room that is. A source that came back with other levels, a display that dims
little by little or a meter out of step with the picture leave both nearly as they were. What tells of those is that the
model of the greys, which takes most displays as they are, no longer explains what is read.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.procedures.doubt import SAME
from fenvik.core.procedures.expected import SHADOW
from fenvik.core.procedures.samelight import PASSED, of_another_picture, turned_back
from fenvik.core.procedures.steps import OtherLightError, Procedure
from fenvik.core.procedures.taken import Taken

if TYPE_CHECKING:
    from fenvik.core.procedures.desk import Desk
    from fenvik.core.procedures.greyview import GreyView

# Squared error a reading: usual displays leave 0.2 to 0.9, hard ones seldom as much as would be asked about.
EXPLAINED, UNEXPLAINED = 1.0, 1.5
LEAST = 8  # readings: fewer are explained by anything
SEEN = 0.5  # cd/m²: below it a reading tells of noise
READ_BLACK = 0.05  # cd/m²: below it two readings of black differ by themselves
BENT = 2.0  # times what is let pass in the dark, where offsets warm up
LEAST_LIT = 4  # greys as found that give enough light
UNLIKE = 0.15  # of ln luminance: how differently a dark grey and one in the middle may change, where nothing was turned
SLIPPED = 0.03  # of ln luminance: what is explained worst and is not confirmed by as much was a slip
BRIGHT = 0.85  # fraction of signal from which on a display may hold its light back and show all that is darker as before
MOST_READ, MOST_PROVEN = 4, 3  # readings that a proof takes; how often a run has one


def see_that_it_is_explained(view: GreyView) -> Procedure[list[float]]:
    """Return the greys in percent that are to be read again, because what was read of them was thrown away.

    Where a model explains readings badly that explained those before, everything is turned back to where greys were read that it
    explained, and two of those are read again. Where nothing was ever explained, such is the display. Raises OtherLightError where
    the light stays another.
    """
    desk, model = view.desk, view.model
    assert model is not None
    view.explained = min(view.explained, len(desk.taken))
    count = view.read_of_now()
    if count < LEAST or model.residual < EXPLAINED * count:
        view.explained = len(desk.taken)
    if view.explained in (0, len(desk.taken)) or model.residual < UNEXPLAINED * count or desk.by_hand or view.proofs == MOST_PROVEN:
        return []
    new = [t for t in desk.taken[view.explained :] if t.is_grey and t.fraction.any()]
    worst = max(new, key=view.off_by, default=None)
    before = _beside(view, worst) if worst is not None else []
    if worst is None or not before:
        return []
    view.proofs += 1
    desk.budget = max(desk.budget, desk.spent + MOST_READ)  # of those that are kept back for what is to be proven
    problem = yield from _what_changed(view, worst, before)
    if problem is None:
        return []
    now = desk.settings
    lost = list(dict.fromkeys(round(100.0 * float(t.fraction[0]), 3) for t in new if t.settings == now))
    yield from desk.set_right(problem)
    return lost


def see_that_it_is_the_one_found(desk: Desk, found: Sequence[Taken]) -> Procedure[None]:
    """Turn everything back to as found, and take away what is installed, for two greys that were read then.

    What is installed is made to fit whatever is shown: made for other levels of the signal it looks right for as long as these are
    sent. Raises OtherLightError.
    """
    lit = sorted((t for t in found if t.is_grey and t.xyz[1] > SEEN and t.fraction[0] < 1.0), key=lambda t: float(t.fraction[0]))
    if len(lit) < LEAST_LIT or not desk.stands_still or not desk.can_go_back_to(lit[0]) or desk.by_hand:
        return
    desk.budget = max(desk.budget, desk.spent + MOST_READ)
    middle = len(lit) // 2
    now = yield from turned_back(desk, lit[0], _unlike_again(desk, [(lit[0], lit[middle]), (lit[1], lit[middle + 1])]))
    if now is not None:
        since = next((i for i, t in enumerate(desk.taken) if t.settings != lit[0].settings), len(desk.taken))
        raise of_another_picture("What was found was looked at once more", lit[0], now, since)


def black_is_another(desk: Desk) -> bool:
    """Whether black has given two lights in one state: what lifts it may be other levels, which greys in HDR do not tell of."""
    blacks = [t for t in desk.taken if t.is_grey and not t.fraction.any() and t.xyz[1] > READ_BLACK]
    return any(
        abs(np.log(t.xyz[1] / other.xyz[1])) > UNLIKE
        for i, t in enumerate(blacks)
        for other in blacks[:i]
        if other.settings == t.settings
    )


def _unlike_again(desk: Desk, pairs: Sequence[tuple[Taken, Taken]]) -> Procedure[Taken | None]:
    """Read pairs of greys again; return the first as it is if the two of no pair changed alike: a lamp that warms changes both."""
    first: Taken | None = None
    for pair in pairs:
        now = []
        for was in pair:
            now.append((yield from _again(desk, was)))
        dark, middle = (float(np.log(max(float(n.xyz[1]), 1e-6) / was.xyz[1])) for n, was in zip(now, pair, strict=True))
        if abs(dark - middle) <= UNLIKE:
            return None
        first = first or now[0]
    return first


def _beside(view: GreyView, worst: Taken) -> list[Taken]:
    """Return two explained greys of one state: that nearest to what is explained worst, and the darkest, where levels tell most."""
    known = [t for t in view.desk.taken[: view.explained] if t.is_grey and t.xyz[1] > SEEN and view.desk.can_go_back_to(t)]
    of_state = [t for t in known if t.settings == known[-1].settings]
    if not of_state:
        return []
    nearest = min(of_state, key=lambda t: abs(float(t.fraction[0] - worst.fraction[0])))
    others = [t for t in of_state if t.fraction[0] != nearest.fraction[0]]
    return [nearest, *sorted(others, key=lambda t: float(t.fraction[0]))[:1]]


def _what_changed(view: GreyView, worst: Taken, before: Sequence[Taken]) -> Procedure[OtherLightError | None]:
    """Return what is another, if anything is: a grey of another state than now, or what was just read."""
    desk, since = view.desk, view.explained
    told = yield from turned_back(desk, before[0], _read_again(desk, before))
    if told is not None:
        was, now, others = told
        return of_another_picture("What is read fits nothing that was read before", was, now, since, as_it_was=others)
    if worst.settings == desk.settings and _is_another(worst, (yield from _again(desk, worst)), SLIPPED):
        return OtherLightError(PASSED, since, before[0], is_over=True)
    return None


def _read_again(desk: Desk, told: Sequence[Taken]) -> Procedure[tuple[Taken, Taken, Taken | None] | None]:
    """Read greys again until one gives another light than it gave, twice; return it as it was and as it is, if there is one.

    With it comes a darker one that gives what it gave, where the brightest give less: then it is they alone.
    """
    for place, was in enumerate(told):
        now = yield from _again(desk, was)
        if not (_is_another(was, now) and _is_another(was, (yield from _again(desk, was)))):
            continue
        is_less = was.fraction[0] >= BRIGHT and now.xyz[1] < was.xyz[1]
        for darker in (t for t in told[place + 1 :] if is_less and t.fraction[0] < BRIGHT):
            if not _is_another(darker, (yield from _again(desk, darker))):
                return was, now, darker
        return was, now, None
    return None


def _again(desk: Desk, taken: Taken) -> Procedure[Taken]:
    return (yield from desk.read([100.0 * float(v) for v in taken.fraction]))


def _is_another(was: Taken, now: Taken, same: float = SAME) -> bool:
    let_pass = same * (BENT if was.fraction[0] < SHADOW else 1.0)
    return bool(now.xyz[1] <= 0 or abs(np.log(now.xyz[1] / was.xyz[1])) > let_pass)
