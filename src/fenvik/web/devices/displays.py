"""Displays with a network control: pairing, what they show now, and reading their menus."""

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import datetime
from typing import Any

import structlog
from django.core.exceptions import ObjectDoesNotExist
from django.db import transaction
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.link.display import LinkedDisplay, PictureMode
from fenvik.link.faults import DeviceError
from fenvik.web.clients.models import Display
from fenvik.web.devices.models import Device, DeviceRole, Pairing
from fenvik.web.devices.services import locate
from fenvik.web.kit.database import let_go
from fenvik.web.kit.notify import notify
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

log = structlog.get_logger(__name__)
LOOKERS, MOST_ASKED = 4, 64  # threads that ask displays for pages, and displays that wait for one of them


class NotLinkedError(FenvikError):
    """The display has no network control that Fenvik knows."""

    code = "not_linked"


class NotPairedError(FenvikError):
    """The display does not know Fenvik, or no longer does."""

    code = "not_paired"


def link_of(display: Display) -> Device | None:
    """Return the network control of a display: the one that was chosen, else the one with its serial."""
    if display.link_id:
        return display.link
    if not display.serial:
        return None
    firm_id = display.room.client.firm_id
    return Device.objects.of_firm(firm_id).filter(role=DeviceRole.DISPLAY, serial=display.serial).first()


@contextmanager
def _line(display: Display, for_page: bool = True) -> Iterator[LinkedDisplay]:
    device = link_of(display)
    if device is None:
        raise NotLinkedError(
            f"{display.name} is not among the devices that were found. Look for it under Instruments, or type its settings."
        )
    with locate(device, for_page=for_page) as connection:
        yield LinkedDisplay(connection, getattr(getattr(device, "pairing", None), "token", ""))


@contextmanager
def paired(display: Display, *, for_page: bool = True) -> Iterator[LinkedDisplay]:
    """Give a line to a display that is paired. Raises NotLinkedError, NotPairedError, LinkFault, DeviceError."""
    try:
        with _line(display, for_page) as line:
            if not line.token:
                raise NotPairedError(f"{display.name} has not been paired yet: let it show its code and type it here.")
            yield line
    except DeviceError as refusal:
        if refusal.number == DeviceError.NOT_PAIRED:
            Pairing.objects.filter(device=link_of(display)).delete()
            raise NotPairedError(
                f"{display.name} no longer knows Fenvik: the pairing was withdrawn. Pair it again."
            ) from refusal
        raise


def show_code(display: Display) -> None:
    """Let the display show its code. Raises NotLinkedError, LinkFault, DeviceError."""
    with _line(display) as line:
        line.show_code()


@needs(Right.MEASURE, "paired a display")
def answer_code(*, display: Display, code: str, actor: User, now: datetime) -> Pairing:
    """Answer the code on the display's screen and keep what it gives. Raises DeviceError for a wrong one."""
    with _line(display) as line:
        try:
            token = line.answer_code(code.strip())
        except DeviceError as refusal:
            if refusal.number == DeviceError.WRONG_CODE:
                left = refusal.data.get("left")
                more = _tries(left) if isinstance(left, int) and left > 0 else " Let it show a new one."
                raise NotPairedError(f"That is not the code on the screen.{more}") from refusal
            raise
    with transaction.atomic():
        device = link_of(display)
        kept, _ = Pairing.objects.update_or_create(device=device, defaults={"token": token, "at": now, "by": actor})
        if display.link_id is None:
            display.link = device
            display.save(update_fields=["link"])
    return kept


def _tries(left: int) -> str:
    return " One try is left." if left == 1 else f" {left} tries are left."


_looking: set[int] = set()  # displays that are being asked by this process


def look(*, tuning: Tuning, now: datetime) -> dict[str, Any]:
    """Ask the tuning's display what it shows, and remember it. Raises what ``paired`` raises.

    Where another page is asking it already, that one's answer comes to all pages: what is known so far is returned at once.
    """
    display = tuning.display
    if display.pk in _looking:
        return display.said or {}
    _looking.add(display.pk)
    try:
        return _look(tuning, display, now)
    finally:
        _looking.discard(display.pk)


_later = ThreadPoolExecutor(LOOKERS, thread_name_prefix="look")
_asked: set[int] = set()  # displays that will be asked


def look_later(tuning: Tuning) -> None:
    """Ask a display what it shows, without whoever wants to know waiting for it; what goes wrong is no news."""
    pk = tuning.display_id
    if pk in _asked or pk in _looking or len(_asked) >= MOST_ASKED:
        return
    _asked.add(pk)
    _later.submit(_look_alone, tuning.pk, pk)


def _look_alone(tuning_id: int, display_id: int) -> None:
    try:
        related = "display__room__client", "display__link__pairing", "display__menu_map"
        tuning = Tuning.objects.select_related(*related).get(pk=tuning_id)
        look(tuning=tuning, now=timezone.now())
    except (FenvikError, ObjectDoesNotExist):
        pass
    except Exception:
        log.exception("a look at a display failed")
    finally:
        _asked.discard(display_id)
        let_go()


def _look(tuning: Tuning, display: Display, now: datetime) -> dict[str, Any]:
    with paired(display) as line:
        state = line.state()
        modes = (display.said or {}).get("modes") or [
            {"id": m.id, "label": m.label, "signals": list(m.signals)} for m in line.modes()
        ]
    said = {
        "mode": state.mode, "signal": state.signal, "input": state.input, "on_minutes": state.on_minutes,
        "notices": list(state.notices), "at": now.isoformat(), "modes": modes,
    }  # fmt: skip
    with transaction.atomic():
        # Its modes may have been heard anew meanwhile, and tunings have followed them: what was known before must not come back.
        before = Display.objects.select_for_update(of=("self",)).get(pk=display.pk).said or {}
        said["modes"] = before.get("modes") or modes
        Display.objects.filter(pk=display.pk).update(said=said)
    display.said = said
    # Pages look every few seconds: only what a person would notice is told to all of them.
    told = ("mode", "signal", "input", "notices")
    if [before.get(k) for k in told] != [said[k] for k in told] or int(before.get("on_minutes") or -1) != int(
        state.on_minutes
    ):
        notify(tuning.pk)
    return said


def modes_of(display: Display) -> list[PictureMode]:
    """Return the picture modes that the display says it has."""
    with paired(display) as line:
        return line.modes()
