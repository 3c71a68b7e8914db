"""Where devices may be reached, and lines to them that take nothing from anybody else while they wait."""

import ipaddress
import socket
import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.conf import settings

from fenvik.core.errors import FenvikError
from fenvik.formats.numbers import whole
from fenvik.link.connection import DEADLINE_S, Connection
from fenvik.web.kit.database import let_go
from fenvik.web.people.models import Firm

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address
# Networks in which devices of a house or a workshop are. Anything else is somebody else's, or no place where a device could be:
# link-local ranges hold the services of whoever rents the machine out.
PRIVATE = [
    ipaddress.ip_network(text)
    for text in ("127.0.0.0/8", "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "::1/128", "fc00::/7")
]
MOST_AT_ONCE = 8  # calls of one firm's pages that wait for devices at the same time, in one process


class AddressError(FenvikError):
    """An address that is none, or that lies outside the networks which the firm allows."""

    code = "address"


class ManyWaitingError(FenvikError):
    """A firm's pages wait for as many devices as they may."""

    code = "many_waiting"

    def __init__(self) -> None:
        super().__init__("Fenvik is waiting for several of your devices already. Try again when they have answered.")


def network(text: str) -> Network:
    """Return a network in which devices may be. Raises ValueError where it is none, or not a private one."""
    made = ipaddress.ip_network(text, strict=False)
    if not any(made.version == each.version and made.subnet_of(each) for each in PRIVATE):  # type: ignore[arg-type]
        raise ValueError(f"{made} is not a private network")
    return made


def _inside(networks: list[str], place: Address) -> bool:
    for text in networks:
        try:
            if place in network(text):
                return True
        except ValueError:
            continue  # allowed before it was known that it may not be
    return False


def check_address(firm: Firm, host: str) -> str:
    """Return the IP address of a host that the firm's devices may have. Raises AddressError.

    Device addresses are a way into the local network, so the name is resolved once and the address is what is used.
    """
    try:
        address = str(socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)[0][4][0])
        place = ipaddress.ip_address(address)
    except (OSError, ValueError, UnicodeError, IndexError) as error:
        raise AddressError(f"{host[:80]} is no address that can be found. Write it as 127.0.0.1:7700.") from error
    if not _inside(firm.networks, place):
        raise AddressError(
            f"{host[:80]} is outside the networks that {firm.name} allows for devices. "
            "An owner of the firm can allow its network."
        )
    return address


def parse_address(text: str) -> tuple[str, int]:
    """Return host and port of ``host:port``. Raises AddressError."""
    host, _, port = text.strip().rpartition(":")
    number = whole(port, 1, 65535)
    if not host or number is None:
        raise AddressError("An address is a host and a port, for example 127.0.0.1:7700.")
    return host.strip("[]"), number


def is_own_machine(address: str) -> bool:
    """Whether an address is one of the machine that Fenvik runs on."""
    place = ipaddress.ip_address(address)
    if place.is_loopback:
        return True
    try:
        own = {str(row[4][0]) for row in socket.getaddrinfo(socket.gethostname(), None)}
    except OSError:
        return False
    return str(place) in own


def see_entry(firm: Firm, directory: str, host: str, port: int) -> str:
    """Return the IP address of what a directory names. Raises AddressError.

    A directory elsewhere must not make this machine talk to itself, and nobody makes it talk to its own database.
    """
    address = check_address(firm, host)
    database = settings.DATABASES["default"]
    own = is_own_machine(address)
    if (own and not is_own_machine(directory)) or (own and port == int(str(database["PORT"]))):
        where = f"{host[:80]}:{port}"
        raise AddressError(f"The directory names {where}, which is a place on Fenvik’s own machine; it was not looked at.")
    return address


class _Waiting:
    """How many calls of each firm's pages wait in this process."""

    def __init__(self) -> None:
        self._lock, self._count = threading.Lock(), Counter[int]()

    @contextmanager
    def one_of(self, firm_id: int) -> Iterator[None]:
        """Count one while the block runs. Raises ManyWaitingError."""
        with self._lock:
            if self._count[firm_id] >= MOST_AT_ONCE:
                raise ManyWaitingError
            self._count[firm_id] += 1
        try:
            yield
        finally:
            with self._lock:
                self._count[firm_id] -= 1
                if not self._count[firm_id]:
                    del self._count[firm_id]


waiting = _Waiting()


class Line(Connection):
    """A connection to a device of a firm: its network is asked at each connecting, and no database connection is held meanwhile.

    ``for_page``: a page waits for it, of which a firm has only so many; passes have a worker's own limits.
    """

    def __init__(self, firm_id: int, host: str, port: int, who: str, *, for_page: bool = True) -> None:
        super().__init__(host, port, who)
        self.firm_id, self.for_page = firm_id, for_page

    def see_that_it_may(self) -> None:
        """Raise AddressError where the firm does not allow this address (any more)."""
        check_address(Firm.objects.only("name", "networks").get(pk=self.firm_id), self.host)

    def reach(self, seconds: float) -> socket.socket:
        """Return a socket to the device. Raises OSError, AddressError."""
        self.see_that_it_may()
        let_go()
        return super().reach(seconds)

    def call(self, method: str, params: dict[str, Any] | None = None, deadline_s: float = DEADLINE_S) -> Any:
        """Return the result of a call; raises what a connection's own call raises, and ManyWaitingError."""
        let_go()
        if not self.for_page:
            return super().call(method, params, deadline_s)
        with waiting.one_of(self.firm_id):
            return super().call(method, params, deadline_s)
