"""The white of a tuning as a value made of parts: what a standard says, and what is added to it or taken out, by whom and why."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from fenvik.core.colour.space import D65_XY, XY, uv_to_xyz, xy_to_uv, xyz_to_xy

MOST = 0.06  # of u′v′: more is no offset of a white
KINDS = {
    "display": "to look like another display", "client": "the client’s choice", "shift": "the mode’s shift taken out",
}  # fmt: skip
SIGN = {"display": 1.0, "client": 1.0, "shift": -1.0}  # what a mode adds by itself is taken off what is aimed at


@dataclass(frozen=True)
class WhitePart:
    """One part: ``du``, ``dv`` in u′v′ as it was told, ``why`` in words, who said so and on which day."""

    kind: str
    du: float
    dv: float
    why: str
    by: str = ""
    on: str = ""

    @property
    def adds(self) -> tuple[float, float]:
        """What it adds to the aim."""
        return SIGN[self.kind] * self.du, SIGN[self.kind] * self.dv

    @property
    def words(self) -> str:
        """What it is, with what it adds."""
        du, dv = self.adds
        return f"{self.why or KINDS[self.kind]} ({_signed(du)}, {_signed(dv)})"

    def kept(self) -> dict[str, Any]:
        """Return it as it is stored."""
        return asdict(self)


def _signed(value: float) -> str:
    return f"{'+' if value >= 0 else '−'}{abs(value):.4f}"


def parts_of(stored: list[dict[str, Any]]) -> list[WhitePart]:
    """Return the parts as they were stored."""
    return [WhitePart(**row) for row in stored]


def aim_of(white: XY, parts: list[WhitePart]) -> XY:
    """Return the x, y that parts make of a white."""
    if not parts:
        return white
    uv = xy_to_uv(white) + np.sum([part.adds for part in parts], axis=0)
    x, y = xyz_to_xy(uv_to_xyz(uv))
    return float(x), float(y)


def apart(first: XY, second: XY) -> tuple[float, float]:
    """Return what lies between two whites x, y, in u′v′: what has to be added to the first to come to the second."""
    du, dv = xy_to_uv(second) - xy_to_uv(first)
    return float(du), float(dv)


def named(white: XY) -> str:
    """Return a white in words."""
    return "D65" if white == D65_XY else f"{white[0]:.4f}, {white[1]:.4f}"


def chain(white: XY, parts: list[WhitePart]) -> list[str]:
    """Return the parts of a white in words, from the standard's to what is aimed at."""
    x, y = aim_of(white, parts)
    return [named(white), *(part.words for part in parts), f"aim {x:.4f}, {y:.4f}"]
