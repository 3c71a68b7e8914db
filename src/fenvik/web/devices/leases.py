"""One holder a device: who reads with a meter, shows on a source or sets a display, and who has to wait for them."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db import connection, transaction
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.web.clients.models import Display
from fenvik.web.devices.models import Device, Lease
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning

A_STEP = timedelta(seconds=45)  # longer than any one setting takes, its line's patience included
THERE_IS = """
INSERT INTO devices_lease (firm_id, device_id, display_id, epoch, alone) VALUES (%s, %s, %s, 0, false) ON CONFLICT DO NOTHING
"""


class HeldError(FenvikError):
    """Somebody or something else uses a device, or the display, at this moment. ``pass_`` is what holds it, where a pass does."""

    code = "held"

    def __init__(self, words: str, pass_: Any = None) -> None:
        super().__init__(words)
        self.pass_ = pass_


class EndedError(FenvikError):
    """A hold that somebody else has taken over meanwhile."""

    code = "lease_ended"

    def __init__(self) -> None:
        super().__init__("Somebody else sets this display by now. What was set until then is logged; look at it as it stands.")


def _row(firm_id: int, device: Device | None, display: Display | None) -> Lease:
    """Return the lease of a thing, locked; it is made where there is none."""
    with connection.cursor() as cursor:
        cursor.execute(THERE_IS, [firm_id, getattr(device, "pk", None), getattr(display, "pk", None)])
    rows = Lease.objects.select_for_update(of=("self",)).select_related("pass_of__tuning", "person")
    return rows.get(device=device) if device is not None else rows.get(display=display)


def _see_free_of_persons(lease: Lease, what: str, but: User | None = None) -> None:
    if lease.person is None or lease.until is None or lease.until <= timezone.now() or lease.person == but:
        return
    who = lease.person.first_name or lease.person.username
    raise HeldError(f"{who} is setting controls of {what} over the link at this moment. Wait until they are in; nothing was done.")


def take_for_pass(pass_: Any, tuning: Tuning, devices: Sequence[Device], *, alone: bool) -> None:
    """Let a pass that is about to start hold its devices and its tuning's display, within its own transaction.

    ``alone``: nobody may set the display while it is open. Raises HeldError.
    """
    firm_id = tuning.visit.firm_id
    # In one order, so that two that start at once cannot wait for each other.
    for device in sorted({device.pk: device for device in devices}.values(), key=lambda one: one.pk):
        lease = _row(firm_id, device, None)
        if lease.pass_of is not None and lease.pass_of != pass_ and lease.pass_of.is_open:
            raise HeldError(f"{device.name} is in use by a pass of {lease.pass_of.tuning.name}.", lease.pass_of)
        lease.pass_of, lease.alone, lease.epoch = pass_, True, lease.epoch + 1
        lease.save(update_fields=["pass_of", "alone", "epoch"])
    lease = _row(firm_id, None, tuning.display)
    if lease.pass_of is not None and lease.pass_of != pass_ and lease.pass_of.is_open:
        raise HeldError(f"A pass of {lease.pass_of.tuning.name} is going on on {tuning.display.name}.", lease.pass_of)
    _see_free_of_persons(lease, tuning.display.name)
    lease.pass_of, lease.alone, lease.epoch = pass_, alone, lease.epoch + 1
    lease.save(update_fields=["pass_of", "alone", "epoch"])


def see_free(tuning: Tuning, *, by_hand: bool = False, mends: bool = False) -> None:
    """Raise HeldError where a display must not be touched now.

    ``by_hand``: with its own remote, which a run alone forbids; ``mends``: for the pass that waits for just this.
    """
    lease = Lease.objects.filter(display=tuning.display_id).select_related("pass_of__tuning").first()
    if lease is not None:
        _see_free_of_passes(lease, tuning, by_hand=by_hand, mends=mends)


def _see_free_of_passes(lease: Lease, tuning: Tuning, *, by_hand: bool = False, mends: bool = False) -> None:
    holder = lease.pass_of
    if holder is None or not holder.is_open:
        return
    if holder.purpose == "hands-free" and lease.alone and not mends:  # one that leads a person's hand is not alone
        raise HeldError("A hands-free run sets this display. Stop it first; nothing was done.", holder)
    # What waits for its person may be set right by them.
    if by_hand or (holder.tuning_id == tuning.pk and holder.state == "paused"):
        return
    if holder.tuning_id != tuning.pk:
        raise HeldError(f"A pass of {holder.tuning.name} is going on on this display. Stop it first; nothing was set.", holder)
    if lease.alone:
        raise HeldError("The display is being read. Stop the pass or let it end before anything is set; nothing was set.", holder)


def is_being_set(display_id: int) -> bool:
    """Whether a person has the display set over its link just now."""
    return Lease.objects.filter(display=display_id, person__isnull=False, until__gt=timezone.now()).exists()


@dataclass
class Hold:
    """A person's hold of a display while its controls are set."""

    lease_id: int
    epoch: int

    def go_on(self) -> None:
        """Hold it for another step, inside a transaction. Raises EndedError where somebody else has it by now."""
        lease = Lease.objects.select_for_update(of=("self",)).select_related("pass_of").get(pk=self.lease_id)
        if lease.epoch != self.epoch:
            raise EndedError
        lease.until = timezone.now() + A_STEP
        lease.save(update_fields=["until"])


@contextmanager
def hold(tuning: Tuning, actor: User) -> Iterator[Hold]:
    """Hold a tuning's display while its controls are set over the link. Raises HeldError."""
    with transaction.atomic():
        lease = _row(actor.firm_id, None, tuning.display)
        _see_free_of_passes(lease, tuning)
        _see_free_of_persons(lease, tuning.display.name)
        lease.person, lease.until, lease.epoch = actor, timezone.now() + A_STEP, lease.epoch + 1
        lease.save(update_fields=["person", "until", "epoch"])
    try:
        yield Hold(lease.pk, lease.epoch)
    finally:
        Lease.objects.filter(pk=lease.pk, epoch=lease.epoch).update(person=None, until=None)
