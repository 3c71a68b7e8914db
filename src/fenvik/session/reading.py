"""One reading of a meter, as it comes: how long it may take, what too dark means, and when two of them agree."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

from fenvik.core.measure.uncertainty import Repeatability
from fenvik.link.devices import READ_SLACK_S, MeterReading
from fenvik.link.faults import DeviceError

T = TypeVar("T")
UNKNOWN_S = 5.0  # what a meter is expected to take that says nothing of it
MOST_SETTLING = 8  # readings that a patch is given to settle
AGREE, LEAST_NOISE = 2.8, 0.0005  # two readings of the same light differ by less than 2.8 deviations of one, 95 times of 100


class Reads(Protocol):
    """A meter, linked or a person."""

    def read(self, *, effort: str | None, average: int, expected_s: float, slack_s: float) -> MeterReading:
        """Read the light."""
        ...


@dataclass(frozen=True)
class Seen:
    """XYZ in cd/m², uncorrected; zeros where it was too dark to read. ``seconds`` and ``clock`` are the meter's own."""

    xyz: tuple[float, float, float]
    too_dark: bool = False
    seconds: float = 0.0
    clock: float = 0.0


def expected_s(typical: Sequence[Any], average: int) -> float:
    """Return how long so many averages take at most, by a meter's own account: pairs of a luminance and seconds."""
    return max((float(seconds) for _, seconds in typical), default=UNKNOWN_S) * average


def read_once(
    meter: Reads, *, typical: Sequence[Any], average: int = 1, effort: str | None = None, slack_s: float = READ_SLACK_S
) -> Seen:
    """Read what is shown. Raises DeviceError, but for too dark, which is a result, and LinkFault."""
    try:
        got = meter.read(effort=effort or None, average=average, expected_s=expected_s(typical, average), slack_s=slack_s)
    except DeviceError as refusal:
        if refusal.number != DeviceError.TOO_DARK:
            raise
        return Seen((0.0, 0.0, 0.0), too_dark=True)
    return Seen(got.xyz, False, got.seconds, got.clock)


def until_two_agree(
    read: Callable[[], T], light: Callable[[T], float | None], repeatability: Repeatability, average: int
) -> T:
    """Read until two readings in a row agree within the meter's noise, as a display needs that settles at its own pace.

    ``light``: the luminance in cd/m² of what was read, None where nothing can be told of it, which ends it.
    """
    before = read()
    for _ in range(MOST_SETTLING):
        after = read()
        was, now = light(before), light(after)
        if was is None or now is None:
            return after
        noise = float(repeatability.at(now)[0]) / average**0.5
        if abs(now - was) <= AGREE * max(noise, LEAST_NOISE) * now:
            return after
        before = after
    return before
