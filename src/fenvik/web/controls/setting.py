"""Setting controls over a display's link, one after the other: seen, held, set, logged, and looked at once more at the end.

A refusal leaves display and log equal, and so does a choice that brings other controls along.
"""

import uuid
from collections.abc import Sequence
from datetime import datetime
from typing import Any

import structlog
from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.link.display import LinkedDisplay
from fenvik.link.faults import DeviceError
from fenvik.session.refusing import refusal_of
from fenvik.web.controls.log import ChangedMeanwhileError, basis_of, log_one, logged_of
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.telling import standing, take_as_told
from fenvik.web.controls.values import values_of
from fenvik.web.devices.leases import Hold
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning

log = structlog.get_logger(__name__)
MOST_AGAIN = 2  # times that what does not stay where it was put is set again


def set_controls(
    *, tuning: Tuning, actor: User, line: LinkedDisplay, held: Hold, wanted: Sequence[tuple[dict[str, Any], Any]], seen: int,
    now: datetime, group: uuid.UUID, basis_id: int | None = None, refused: list[str] | None = None,
) -> list[ControlChange]:  # fmt: skip
    """Set controls in a tuning's mode and log each as it is set; return the changes.

    ``wanted``: controls of the menu with the values that they are to have; ``seen``: how many changes the person's page knew of.
    What a display refuses is raised: what was set before it is logged, and nothing else is set. Where ``refused`` is given, what it
    refuses for good is added to that in a sentence, and the rest is set. Raises ChangedMeanwhileError where somebody else has
    logged anything since, and EndedError where the hold has been taken over.
    """
    made: list[ControlChange] = []
    came_to: dict[str, Any] = {}
    basis, values = basis_of(tuning, basis_id), values_of(tuning)
    stands = dict(values.now)
    if len(values.changes) != seen:
        raise ChangedMeanwhileError
    # Choices first: one may bring other controls along.
    for control, value in sorted(wanted, key=lambda each: each[0]["kind"] == "range"):
        with transaction.atomic():
            if logged_of(tuning.pk, actor) != seen + len(made):
                raise ChangedMeanwhileError
            held.go_on()
        before = stands.get(control["id"])
        # Nothing of the database is held while the display is waited for; the hold keeps everybody else away.
        try:
            came = line.set(tuning.mode_id, control["id"], value, was=before)
        except DeviceError as problem:
            if refused is None or refusal_of(problem) is None:
                raise
            refused.append(f"{control['label']} ({str(problem).removeprefix(f'{problem.who}: ').rstrip('.')})")
            continue
        came_to[control["id"]] = stands[control["id"]] = came
        if came == before:
            continue
        with transaction.atomic():
            made.append(
                log_one(
                    tuning=tuning, actor=actor, control=control, before=before, after=came, now=now, group=group, basis_id=basis
                )
            )
    _see_that_they_stand(tuning, line, came_to)
    take_as_told(tuning=tuning, line=line, now=now)
    return made


def _see_that_they_stand(tuning: Tuning, line: LinkedDisplay, came_to: dict[str, Any]) -> None:
    """Set once more what has been turned by something that was set after it; what does not stay then is told by the display."""
    for _ in range(MOST_AGAIN):
        try:
            stands = standing(tuning, line)
            strayed = {name: value for name, value in came_to.items() if stands.get(name, value) != value}
            for name, value in strayed.items():
                line.set(tuning.mode_id, name, value)
        except FenvikError as problem:
            log.warning("controls not seen again", tuning_id=tuning.pk, problem=str(problem))
            return
        if not strayed:
            return
