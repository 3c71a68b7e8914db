"""From code values to fractions of signal and back."""

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.errors import SignalError
from fenvik.core.types import Floats, Ints

Range = Literal["limited", "full"]
BITS = (8, 10, 12, 16)


def _check(bits: int, range_: str) -> None:
    if bits not in BITS:
        raise SignalError(f"A signal has 8, 10, 12 or 16 bits, not {bits}.")
    if range_ not in ("limited", "full"):
        raise SignalError(f"A signal's range is limited or full, not {range_}.")


def decode(codes: ArrayLike, bits: int, range_: Range) -> Floats:
    """Return the fraction of signal of code values, any shape; 0 is video black, 1 video white.

    Foot and head room of the limited range come out below 0 and above 1. Raises SignalError for a bit depth or range
    that no signal has. Source: BT.709-6, BT.2020-2 and BT.2100-2, digital representation.
    """
    _check(bits, range_)
    codes = np.asarray(codes, dtype=np.float64)
    scale = 2.0 ** (bits - 8)
    fraction: Floats = (codes / scale - 16.0) / 219.0 if range_ == "limited" else codes / (2.0**bits - 1.0)
    return fraction


def encode(percent: ArrayLike, bits: int, range_: Range) -> Ints:
    """Return the nearest code values, halves up, of percentages of signal, any shape, clamped to the bits."""
    _check(bits, range_)
    fraction = np.asarray(percent, dtype=np.float64) / 100.0
    exact = (16.0 + 219.0 * fraction) * 2.0 ** (bits - 8) if range_ == "limited" else fraction * (2.0**bits - 1.0)
    # A product such as 0.35 * 219 lies a hair below its true value: without the rounding a half would go down.
    return np.clip(np.floor(np.round(exact, 9) + 0.5), 0, 2**bits - 1).astype(np.int64)
