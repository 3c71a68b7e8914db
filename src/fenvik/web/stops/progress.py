"""How far a pass is, and how long it will still take."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from fenvik.core.measure.averaging import typical_seconds
from fenvik.core.signal.decoding import decode
from fenvik.web.passes.models import Pass, PassState
from fenvik.web.passes.pace import OVERHEAD

OVERHEAD_S = 0.05  # showing the patch, storing, telling
BY_HAND_S = 8.0  # that a person takes to carry a meter to its next place
FIRST_GUESS_CD_M2 = 100.0


@dataclass(frozen=True)
class Progress:
    """What the hand shows of an open pass."""

    pass_: Pass
    done: int
    count: int
    left_s: float | None
    now: str  # label of the patch that is being read

    @property
    def percent(self) -> int:
        """Done, in percent."""
        return round(100 * self.done / max(self.count, 1))

    @property
    def is_paused(self) -> bool:
        """Whether it waits for the person."""
        return self.pass_.state == PassState.PAUSED

    @property
    def holds(self) -> bool:
        """Whether it waits for the person to carry the meter, which is no fault."""
        return self.is_paused and any(row.get("hold") == self.pass_.reason for row in self.pass_.patches)

    @property
    def _place(self) -> tuple[float, float]:
        row: dict[str, Any] = next((row for row in self.pass_.patches if row.get("hold") == self.pass_.reason), {})
        x, y = row.get("place", (0.5, 0.5))
        return float(x), float(y)

    @property
    def hold_x(self) -> str:
        """Where the meter goes, on a screen of 320 by 180."""
        return f"{320 * self._place[0]:.0f}"

    @property
    def hold_y(self) -> str:
        """Where the meter goes, on a screen of 320 by 180."""
        return f"{180 * self._place[1]:.0f}"

    @property
    def is_waiting(self) -> bool:
        """Whether it waits for a device."""
        return self.pass_.state == PassState.WAITING

    @property
    def is_pausing(self) -> bool:
        """Whether it will pause after the reading in flight."""
        return self.pass_.pause_asked_at is not None and not self.is_paused


def expected_s(pass_: Pass, white: float = FIRST_GUESS_CD_M2) -> list[float]:
    """Return how long each patch of a pass should take, in seconds: by the meter's own account and its pace so far."""
    if not pass_.patches:
        return []
    range_ = "full" if pass_.range == "full" else "limited"
    codes = np.array([patch["rgb"] for patch in pass_.patches], dtype=np.float64)
    fraction = np.clip(decode(codes, pass_.bits, range_), 0.0, 1.0)  # type: ignore[arg-type]
    luminance = np.maximum(white * (fraction**2.3) @ np.array([0.21, 0.72, 0.07]), 1e-3)
    pace = pass_.meter.pace or {}
    reading = typical_seconds(pass_.meter_facts["typical"], luminance) * pass_.average * float(pace.get(pass_.effort, 1.0))
    rule = pass_.low_light
    if rule is not None:
        longer = typical_seconds(pass_.meter_facts["typical"], luminance) * max(rule["average"], pass_.average)
        longer = longer * float(pace.get(rule["effort"] or pass_.effort, 1.0))
        reading = reading + np.where(luminance < rule["below"], longer, 0.0)
    if pass_.reference is not None:
        other = typical_seconds(pass_.reference.facts["typical"], luminance) * pass_.average
        reading = np.where([patch.get("by") == "reference" for patch in pass_.patches], other, reading)
    by_hand = np.array(
        [(BY_HAND_S if patch.get("hold") else 0.0) + float(patch.get("wait_s", 0.0)) for patch in pass_.patches]
    )
    between = float(pace.get(OVERHEAD, OVERHEAD_S))
    return [float(v) + pass_.settle_s + between for v in reading + by_hand]


def progress_of(pass_: Pass, done: set[int], last_at: datetime | None) -> Progress:
    """Return the progress; the meter's own account is corrected by how long the patches so far really took."""
    count = len(pass_.patches)
    # The list of a hands-free run grows: a reading may be of a patch that came after the list was loaded.
    done = {i for i in done if i < count}
    expected = expected_s(pass_)
    left = [i for i in range(count) if i not in done]
    guess = sum(expected[i] for i in left)
    if len(done) >= 2 and last_at is not None and pass_.started_at is not None:
        spent = (last_at - pass_.started_at).total_seconds()
        told = sum(expected[i] for i in done)
        guess *= min(max(spent / told, 0.02), 5.0)
    now = pass_.patches[left[0]]["label"] if left else ""
    return Progress(pass_, len(done), count, None if pass_.repeat else guess, now)
