"""How the controls of a tuning stood at each moment: the groups of logged changes, counted as epochs.

This is the one place where states are made of changes.
"""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import Any, Protocol

from fenvik.web.controls.models import ControlChange


class Begun(Protocol):
    """What was begun at some moment: a reading. ``knew``: the newest change by then, None where nobody asked."""

    knew: int | None
    started_at: datetime


@dataclass(frozen=True)
class History:
    """Epoch 0 is as found; every group of changes begins the next one. ``found`` is None while nothing has been noted."""

    found: Mapping[str, Any] | None
    changes: Sequence[ControlChange]

    @cached_property
    def starts(self) -> list[tuple[int, datetime, dict[str, Any]]]:
        """For each group in order: the number of its first change, when it was made, and the values it set."""
        starts: dict[Any, tuple[int, datetime, dict[str, Any]]] = {}
        for change in self.changes:
            _, _, values = starts.setdefault(change.group, (change.pk, change.at, {}))
            values[change.control] = change.after
        return list(starts.values())

    @property
    def newest(self) -> int:
        """The epoch of now."""
        return len(self.starts)

    def epoch_of(self, row: Begun) -> int:
        """Return in which epoch a reading was begun: by the number of the change that was the newest then, and not by clocks."""
        if row.knew is None:
            return sum(at <= row.started_at for _, at, _ in self.starts)
        return sum(number <= row.knew for number, _, _ in self.starts)

    @cached_property
    def states(self) -> list[dict[str, Any]]:
        """Every known value in each epoch."""
        states = [dict(self.found or {})]
        for _, _, changed in self.starts:
            states.append(states[-1] | changed)
        return states

    @property
    def now(self) -> dict[str, Any]:
        """Every known value as it stands."""
        return self.states[-1]

    @property
    def turned(self) -> set[str]:
        """The controls that stand elsewhere than before their first change: not those that were put back again."""
        first = {change.control: change.before for change in reversed(self.changes)}
        now = self.now
        return {name for name, value in first.items() if now[name] != value}

    def stood(self, controls: Sequence[tuple[str, float]]) -> list[tuple[float, ...]]:
        """Return the values of some controls in each epoch; each is given with what it has where nothing was noted."""
        return [
            tuple(float(state[name]) if state.get(name) is not None else value for name, value in controls)
            for state in self.states
        ]

    def eras(self, mine: Collection[str]) -> list[int]:
        """Return, for each epoch, how many groups before it turned anything but these controls."""
        eras = [0]
        for _, _, changed in self.starts:
            eras.append(eras[-1] + any(name not in mine for name in changed))
        return eras

    def since(self, mine: Collection[str]) -> int:
        """Return the first epoch after which nothing but these controls was turned."""
        eras = self.eras(mine)
        return eras.index(eras[-1])
