"""A patch with how it is shown in a pass, and which part of the pass it belongs to."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from fenvik.core.signal.patches import Patch

# "beside": of the picture, but none of the levels that averages are made of, so that these do not hang on which lists were read.
Part = Literal["main", "beside", "drift", "window", "checkerboard", "uniformity", "stability", "survey", "comparison"]
OF_PICTURE: tuple[Part, ...] = ("main", "beside")


@dataclass(frozen=True)
class Shown:
    """A patch with how it is shown where that differs from the pass: window, place, a chart, or the meter moved."""

    patch: Patch
    part: Part = "main"
    window: float | None = None  # percent of the screen's area
    chart: dict[str, Any] | None = None  # name and options
    place: tuple[float, float] | None = None  # where the meter looks, in fractions of width and height
    hold: str = ""  # what the person is to do before it
    wait_s: float = 0.0  # from the reading before it to this one

    def as_row(self) -> dict[str, Any]:
        """Return what is stored of it."""
        row: dict[str, Any] = self.patch.as_json() | {"part": self.part}
        if self.window is not None:
            row["window"] = self.window
        if self.chart is not None:
            row["chart"] = self.chart
        if self.place is not None:
            row["place"] = list(self.place)
        if self.hold:
            row["hold"] = self.hold
        if self.wait_s:
            row["wait_s"] = self.wait_s
        return row


def plain(patches: Sequence[Patch]) -> list[Shown]:
    """Return patches that are shown as the pass shows them."""
    return [Shown(p) for p in patches]


def beside(patches: Sequence[Patch]) -> list[Shown]:
    """Return patches whose greys are none of the levels that averages are made of."""
    return [Shown(p, "beside" if p.is_grey else "main") for p in patches]
