"""What a stop draws while nothing has been read: what its next pass will read."""

from typing import Any

from fenvik.web.passes.sending import TAKEN_PEAK, planned
from fenvik.web.results.parts import Awaited
from fenvik.web.stops.progress import FIRST_GUESS_CD_M2


def awaited(tuning: Any) -> Awaited | None:
    """Return what the next pass of a tuning reads; None where no picture is made of it."""
    white = tuning.luminance or (TAKEN_PEAK if tuning.target.is_hdr else FIRST_GUESS_CD_M2)
    return Awaited.of([shown.as_row() for shown in planned(tuning)], tuning, float(white))
