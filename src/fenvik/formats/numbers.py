"""Numbers as a person types them: one parser for every field, list and address."""

import math
import re

from fenvik.core.errors import FenvikError

MOST_DIGITS = 40


class NumberError(FenvikError, ValueError):
    """A text that is no number."""

    code = "number"

    def __init__(self, text: str) -> None:
        super().__init__(f"“{text[:20]}” is no number.")


def number(text: str) -> float:
    """Return a finite number; a comma or a point is the decimal sign. Raises NumberError."""
    plain = text.strip().replace("−", "-").replace(",", ".")
    try:
        value = float(plain) if plain.isascii() and len(plain) <= MOST_DIGITS and "_" not in plain else math.nan
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise NumberError(text.strip())
    return value


def whole(text: str, least: int = -(2**31), most: int = 2**31 - 1) -> int | None:
    """Return a whole number within bounds, as keys and indices are; None for anything else."""
    plain = text.strip()
    if not (plain.isascii() and len(plain) <= 12 and plain.removeprefix("-").isdigit()):
        return None
    value = int(plain)
    return value if least <= value <= most else None


def numbers(text: str) -> list[float]:
    """Return numbers apart by spaces, tabs or semicolons, or by commas that are no decimal signs. Raises NumberError."""
    parts = [part for part in re.split(r"[\s;]+", text.strip()) if part]
    if len(parts) > 1:
        parts = [part.rstrip(",") for part in parts]  # 0.3127, 0.3290
    elif parts and "." in parts[0]:
        parts = parts[0].split(",")  # 0.3127,0.3290
    return [number(part) for part in parts if part]
