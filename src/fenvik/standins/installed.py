"""What can be installed in a display: curves, a cube, a matrix, a tone; checked as the device link says, and applied."""

import base64
import binascii
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import scipy

from fenvik.core.colour import curves
from fenvik.core.types import Floats
from fenvik.standins.rpc import Refusal, is_number, wrong

WHATS = ("curves", "cube", "matrix", "tone", "panel")
MOST_KNEES = 3


@dataclass(frozen=True)
class Panel:
    """What a mapping believes of its panel: x, y of red, green, blue and white, shape (4, 2), peak and black in cd/m²."""

    xy: Floats
    peak: float
    black: float


@dataclass
class Installed:
    """What one mode has installed; None where it has not."""

    curves: Floats | None = None  # (3, size)
    cube: Floats | None = None  # (blue, green, red, 3)
    matrix: Floats | None = None  # (3, 3)
    tone: tuple[float, Floats] | None = None  # peak in cd/m², points (n, 2) of PQ signal in and out
    panel: "Panel | None" = None

    def put(self, what: str, data: object, able: dict[str, Any]) -> None:
        """Install something. Raises Refusal 8 for what the display does not take, −32602 for data of another shape."""
        if what not in able:
            raise Refusal(8, "This display takes nothing of the kind.", name=what[:80])
        if not isinstance(data, dict):
            raise wrong("data is an object.")
        made = {"curves": _curves, "cube": _cube, "matrix": _matrix, "tone": _tone, "panel": _panel}
        setattr(self, what, made[what](data, able[what]))

    def take_away(self, what: str, able: dict[str, Any]) -> None:
        """Take something away; nothing happens where it is not there. Raises Refusal 8."""
        if what not in able:
            raise Refusal(8, "This display takes nothing of the kind.", name=what[:80])
        setattr(self, what, None)

    def bent(self, v: Floats) -> Floats:
        """Return signal fractions (..., 3) after curves and cube."""
        if self.curves is not None:
            at = np.linspace(0.0, 1.0, self.curves.shape[1])
            v = np.stack([np.interp(v[..., i], at, self.curves[i]) for i in range(3)], axis=-1)
        if self.cube is not None:
            size = self.cube.shape[0]
            places = np.moveaxis(np.clip(v, 0.0, 1.0)[..., ::-1] * (size - 1), -1, 0)  # blue, green, red
            flat = places.reshape(3, -1)
            made = [scipy.ndimage.map_coordinates(self.cube[..., i], flat, order=1, mode="nearest") for i in range(3)]
            v = np.stack(made, axis=-1).reshape(v.shape)
        return v

    def toned(self, nits: Floats) -> Floats:
        """Return luminance in cd/m² after the tone: PQ signal in and out, and a clip at its peak."""
        if self.tone is None:
            return nits
        peak, knees = self.tone
        if len(knees):
            signal = curves.pq_inverse(nits)
            mapped = np.interp(signal, knees[:, 0], knees[:, 1])
            nits = curves.pq(np.where(signal <= knees[0, 0], signal, mapped))
        return np.minimum(nits, peak)


@dataclass
class Installs:
    """What is installed in each mode of a display."""

    by_mode: dict[str, Installed] = field(default_factory=dict)
    count: int = 0  # of changes

    def of(self, mode: str) -> Installed:
        """Return what a mode has."""
        return self.by_mode.setdefault(mode, Installed())


def _numbers(value: object, count: int, low: float, high: float, what: str) -> Floats:
    if not isinstance(value, list) or len(value) != count or not all(is_number(v) and low <= v <= high for v in value):
        raise wrong(f"{what} is {count} numbers from {low:g} to {high:g}.")
    return np.array(value, dtype=np.float64)


def _curves(data: dict[str, Any], able: dict[str, Any]) -> Floats:
    size = data.get("size")
    if size != able["size"] or isinstance(size, bool):
        raise wrong(f"Curves have {able['size']} entries.")
    return np.array([_numbers(data.get(name), able["size"], 0.0, 1.0, name) for name in "rgb"])


def _cube(data: dict[str, Any], able: dict[str, Any]) -> Floats:
    size, values = data.get("size"), data.get("values")
    if size not in able["sizes"] or isinstance(size, bool) or not isinstance(values, str):
        raise wrong(f"A cube has one of these sizes: {', '.join(map(str, able['sizes']))}.")
    try:
        raw = base64.b64decode(values, validate=True)
    except (binascii.Error, ValueError) as error:
        raise wrong("values is base64.") from error
    if len(raw) != size**3 * 3 * 4:
        raise wrong(f"A cube of {size} has {size**3 * 3} values of four bytes.")
    made = np.frombuffer(raw, dtype="<f4").astype(np.float64)
    if not (np.isfinite(made).all() and made.min() >= 0.0 and made.max() <= 1.0):
        raise wrong("A cube's values lie from 0 to 1.")
    return np.asarray(made.reshape(size, size, size, 3))  # red index fastest


def _matrix(data: dict[str, Any], _: object) -> Floats:
    rows = data.get("rows")
    if not isinstance(rows, list) or len(rows) != 3:
        raise wrong("A matrix has three rows.")
    return np.array([_numbers(row, 3, -4.0, 4.0, "A row") for row in rows])


def _tone(data: dict[str, Any], _: object) -> tuple[float, Floats]:
    peak, knee = data.get("peak"), data.get("knee", [])
    if not is_number(peak) or not 0 < peak <= 10_000:  # type: ignore[operator]
        raise wrong("peak is a luminance in cd/m², up to 10,000.")
    if not isinstance(knee, list) or len(knee) > MOST_KNEES:
        raise wrong("knee has at most three points.")
    points = np.array([_numbers(point, 2, 0.0, 1.0, "A point") for point in knee]).reshape(-1, 2)
    if len(points) > 1 and not (np.diff(points, axis=0) > 0).all():
        raise wrong("The points of a knee rise in both numbers.")
    return float(peak), points  # type: ignore[arg-type]


def _panel(data: dict[str, Any], _: object) -> Panel:
    xy = np.array([_numbers(data.get(name), 2, 0.0, 1.0, name) for name in ("red", "green", "blue", "white")])
    peak, black = data.get("peak"), data.get("black")
    if not is_number(peak) or not 1 <= peak <= 10_000:  # type: ignore[operator]
        raise wrong("peak is a luminance in cd/m², 1 to 10,000.")
    if not is_number(black) or not 0 <= black < 5:  # type: ignore[operator]
        raise wrong("black is a luminance in cd/m², below 5.")
    if (xy[:, 1] <= 0).any() or (xy.sum(axis=1) > 1).any():
        raise wrong("x and y of a colour lie within the diagram.")
    if abs(np.linalg.det(np.column_stack([xy[:3], np.ones(3)]))) < 0.01:
        raise wrong("Three primaries span no colours.")
    return Panel(xy, float(peak), float(black))  # type: ignore[arg-type]
