"""Taking devices up from a directory, and finding them again."""

import ipaddress
import socket
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.link.connection import Connection
from fenvik.link.devices import Description, Directory
from fenvik.link.devices import Device as Linked
from fenvik.link.faults import DeviceError, LinkFault
from fenvik.web.devices.models import Device
from fenvik.web.people.models import Firm, User

DESCRIBE_S = 3.0


class AddressError(FenvikError):
    """An address that is none, or that lies outside the networks which the firm allows."""

    code = "address"


class WrongDeviceError(FenvikError):
    """Another device than the wanted one answers at an address."""

    code = "wrong_device"


@dataclass(frozen=True)
class Found:
    """What a directory gave: devices taken up, and sentences about those that did not answer."""

    devices: list[Device]
    problems: list[str]


def check_address(firm: Firm, host: str) -> str:
    """Return the IP address of a host that the firm's devices may have. Raises AddressError.

    Device addresses are a way into the local network, so the name is resolved once and the address is what is used.
    """
    try:
        address = str(socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)[0][4][0])
        place = ipaddress.ip_address(address)
    except (OSError, ValueError, UnicodeError, IndexError) as error:
        raise AddressError(f"{host[:80]} is no address that can be found. Write it as 127.0.0.1:7700.") from error
    if not any(place in ipaddress.ip_network(network) for network in firm.networks):
        raise AddressError(
            f"{host[:80]} is outside the networks that {firm.name} allows for devices. "
            "An owner of the firm can allow its network."
        )
    return address


def parse_address(text: str) -> tuple[str, int]:
    """Return host and port of ``host:port``. Raises AddressError."""
    host, _, port = text.strip().rpartition(":")
    if not host or not port.isdigit() or not 0 < int(port) < 65536:
        raise AddressError("An address is a host and a port, for example 127.0.0.1:7700.")
    return host.strip("[]"), int(port)


def _describe(host: str, port: int, who: str) -> Description:
    with Connection(host, port, who) as connection:
        return Linked(connection).describe()


def take_up(*, actor: User, address: str, now: datetime) -> Found:
    """Take up what answers at an address: a directory's meters, sources and displays, or one device by itself.

    Doing it again refreshes them. Raises AddressError, LinkFault or DeviceError when nothing there can be read.
    """
    host, port = parse_address(address)
    place = check_address(actor.firm, host)
    with Connection(place, port, "The directory or device") as connection:
        described = Linked(connection).describe()
        if described.role != "directory":
            name = f"{described.maker} {described.model}".strip() or described.serial
            return Found([_keep(actor, described, name, (place, port), None, now)], [])
        entries = Directory(connection).list()
    devices, problems = [], []
    for entry in entries:
        if entry.role == "directory":
            continue
        try:
            where = check_address(actor.firm, entry.host)
            described = _describe(where, entry.port, entry.name)
        except (AddressError, LinkFault, DeviceError) as problem:
            problems.append(str(problem))
            continue
        if described.serial != entry.serial or described.role != entry.role:
            problems.append(f"{entry.name}: the directory and the device disagree about what it is.")
            continue
        devices.append(_keep(actor, described, entry.name, (where, entry.port), (place, port), now))
    return Found(devices, problems)


def _keep(
    actor: User,
    described: Description,
    name: str,
    where: tuple[str, int],
    directory: tuple[str, int] | None,
    now: datetime,
) -> Device:
    """Keep a device as it was found; without a directory it is always looked for at the same address."""
    if not described.serial:
        raise AddressError(
            f"{name} tells no serial, so it could not be told from another one. Its bridge must give it one."
        )
    with transaction.atomic():
        device, _ = Device.objects.update_or_create(
            firm_id=actor.firm_id,
            serial=described.serial,
            defaults={
                "role": described.role, "name": name[:120], "host": where[0], "port": where[1],
                "directory_host": "" if directory is None else directory[0],
                "directory_port": None if directory is None else directory[1],
                "facts": described.facts, "seen_at": now, "removed_at": None,
            },
        )  # fmt: skip
    return device


def locate(device: Device) -> Connection:
    """Return a connection to a device, asking its directory where it is now. Raises LinkFault, DeviceError.

    A bridge may have been started again on another port; the serial says whether it is still the same device.
    """
    host, port = device.host, device.port
    if device.directory_host and device.directory_port:
        with Connection(device.directory_host, device.directory_port, "The directory") as connection:
            for entry in Directory(connection).list():
                if entry.serial == device.serial:
                    host, port = check_address(device.firm, entry.host), entry.port
                    break
            else:
                raise LinkFault("absent", device.name, connection.where)
    connection = Connection(host, port, device.name)
    described = Linked(connection).describe()
    if described.serial != device.serial:
        connection.close()
        raise WrongDeviceError(
            f"At {host}:{port} there is {described.maker} {described.model} {described.serial}, not {device.name} "
            f"{device.serial}. Look the devices up again under Instruments."
        )
    return connection
