"""How the controls of a paired display really stand: what was turned in its own menu, or came along with a choice, is logged."""

from datetime import datetime, timedelta
from typing import Any

import structlog
from django.db import transaction
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.core.labels import bare
from fenvik.link.display import LinkedDisplay
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.services import record_changes
from fenvik.web.controls.values import values_of
from fenvik.web.devices.standing import mode_of
from fenvik.web.kit.notify import notify
from fenvik.web.visits.models import WHOLE, Tuning

log = structlog.get_logger(__name__)
LATELY = timedelta(seconds=15)  # what was set over another line since then, a display may tell late over this one


def standing(tuning: Tuning, line: LinkedDisplay) -> dict[str, Any]:
    """Return the value of every control of a tuning's mode by its id; nothing where the display has no mode of that name.

    A menu that was noted by hand may call something else by the same id: only what has the same name counts.
    """
    mode = tuning.mode_id or mode_of(tuning, line.modes())
    lately = ControlChange.objects.filter(tuning=tuning, is_told=False, at__gt=timezone.now() - LATELY)
    line.was_set(mode, lately.order_by("id").values_list("control", "after"))
    menu = tuning.display.menu_map
    labels = {c["id"]: bare(c["label"]) for c in menu.controls} if menu is not None else {}
    return {c["id"]: c["value"] for c in line.controls(mode) if labels.get(c["id"]) == bare(c["label"])} if mode else {}


def take_as_told(*, tuning: Tuning, line: LinkedDisplay, now: datetime, **more: Any) -> list[ControlChange]:
    """Log what a display tells at another value than it is known at, as one group that nobody here has turned; return the changes.

    None while nothing is noted of the mode, or where the display cannot be asked just now: what is known is no worse than before.
    ``more``: what else is kept with each change.
    """
    try:
        stands = standing(tuning, line)
    except FenvikError as problem:
        log.warning("controls not asked", tuning_id=tuning.pk, problem=str(problem))
        return []
    with transaction.atomic():
        locked = Tuning.objects.select_for_update(of=WHOLE).select_related("display__menu_map").get(pk=tuning.pk)
        values = values_of(locked)
        different = {name: stands[name] for name, known in values.now.items() if name in stands and stands[name] != known}
        if values.found is None or not different:
            return []
        made = record_changes(locked, values, different, actor=None, now=now, is_told=True, **more)
        notify(tuning.pk)
    return made

