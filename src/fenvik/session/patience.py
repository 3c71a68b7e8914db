"""What passes by itself, and for how long it is waited for."""

import time
from dataclasses import dataclass

from fenvik.core.errors import FenvikError
from fenvik.link.faults import DeviceError, LinkFault


def passes_by_itself(problem: FenvikError, *others: type[FenvikError]) -> bool:
    """Whether a device may be back by itself: its line failed, it is busy, or it is one of ``others``."""
    if isinstance(problem, DeviceError):
        return problem.number in DeviceError.PASSING
    return isinstance(problem, (LinkFault, *others))


@dataclass
class Patience:
    """Counted from the last thing that came through: a device that can be reached but does nothing is not back.

    ``seconds``: how long; ``since``: when things began to fail, by this machine's monotonic clock, None while nothing does.
    """

    seconds: float
    since: float | None = None

    def failed(self) -> None:
        """Count from now, unless it is counted already."""
        self.since = time.monotonic() if self.since is None else self.since

    def came_through(self) -> bool:
        """Begin anew; return whether anything had failed before."""
        failed, self.since = self.since is not None, None
        return failed

    @property
    def is_over(self) -> bool:
        """Whether it has been waited for long enough."""
        return self.since is not None and time.monotonic() - self.since > self.seconds
