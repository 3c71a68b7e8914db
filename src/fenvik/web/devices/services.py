"""Taking devices up from a directory, and finding them again."""

import time
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import IntegrityError, transaction

from fenvik.core.errors import FenvikError
from fenvik.core.signal.patterns import PATTERNS
from fenvik.link.connection import Connection
from fenvik.link.devices import USED, Description, Directory, Entry
from fenvik.link.devices import Device as Linked
from fenvik.link.faults import DeviceError, LinkFault
from fenvik.web.devices.models import Device
from fenvik.web.devices.reaching import AddressError, Line, check_address, parse_address, see_entry, waiting
from fenvik.web.kit.database import let_go
from fenvik.web.people.models import Firm, User
from fenvik.web.people.policy import Right, needs

SIDE_BY_SIDE, ALL_S = 16, 10.0  # of a directory's entries, and how long all of them may take together


class WrongDeviceError(FenvikError):
    """Another device than the wanted one answers at an address."""

    code = "wrong_device"


@dataclass(frozen=True)
class Found:
    """What a directory gave: devices taken up, and sentences about those that did not answer."""

    devices: list[Device]
    problems: list[str]


def _describe(firm: Firm, directory: str, entry: Entry) -> tuple[str, Description]:
    """Ask an entry of a directory what it is; runs beside others, and asks nothing of the database."""
    where = see_entry(firm, directory, entry.host, entry.port)
    with Connection(where, entry.port, entry.name) as connection:
        return where, Linked(connection).describe()


@needs(Right.MEASURE, "looked for devices")
def take_up(*, actor: User, address: str, now: datetime) -> Found:
    """Take up what answers at an address: a directory's meters, sources and displays, or one device by itself.

    Doing it again refreshes them. Raises AddressError, LinkFault or DeviceError when nothing there can be read.
    """
    firm = Firm.objects.get(pk=actor.firm_id)
    host, port = parse_address(address)
    place = check_address(firm, host)
    with Line(firm.pk, place, port, "The directory or device") as connection:
        described = Linked(connection).describe()
        if described.role != "directory":
            name = f"{described.maker} {described.model}".strip() or described.serial
            if described.role not in USED:
                raise AddressError(_of_no_use(name, described.role))
            return Found([_keep(actor, described, name, (place, port), None, now)], [])
        listed = [entry for entry in Directory(connection).list() if entry.role != "directory"]
    devices, problems = [], [_of_no_use(entry.name, entry.role) for entry in listed if entry.role not in USED]
    entries = [entry for entry in listed if entry.role in USED]
    for entry, told in zip(entries, _ask_all(firm, place, entries), strict=True):
        if isinstance(told, str):
            problems.append(told)
            continue
        where, described = told
        if described.serial != entry.serial or described.role != entry.role:
            problems.append(f"{entry.name}: the directory and the device disagree about what it is.")
            continue
        try:
            devices.append(_keep(actor, described, entry.name, (where, entry.port), (place, port), now))
        except AddressError as problem:
            problems.append(str(problem))
    return Found(devices, problems)


def _of_no_use(name: str, role: str) -> str:
    """Return what there is to say of a device that is neither meter, source nor display."""
    if role == "processor":
        return f"{name} is a processor. Fenvik does not set it: what it makes of the picture is read with the display behind it."
    return f"{name} says that it is “{role}”. Fenvik uses meters, sources and displays."


def _ask_all(firm: Firm, directory: str, entries: list[Entry]) -> list[tuple[str, Description] | str]:
    """Return what each entry says it is, or a sentence why it does not; all are asked side by side, for so long together."""
    let_go()
    with waiting.one_of(firm.pk):
        pool = ThreadPoolExecutor(SIDE_BY_SIDE)
        end = time.monotonic() + ALL_S
        asked = [pool.submit(_describe, firm, directory, entry) for entry in entries]
        wait(asked, timeout=max(end - time.monotonic(), 0.0))
        pool.shutdown(wait=False, cancel_futures=True)
    told: list[tuple[str, Description] | str] = []
    for entry, one in zip(entries, asked, strict=True):
        if not one.done() or one.cancelled():
            told.append(f"{entry.name} did not answer within {ALL_S:.0f} s, as others did not. Look for it again.")
            continue
        try:
            told.append(one.result())
        except (AddressError, LinkFault, DeviceError) as problem:
            told.append(str(problem))
    return told


def facts_of(described: Description) -> dict[str, Any]:
    """Return what is kept of what a device says of itself: of a source's charts those that Fenvik asks for, and how many it has.

    A library of thousands would be read again with every page of a stop.
    """
    facts = described.facts
    if "charts" not in facts:
        return facts
    return facts | {"charts": [name for name in facts["charts"] if name in PATTERNS], "charts_in_all": len(facts["charts"])}


def _keep(
    actor: User,
    described: Description,
    name: str,
    where: tuple[str, int],
    directory: tuple[str, int] | None,
    now: datetime,
) -> Device:
    """Keep a device as it was found; without a directory it is always looked for at the same address.

    It is called what it was called when it was first found, or what a person calls it since. A second one of a name is told by its
    serial: wherever a meter is chosen or named in a file, there is nothing else to tell the two by.
    """
    if not described.serial:
        raise AddressError(
            f"{name} tells no serial, so it could not be told from another one. Its bridge must give it one."
        )
    facts: dict[str, Any] = {
        "role": described.role, "host": where[0], "port": where[1],
        "directory_host": "" if directory is None else directory[0],
        "directory_port": None if directory is None else directory[1],
        "facts": facts_of(described), "seen_at": now, "removed_at": None,
    }  # fmt: skip
    key: dict[str, Any] = {"firm_id": actor.firm_id, "serial": described.serial}
    called, longest = name, Device._meta.get_field("name").max_length
    alike = Device.objects.of_firm(actor.firm_id).filter(role=described.role, name=name[:longest], removed_at=None)
    if alike.exclude(serial=described.serial).exists():
        called = f"{name} {described.serial}"
    first = facts | {"name": called[:longest]}
    try:
        with transaction.atomic():
            return Device.objects.update_or_create(**key, defaults=facts, create_defaults=first)[0]
    except IntegrityError:
        # Two looked at the same moment: the other one has it, and this one refreshes it.
        with transaction.atomic():
            return Device.objects.update_or_create(**key, defaults=facts, create_defaults=first)[0]


def locate(device: Device, *, for_page: bool = True) -> Line:
    """Return a connection to a device, asking its directory where it is now. Raises LinkFault, DeviceError, AddressError.

    A bridge may have been started again on another port; the serial says whether it is still the same device.
    """
    host, port = device.host, device.port
    if device.directory_host and device.directory_port:
        directory = Line(device.firm_id, device.directory_host, device.directory_port, "The directory", for_page=for_page)
        with directory as connection:
            for entry in Directory(connection).list():
                if entry.serial == device.serial:
                    host, port = see_entry(device.firm, device.directory_host, entry.host, entry.port), entry.port
                    break
            else:
                raise LinkFault("absent", device.name, connection.where)
    line = Line(device.firm_id, host, port, device.name, for_page=for_page)
    try:
        described = Linked(line).describe()
    except (FenvikError, OSError):
        line.close()
        raise
    if described.serial != device.serial:
        line.close()
        raise WrongDeviceError(
            f"At {host}:{port} there is {described.maker} {described.model} {described.serial}, not {device.name} "
            f"{device.serial}. Look the devices up again under Instruments."
        )
    return line


@needs(Right.MEASURE, "renamed a device")
def rename(*, device_id: int, actor: User, name: str) -> None:
    """Give a device another name; what was read with it before keeps the old one."""
    Device.objects.of_firm(actor.firm_id).filter(pk=device_id).update(name=name[:120])


@needs(Right.MEASURE, "took a device out")
def remove(*, device_id: int, actor: User, now: datetime) -> None:
    """Offer a device no longer; what was read with it stays, and found again it is back."""
    Device.objects.of_firm(actor.firm_id).filter(pk=device_id).update(removed_at=now)
