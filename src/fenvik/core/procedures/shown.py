"""What a display shows: another signal or input than is wanted tells nothing of it, and only a person can set that right."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fenvik.core.procedures.samelight import LOOK_S, LOOKS
from fenvik.core.procedures.steps import Ask, Look, Procedure, RestlessError, Standing, Wait

if TYPE_CHECKING:
    from fenvik.core.procedures.desk import Desk

MOST_CALLS = 3  # of somebody who says that it is right, and it is not


def until_it_shows(desk: Desk, standing: Standing) -> Procedure[Standing]:
    """Return how a display stands once it shows what is wanted: somebody is called, and where nobody is there it is waited for.

    Raises RestlessError where it does not come back.
    """
    answer: bool | None = None
    for _ in range(MOST_CALLS):
        answer = yield Ask(f"{standing.clash} Set that right, then go on: what was read since it was last right is read again.")
        if not answer:
            break
        standing = yield Look()
        if not standing.clash:
            desk.notes.append("The display showed something else; somebody was called and set that right.")
            return standing
    for _ in range(LOOKS if answer is None else 0):
        yield Wait(LOOK_S)
        standing = yield Look()
        if not standing.clash:
            desk.notes.append("The display showed something else for a while, and was waited for.")
            return standing
    raise RestlessError(standing.clash)
