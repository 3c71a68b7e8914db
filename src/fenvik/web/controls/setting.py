"""Setting controls over a display's link, one after the other: seen, held, set, logged. A refusal leaves display and log equal."""

import uuid
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.link.display import LinkedDisplay
from fenvik.link.faults import DeviceError
from fenvik.session.refusing import refusal_of
from fenvik.web.controls.log import ChangedMeanwhileError, basis_of, locked, log_one
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import values_of
from fenvik.web.devices.leases import Hold
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning


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
    basis = basis_of(tuning, basis_id)
    for control, value in wanted:
        with transaction.atomic():
            values = values_of(locked(tuning.pk, actor))
            if len(values.changes) != seen + len(made):
                raise ChangedMeanwhileError
            held.go_on()
        before = values.now.get(control["id"])
        # Nothing of the database is held while the display is waited for; the hold keeps everybody else away.
        try:
            came = line.set(tuning.mode_id, control["id"], value)
        except DeviceError as problem:
            if refused is None or refusal_of(problem) is None:
                raise
            refused.append(f"{control['label']} ({str(problem).removeprefix(f'{problem.who}: ').rstrip('.')})")
            continue
        if came == before:
            continue
        with transaction.atomic():
            made.append(
                log_one(
                    tuning=tuning, actor=actor, control=control, before=before, after=came, now=now, group=group, basis_id=basis
                )
            )
    return made
