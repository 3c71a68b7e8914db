"""What the simulated devices have in common: time, the cable between source and displays, the room."""

import asyncio
import math
import time
from dataclasses import dataclass, field

from fenvik.core.types import Ints


@dataclass
class Signal:
    """What a source says about its pictures."""

    format: str = "sdr"
    colorimetry: str = "bt709"
    bits: int = 8
    range: str = "limited"
    frame_rate: float = 60.0


@dataclass
class Picture:
    """What is on the cable: a patch in a surround, or a chart that the source drew as code values (height, width, 3)."""

    rgb: tuple[int, int, int] = (16, 16, 16)
    window: float = 100.0
    surround: tuple[int, int, int] = (16, 16, 16)
    at: tuple[float, float] = (0.5, 0.5)
    chart: str = ""
    codes: Ints | None = None
    moving: dict[str, object] | None = None
    frame: tuple[float, float, float] | None = None  # dynamic metadata: least, average and most of it in PQ signal

    def covers(self, place: tuple[float, float]) -> bool:
        """Whether the window covers a place of the screen; it has the screen's own shape."""
        side = math.sqrt(self.window / 100.0)
        return all(abs(p - self.middle(a, side)) <= side / 2 for p, a in zip(place, self.at, strict=True))

    def seen_at(self, place: tuple[float, float]) -> tuple[int, int, int]:
        """Return the code values at a place, in fractions of width and height."""
        if self.codes is None:
            return self.rgb if self.covers(place) else self.surround
        height, width, _ = self.codes.shape
        red, green, blue = self.codes[min(int(place[1] * height), height - 1), min(int(place[0] * width), width - 1)]
        return int(red), int(green), int(blue)

    @staticmethod
    def middle(at: float, side: float) -> float:
        """Return the centre along one axis: a window that would run over the edge is moved in."""
        return min(max(at, side / 2), 1 - side / 2)


@dataclass
class World:
    """Time and the cable. ``haste`` divides integration times; the simulated clock stays true to the instruments.

    The source's picture reaches every display; the instruments stand in front of one, ``front`` by its serial.
    """

    haste: float = 1.0
    signal: Signal = field(default_factory=Signal)
    picture: Picture = field(default_factory=Picture)
    room_lux: float = 0.0
    front: str = ""
    stand: dict[str, tuple[float, float]] = field(default_factory=dict)  # where a meter has been put, the middle unless said
    aim: dict[str, tuple[float, float]] = field(default_factory=dict)  # by a meter's serial, in fractions of the screen
    _started: float = field(default_factory=time.monotonic)
    _skipped: float = 0.0

    def now(self) -> float:
        """Simulated seconds since the start: real ones, and those that haste left out."""
        return time.monotonic() - self._started + self._skipped

    async def spend(self, seconds: float) -> None:
        """Let so many simulated seconds pass."""
        real = seconds / self.haste
        if real > 0:
            await asyncio.sleep(real)
        self._skipped += seconds - real
