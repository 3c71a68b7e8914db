"""The source and the meters of one pass: opened when they are wanted, let go of together, a person in the place of either."""

import time
from collections.abc import Callable
from typing import Any

from fenvik.link.devices import Meter, Source
from fenvik.session.reading import expected_s
from fenvik.web.devices.models import Device
from fenvik.web.devices.reaching import Line
from fenvik.web.devices.services import locate
from fenvik.web.kit.database import let_go
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import Pass, PassState
from fenvik.web.passes.person import KeyedMeter, KeyedSource, Person
from fenvik.web.passes.store import Asked, Store
from fenvik.web.passes.turns import Turn

NETWORKS_S = 1.0  # how often it is seen that the networks of open lines are still allowed
OVERDUE_S, LATE = 10.0, 2.0  # an answer is late after so long, or after so many times what the longest took that came


class Devices:
    """What a pass shows with and reads by. ``heed``: what is asked of the pass while an answer is waited for."""

    def __init__(self, pass_: Pass, store: Store, heed: Callable[[Asked], None]) -> None:
        self.pass_, self._store, self._heed = pass_, store, heed
        self._person = Person(store, heed)
        self._networks_seen = time.monotonic()
        self._turn: Turn | None = None  # whose turn it is: what a person is asked is asked for it
        self.meters: dict[str, Meter | KeyedMeter] = {}  # "meter" and, where a correction is made, "reference"
        self.source: Any = None
        self.longest_s: float | None = None  # that a reading of this meter took
        self.is_overdue = False  # whether it has been said that an answer is late

    def let_go(self) -> None:
        """Close the connections."""
        for device in (*self.meters.values(), self.source):
            if device is not None:
                device.close()
        self.meters, self.source = {}, None

    @property
    def lines(self) -> list[Any]:
        """The lines to devices that are open."""
        devices = [device for device in (*self.meters.values(), self.source) if device is not None]
        return [line for device in devices if isinstance(line := getattr(device, "connection", None), Line)]

    def open_source(self) -> bool:
        """Open the source and send the signal; return whether it was opened now. Raises LinkFault, DeviceError, AddressError."""
        if self.source is not None:
            return False
        self.source = self._source(self.pass_.source)
        return True

    def send_again(self) -> None:
        """Send the signal anew. Raises LinkFault, DeviceError, AddressError."""
        if self.source is not None:
            self.source.close()
        self.source = None
        self.open_source()

    def open_meter(self, turn: Turn | None) -> None:
        """Open the meter whose turn it is, and no other: while two change places one may be in its case."""
        self._turn = turn
        if turn is not None and turn.by not in self.meters:
            self.meters[turn.by] = self._meter(self.device_of(turn))

    def device_of(self, turn: Turn) -> Device:
        """Return the meter whose turn it is, as it is known."""
        is_reference = turn.by == "reference" and self.pass_.reference is not None
        device = self.pass_.reference if is_reference else self.pass_.meter
        assert device is not None
        return device

    def is_typed(self, turn: Turn) -> bool:
        """Whether a person types what the meter says."""
        return isinstance(self.meters[turn.by], KeyedMeter)

    @property
    def is_shown_by_hand(self) -> bool:
        """Whether a person shows the patches."""
        return isinstance(self.source, KeyedSource)

    def see_networks(self, lines: list[Any]) -> None:
        """Raise AddressError where a network has been withdrawn while a line into it is open."""
        if time.monotonic() < self._networks_seen + NETWORKS_S:
            return
        self._networks_seen = time.monotonic()
        for line in lines:
            line.see_that_it_may()
        let_go()

    def _ask(self, kind: str) -> dict[str, Any]:
        turn = self._turn
        assert turn is not None
        return self._person.asked(kind, turn.patch, index=turn.index, taken=turn.taken, by=turn.by)

    def _meter(self, device: Device) -> Meter | KeyedMeter:
        if device.is_keyed:
            return KeyedMeter(self._ask, device.name)
        line = locate(device, for_page=False)
        line.heed = lambda seconds: self._still_waits(device.name, seconds)
        return Meter(line)

    def _still_waits(self, name: str, seconds: float) -> None:
        """Hear while an answer is waited for whether a person stops the pass, and say it where the answer is late."""
        usual = self.longest_s or expected_s(self.pass_.meter_facts["typical"], self.pass_.average)
        asked, late = self._store.asked(), seconds > max(OVERDUE_S, LATE * usual)
        if asked.stop or late:
            self._heed(asked)
        if late and not self.is_overdue:
            self.is_overdue = True
            self._store.set_state(PassState.WAITING, f"{name} was asked {seconds:.0f} seconds ago and has not answered yet.")

    def _source(self, device: Device) -> Any:
        pass_ = self.pass_
        if device.is_keyed:
            return KeyedSource(self._ask, says_by_value=lambda: self._turn is not None and self.is_typed(self._turn))
        for fact, made in kinds.sources.items():
            if device.facts.get(fact) is not None:
                return made(device)
        source = Source(locate(device, for_page=False))
        rate = pass_.frame_rate or (device.facts.get("frame_rates") or [60])[-1]
        source.signal(
            format_=pass_.signal_format, colorimetry=pass_.colorimetry, bits=pass_.bits, range_=pass_.range, frame_rate=rate,
            mastering=pass_.mastering,
        )  # fmt: skip
        return source
