"""How the controls of a tuning stood at each moment: the groups of logged changes, counted as epochs."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import Any

from fenvik.core.signal.decoding import decode
from fenvik.core.signal.lists import OF_PICTURE
from fenvik.web.controls.values import Values
from fenvik.web.passes.models import NOT_OF_THE_MODE, Reading


@dataclass(frozen=True)
class History:
    """Epoch 0 is as found; every group of changes begins the next one."""

    values: Values

    @cached_property
    def starts(self) -> list[tuple[int, datetime, dict[str, Any]]]:
        """For each group in order: the number of its first change, when it was made, and the values it set."""
        starts: dict[Any, tuple[int, datetime, dict[str, Any]]] = {}
        for change in self.values.changes:
            _, _, values = starts.setdefault(change.group, (change.pk, change.at, {}))
            values[change.control] = change.after
        return list(starts.values())

    @property
    def newest(self) -> int:
        """The epoch of now."""
        return len(self.starts)

    def epoch_of(self, row: Reading) -> int:
        """Return in which epoch a reading was begun: by the number of the change that was the newest then, and not by clocks."""
        if row.knew is None:
            return sum(at <= row.started_at for _, at, _ in self.starts)
        return sum(number <= row.knew for number, _, _ in self.starts)

    @cached_property
    def states(self) -> list[dict[str, Any]]:
        """Every known value in each epoch."""
        states = [dict(self.values.found or {})]
        for _, _, changed in self.starts:
            states.append(states[-1] | changed)
        return states

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


def is_of_picture(row: Reading) -> bool:
    """Whether a reading is one of the picture: not of the instruments, nor of a ladder, a board or a grid."""
    return row.pass_of.purpose not in NOT_OF_THE_MODE and row.part in OF_PICTURE


def speaks(row: Reading) -> bool:
    """Whether a reading speaks for the state that the display is in: the one rule for whatever is learned, proposed or said of it.

    Ladders and grids are read in other windows or at single dark levels by the dozen, files elsewhere: none of them does.
    """
    return is_of_picture(row) and row.part == "main" and not row.pass_of.is_file


def grey_level(row: Reading) -> float | None:
    """Return the fraction of signal of a grey, None for a colour."""
    if not row.r == row.g == row.b:
        return None
    return float(decode(row.r, row.pass_of.bits, "full" if row.pass_of.range == "full" else "limited"))


def newest_white(rows: Sequence[Reading]) -> float | None:
    """Return the luminance in cd/m² of the white that was read last; ``rows`` oldest first."""
    return next(
        (float(row.seen[1]) for row in reversed(rows) if grey_level(row) == 1.0 and speaks(row) and row.y > 0), None
    )
