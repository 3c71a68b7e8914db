"""What patterns are drawn on: an array of exact code values, and what a percentage of signal is in them."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fenvik.core.colour.space import BT709, BT2020, D65_XY, P3D65, Primaries, rgb_to_xyz_matrix
from fenvik.core.signal.decoding import Range, encode
from fenvik.core.types import Floats, Ints

Codes = NDArray[np.uint16]  # code values of up to 12 bits
BAND = 64  # rows
Box = tuple[float, float, float, float]  # left, top, right, bottom in fractions of the board


SPACES: dict[str, Primaries] = {"bt709": BT709, "p3d65": P3D65, "bt2020": BT2020}
# Whose colours patterns are drawn in, chosen once for all of them: an inner space and the container that it is sent in.
COLOURS = {
    "": "as they are sent", "bt709 in bt2020": "BT.709 inside BT.2020", "p3d65 in bt2020": "P3-D65 inside BT.2020",
    "bt709 in p3d65": "BT.709 inside P3-D65",
}  # fmt: skip
GAMMA = 2.4


def encoded(inner: Primaries, container: Primaries, colour: Floats, gamma: float = GAMMA) -> Floats:
    """Return signal percentages in a container of a colour of an inner space, both linear; clipped to 0 to 100.

    ``colour``: linear RGB of the inner space, shape (..., 3), D65 in both. Source: SMPTE RP 177.
    """
    to = np.linalg.inv(rgb_to_xyz_matrix(container, D65_XY)) @ rgb_to_xyz_matrix(inner, D65_XY)
    linear = np.clip(np.asarray(colour) @ to.T, 0.0, 1.0)
    result: Floats = 100.0 * linear ** (1.0 / gamma)
    return result


@dataclass(frozen=True)
class Signal:
    """The code values that a source sends; ``colours``: one of ``COLOURS``, whose colours percentages are meant in."""

    bits: int = 8
    range: Range = "full"
    colours: str = ""

    def code(self, percent: ArrayLike) -> Ints:
        """Return the nearest code values of percentages of signal, any shape, clamped to the bits. Greys are the same in all colours."""
        told = np.asarray(percent, dtype=np.float64)
        if self.colours and told.ndim and told.shape[-1] == 3:
            inner, _, container = self.colours.partition(" in ")
            within = encoded(SPACES[inner], SPACES[container], (np.clip(told, 0.0, 100.0) / 100.0) ** GAMMA)
            told = np.where(np.ptp(told, axis=-1, keepdims=True) < 1e-9, told, within)
        return encode(told, self.bits, self.range)

    @property
    def has_foot(self) -> bool:
        """Whether there are codes below video black and above video white."""
        return self.range == "limited"


class Board:
    """A picture of code values, shape (height, width, 3), black when made; everything is drawn on whole pixels."""

    def __init__(self, width: int, height: int, signal: Signal) -> None:
        self.width, self.height, self.signal = width, height, signal
        self.codes: Codes = np.empty((height, width, 3), dtype=np.uint16)  # a quarter of what int64 takes
        self.codes[:] = signal.code(0.0)

    def pixels(self, box: Box) -> tuple[int, int, int, int]:
        """Return a box of fractions as pixels: left, top, right, bottom; halves go up."""
        left, top, right, bottom = box
        return (
            int(left * self.width + 0.5), int(top * self.height + 0.5),
            int(right * self.width + 0.5), int(bottom * self.height + 0.5),
        )  # fmt: skip

    def view(self, box: Box) -> Codes:
        """Return the codes inside a box, to be written to."""
        left, top, right, bottom = self.pixels(box)
        return self.codes[top:bottom, left:right]

    def fill(self, box: Box, percent: ArrayLike) -> None:
        """Fill a box with one percentage of signal, or with three."""
        self.view(box)[:] = self.signal.code(np.broadcast_to(np.asarray(percent, dtype=np.float64), (3,)))

    def fill_all(self, percent: ArrayLike) -> None:
        """Fill the board."""
        self.fill((0, 0, 1, 1), percent)

    def paint(self, box: Box, percent: Floats) -> None:
        """Paint percentages of signal, shape (h, w) or (h, w, 3) or anything that broadcasts to the box's pixels."""
        view = self.view(box)
        percent = np.asarray(percent, dtype=np.float64)
        if percent.ndim == 2:
            percent = percent[..., None]
        if percent.shape[0] == 1:
            # Every row is the same: one is computed.
            view[:] = self.signal.code(percent)
            return
        for top in range(0, view.shape[0], BAND):
            rows = slice(top, top + BAND)
            view[rows] = self.signal.code(percent[rows])

    def shade(self, picture: Callable[[Floats, Floats], Floats]) -> None:
        """Paint the board with what a function makes of pixels: x of shape (1, width) and y of shape (h, 1), from the middle.

        It returns percentages of signal, shape (h, width) or (h, width, 3), and is asked for a band of rows at a time: floats of a
        whole picture take a hundred times what its codes do.
        """
        x, y = self.places()
        for top in range(0, self.height, BAND):
            rows = slice(top, top + BAND)
            percent = np.asarray(picture(x, y[rows]), dtype=np.float64)
            self.codes[rows] = self.signal.code(percent[..., None] if percent.ndim == 2 else percent)

    def across(self, box: Box) -> Floats:
        """Return how far along a box each of its columns is, 0 at the first and 1 at the last, shape (1, w)."""
        count = self.view(box).shape[1]
        return np.linspace(0.0, 1.0, count)[None, :]

    def down(self, box: Box) -> Floats:
        """Return how far down a box each of its rows is, 0 at the first and 1 at the last, shape (h, 1)."""
        count = self.view(box).shape[0]
        return np.linspace(0.0, 1.0, count)[:, None]

    def places(self) -> tuple[Floats, Floats]:
        """Return each pixel's distance from the middle in pixels, x of shape (1, width) and y of shape (height, 1)."""
        x = np.arange(self.width, dtype=np.float64)[None, :] - (self.width - 1) / 2
        y = np.arange(self.height, dtype=np.float64)[:, None] - (self.height - 1) / 2
        return x, y

    def line(self, axis: str, at: int, percent: ArrayLike, *, thick: int = 1, start: int = 0, end: int = -1) -> None:
        """Draw a line of whole pixels: a "column" or a "row", ``at`` that pixel, between two others."""
        colour = self.signal.code(np.broadcast_to(np.asarray(percent, dtype=np.float64), (3,)))
        if axis == "column":
            self.codes[start : end if end >= 0 else self.height, max(at, 0) : at + thick] = colour
        else:
            self.codes[max(at, 0) : at + thick, start : end if end >= 0 else self.width] = colour

    def frame(self, inset: float, percent: ArrayLike, thick: int = 1) -> None:
        """Draw a frame, ``inset`` a fraction of width and height away from every edge."""
        left, top, right, bottom = self.pixels((inset, inset, 1 - inset, 1 - inset))
        for at in (left, right - thick):
            self.line("column", at, percent, thick=thick, start=top, end=bottom)
        for at in (top, bottom - thick):
            self.line("row", at, percent, thick=thick, start=left, end=right)

    def disc(self, middle: tuple[float, float], radius: float, percent: ArrayLike, *, ring: float = 0.0) -> None:
        """Draw a disc, or a ring so thick, ``radius`` and ``ring`` in fractions of the height."""
        x = np.arange(self.width)[None, :] - middle[0] * (self.width - 1)
        y = np.arange(self.height)[:, None] - middle[1] * (self.height - 1)
        far = np.hypot(x, y)
        inside = far <= radius * self.height
        if ring:
            inside &= far > (radius - ring) * self.height
        self.codes[inside] = self.signal.code(np.broadcast_to(np.asarray(percent, dtype=np.float64), (3,)))
