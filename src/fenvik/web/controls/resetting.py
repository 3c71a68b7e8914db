"""A picture mode back at the maker's values: over the link, or in the menu and then said here."""

from datetime import datetime

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.web.controls.installed import was_reset
from fenvik.web.controls.log import locked
from fenvik.web.controls.models import Moment, Origin, SettingsSheet
from fenvik.web.controls.services import record_changes
from fenvik.web.controls.values import NoModeError, values_of
from fenvik.web.devices.displays import paired
from fenvik.web.devices.leases import hold, see_free
from fenvik.web.kit.notify import notify
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning


class ResetError(FenvikError):
    """A reset of which nobody could say where it leads."""

    code = "reset"


def _noted_before(tuning_id: int, actor: User, now: datetime) -> None:
    """Keep how the mode stands, so that the way back is one sheet."""
    tuning = locked(tuning_id, actor)
    SettingsSheet.objects.create(
        tuning=tuning,
        moment=Moment.NOTED,
        values=values_of(tuning).now,
        origin=Origin.COPY,
        note="before the reset",
        at=now,
        by=actor,
    )


@needs(Right.MEASURE, "reset a picture mode")
def reset_mode(*, tuning_id: int, actor: User, now: datetime, linked: bool) -> tuple[int, int]:
    """Reset a tuning's mode and log what that turned; return how many controls it turned, and of how many it is not known.

    ``linked``: the display is told to, and read afterwards. Else somebody has reset it in its menu: controls stand at what the
    menu map says they usually do. Raises ResetError where nothing is noted or nothing known, NoModeError, and what ``paired`` and
    ``hold`` raise.
    """
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("display__menu_map", "display__link__pairing")
        .get(pk=tuning_id)
    )
    see_free(tuning, by_hand=True)
    known = values_of(tuning)
    if known.found is None:
        raise ResetError("Note how it stands first: what a reset turns could not be turned back.")
    usual = {c["id"]: c["default"] for c in known.controls if c.get("default") is not None}
    if not linked and not usual:
        raise ResetError("It is not known where a reset leads: note the settings again after it.")
    if not linked:
        with transaction.atomic():
            _noted_before(tuning_id, actor, now)
            made = record_changes(locked(tuning_id, actor), known, usual, actor=actor, now=now)
            was_reset(tuning.display_id, tuning.mode_id or tuning.picture_mode, now)
        notify(tuning_id)
        return len(made), len(known.controls) - len(usual)
    if not tuning.mode_id:
        raise NoModeError("Read the menu from the display first, so that its own name of this mode is known.")
    with hold(tuning, actor) as held, paired(tuning.display) as line:
        with transaction.atomic():
            held.go_on()
            _noted_before(tuning_id, actor, now)
        line.reset(tuning.mode_id)
        line.was_set(tuning.mode_id, usual.items())
        was_reset(tuning.display_id, tuning.mode_id, now)
        stands = {c["id"]: c["value"] for c in line.controls(tuning.mode_id)}
        with transaction.atomic():
            now_locked = locked(tuning_id, actor)
            made = record_changes(now_locked, values_of(now_locked), stands, actor=actor, now=now)
    notify(tuning_id)
    return len(made), 0
