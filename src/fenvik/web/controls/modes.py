"""The modes that a display says it has; whatever is of one of them follows it where the display has given it another id."""

import structlog
from django.db import transaction

from fenvik.link.display import LinkedDisplay, PictureMode, modes_moved
from fenvik.web.clients.models import Display
from fenvik.web.controls.models import Installed
from fenvik.web.devices.standing import said_modes
from fenvik.web.kit.notify import notify
from fenvik.web.visits.models import Tuning

log = structlog.get_logger(__name__)


def hear_modes(display: Display, line: LinkedDisplay) -> tuple[list[PictureMode], dict[str, str]]:
    """Ask a display for its modes and keep them; return them, and the new ids of those that have another one than before.

    A display that has been renewed may count its modes anew: its tunings, and what is installed in it, are of the same modes as
    before, and nothing is to be set in another one. ``display`` is told the same. Raises what the line raises.
    """
    modes = line.modes()
    with transaction.atomic():
        kept = Display.objects.select_for_update(of=("self",)).get(pk=display.pk)
        before = said_modes(kept.said)
        if before == modes:
            return modes, {}
        kept.said = (kept.said or {}) | {"modes": [{"id": m.id, "label": m.label, "signals": list(m.signals)} for m in modes]}
        kept.save(update_fields=["said"])
        display.said = kept.said
        moved = modes_moved(before, modes)
        if moved:
            _follow(display, moved)
    return modes, moved


def _follow(display: Display, moved: dict[str, str]) -> None:
    log.warning("modes have other ids", display=display.pk, moved=moved)
    # Row by row: two modes may have changed places.
    for tuning in Tuning.objects.select_for_update(of=("self",)).filter(display=display, mode_id__in=moved):
        Tuning.objects.filter(pk=tuning.pk).update(mode_id=moved[tuning.mode_id])
        notify(tuning.pk)
    for row in Installed.objects.filter(display=display, mode__in=moved):
        Installed.objects.filter(pk=row.pk).update(mode=moved[row.mode])
