"""Whether a batch as a whole gives the light that its patches gave before, whatever was turned or installed in between."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from fenvik.core.procedures.expected import FAR, between
from fenvik.core.procedures.samelight import (
    CHANGED,
    LIT,
    PASSED,
    SEEN,
    gives_as_much,
    is_another,
    is_as_it_was,
    known_well,
    of_another_picture,
    of_no_balance,
    turned_back,
)
from fenvik.core.procedures.steps import OtherLightError, Procedure
from fenvik.core.procedures.taken import Taken

if TYPE_CHECKING:
    from fenvik.core.procedures.desk import Desk

WHOLE = "A batch of patches gave another light than before"
CHANGED_WHOLE = 0.18  # of ln luminance of a batch: greys of PQ follow what is turned, and a little more is no wonder


def see_the_whole(desk: Desk, made: list[Taken], start: int) -> Procedure[None]:
    """Hold a batch as a whole against what its patches gave before, whatever was turned or installed in between.

    In SDR white is in every batch and tells. In HDR it is not, and what is installed is another display to every rule that holds a
    patch against itself. Where light as a whole changed by more than is usually turned, everything is turned back
    for a reading, which is as it was or is not. Not where a person turns everything. Raises OtherLightError.
    """
    if not (desk.is_hdr or desk.has_installed) or desk.by_hand:
        return
    # A menu's own controls of a colour take or give its light.
    lit = [t for t in made if t.fraction.max() >= LIT and t.xyz[1] > 0 and (desk.has_installed or np.ptp(t.fraction) == 0)]
    # What is found to stand still comes back as it was, processing and all; what does not may be another each time.
    kept = set() if desk.stands_still else of_no_balance(desk)
    since, until = (
        [t for t in taken if lit and desk.can_go_back_to(t) and all(t.settings.get(k) == lit[0].settings.get(k) for k in kept)]
        for taken in (desk.taken[desk.proven : start], desk.taken[: desk.proven])
    )
    # What was proven before can be turned back as well, where nothing has told of such patches since.
    for before in (*_states(since), *reversed(_states(until))):
        apart = [(v, i) for i, t in enumerate(lit) if (v := _changed(t, before, is_hdr=desk.is_hdr)) is not None]
        if 2 * len(apart) < len(lit):
            continue
        changed, place = sorted(apart)[len(apart) // 2]
        if abs(changed) > CHANGED_WHOLE:
            yield from _prove_whole(desk, lit[place], before)
            desk.proven, desk.lit_well = start, len(desk.taken)
        return


def _states(taken: list[Taken]) -> list[list[Taken]]:
    """Return lit readings by the state in which they were taken, the first one first."""
    states: list[list[Taken]] = []
    for t in taken:
        if t.fraction.max() < LIT or t.xyz[1] < SEEN:
            continue
        same = next((state for state in states if state[0].settings == t.settings), None)
        if same is None:
            states.append([t])
        else:
            same.append(t)
    return states


def _as_it_was_and_top(
    desk: Desk, told: list[Taken], before: list[Taken]
) -> Procedure[tuple[bool, Taken, tuple[Taken, Taken] | None]]:
    """Return whether patches are as they were, and what the first gives; where that is brighter and the brightest grey of its state
    is not, the first as it was and as it is: what a hand was before is all of it brighter, other levels of a signal raise the dark.
    """
    is_true, again = yield from is_as_it_was(desk, told, gives_as_much)
    top = max((t for t in before if np.ptp(t.fraction) == 0), key=lambda t: float(t.fraction[0]), default=None)
    if is_true or top is None or top is told[0] or not _is_brighter(again, told[0]):
        return is_true, again, None
    now = yield from desk.read([100.0 * float(v) for v in top.fraction])
    return False, again, None if _is_brighter(now, top) else (told[0], again)


def _is_brighter(now: Taken, was: Taken) -> bool:
    return bool(now.xyz[1] > np.exp(CHANGED) * was.xyz[1])


def _changed(now: Taken, before: list[Taken], *, is_hdr: bool) -> float | None:
    """Return by how much a patch changed, in ln of luminance; a grey beside those about it. None where that is not told."""
    same = next((t for t in before if np.array_equal(t.fraction, now.fraction)), None)
    was = None if same is None else float(same.xyz[1])
    if was is None and np.ptp(now.fraction) == 0:
        was = between(before, float(now.fraction[0]), is_hdr=is_hdr, far=FAR)
    return None if not was else float(np.log(now.xyz[1] / was))


def _prove_whole(desk: Desk, now: Taken, before: list[Taken]) -> Procedure[None]:
    """Raise OtherLightError where a state is not what it was, or a patch that has changed is not what it just was."""
    at = float(now.fraction.max())
    told = sorted(before, key=lambda t: (np.ptp(t.fraction) > 0, abs(float(t.fraction.max()) - at)))[:3]
    is_true, again, top = yield from turned_back(desk, told[0], _as_it_was_and_top(desk, told, before))
    if not is_true:
        raise is_another(desk, told[0], again) if top is None else of_another_picture(WHOLE, *top, known_well(desk, told[0]))
    if not gives_as_much(now, (yield from desk.read([100.0 * float(v) for v in now.fraction]))):
        raise OtherLightError(PASSED, known_well(desk, told[0]), told[0], is_over=True)
