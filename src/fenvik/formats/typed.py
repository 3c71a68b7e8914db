"""A reading as a person types it from the display of any meter: X Y Z, or Y x y."""

import re
from typing import Literal

from fenvik.core.errors import FenvikError
from fenvik.formats.numbers import NumberError, number

Order = Literal["XYZ", "Yxy"]
ORDERS: dict[str, str] = {"XYZ": "X Y Z", "Yxy": "Y x y"}
MOST_CD_M2 = 100_000.0
DARK = ("dark", "-", "−", "–")


class TypedError(FenvikError, ValueError):
    """Something that is no reading."""

    code = "typed"


def parse_typed(text: str, order: Order) -> tuple[float, float, float] | None:
    """Return X, Y, Z in cd/m² of a typed reading; None for one that the meter found too dark. Raises TypedError.

    Numbers are apart by spaces, semicolons or tabs; a comma or a point is the decimal sign. Chromaticities may be typed as
    their four decimals alone: 3127 is 0.3127.
    """
    words = text.strip().lower()
    if words in DARK:
        return None
    parts = [part for part in re.split(r"[\s;]+", words) if part]
    if len(parts) != 3:
        raise TypedError(f"Three numbers are needed, {ORDERS[order]}, or “dark”; there {_count(len(parts))}.")
    if order == "Yxy":
        parts[1:] = [f"0.{part}" if re.fullmatch(r"\d{4}", part) else part for part in parts[1:]]
    numbers = [_number(part) for part in parts]
    if order == "XYZ":
        x, y, z = numbers
        if min(numbers) < 0:
            raise TypedError("X, Y and Z are never below zero.")
        if y == 0 and (x or z):
            raise TypedError("There is light but no luminance: look at Y again.")
    else:
        y, cx, cy = numbers
        if not (0 < cx < 1 and 0 < cy < 1 and cx + cy <= 1):
            raise TypedError(
                "x and y lie between 0 and 1 and are 1 at most together. Are these X Y Z? Choose what is typed first."
            )
        x, z = y * cx / cy, y * (1 - cx - cy) / cy
    if not 0 <= y <= MOST_CD_M2:
        raise TypedError(f"A luminance lies between 0 and {MOST_CD_M2:,.0f} cd/m².")
    if order == "XYZ" and y > 0 and _looks_like_chromaticity(x, y, z):
        raise TypedError("The last two look like x and y. Choose Y x y, or type X Y Z.")
    return float(x), float(y), float(z)


def _looks_like_chromaticity(x: float, y: float, z: float) -> bool:
    return x > 5.0 and 0.1 < y < 0.9 and 0.02 < z < 0.9 and y + z <= 1.0


def _count(n: int) -> str:
    return "is none" if n == 0 else "is one" if n == 1 else f"are {n}"


def _number(part: str) -> float:
    try:
        return number(part)
    except NumberError as problem:
        raise TypedError(str(problem)) from None
