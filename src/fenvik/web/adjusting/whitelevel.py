"""The white level by hand in PQ: turned where gains have come to their end, and nowhere else."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from fenvik.core.controls import Control
from fenvik.core.models import room
from fenvik.web.adjusting.models import ChangeList
from fenvik.web.controls.history import History
from fenvik.web.controls.values import Values
from fenvik.web.visits.models import Tuning


@dataclass(frozen=True)
class WhiteLevel:
    """The control that may give gains room, and where it stands; None where there is none, or none is asked for."""

    control: dict[str, Any] | None = None
    value: float = 0.0

    @classmethod
    def of(cls, tuning: Tuning, values: Values) -> "WhiteLevel":
        """Return the one of a tuning: in PQ alone, and where luminance is corrected too."""
        control = room.of_room(values.controls)
        stands = None if control is None else values.now.get(control["id"])
        if control is None or stands is None or tuning.target.curve != "pq" or not tuning.corrects_curve:
            return cls()
        return cls(control, float(stands))

    @property
    def ids(self) -> set[str]:
        """Its id, as a set."""
        return set() if self.control is None else {self.control["id"]}

    def shifts(self, history: History) -> list[float]:
        """Return, for each epoch, how far greys may be shifted by what it was turned since: the model finds by how much."""
        if self.control is None:
            return [0.0] * len(history.states)
        return [0.0 if state.get(self.control["id"]) == self.value else room.BY_ROOM for state in history.states]

    def proposed(
        self, history: History, knobs: Sequence[Control], ends: int, closed: Sequence[ChangeList]
    ) -> tuple[dict[str, Any], float] | None:
        """Return the control and what it is to be turned to, where gains end at their top (1) or at their bottom (-1).

        It is turned twice at most, not again before gains have made use of the room, and not where a list of it was given up: some
        displays do not take it, and some people do not want it.
        """
        if self.control is None or not ends:
            return None
        name, gains = self.control["id"], [knob.id for knob in knobs if knob.kind == "gain"]
        steps = list(pairwise(history.states))
        when = [i for i, (before, after) in enumerate(steps) if before.get(name) != after.get(name)]
        taken = {state.get(name) for state in history.states}
        if any([row["control"] for row in each.rows] == [name] and each.rows[0]["after"] not in taken for each in closed):
            return None
        since = steps[when[-1] + 1 :] if when else []
        if len(when) >= room.MOST_ROOM or (when and not any(a.get(gain) != b.get(gain) for a, b in since for gain in gains)):
            return None
        after = room.turned(self.control, self.value, ends)
        return None if after is None else (self.control, after)
