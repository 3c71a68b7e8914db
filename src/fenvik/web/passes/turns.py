"""What a pass has to do, and whose turn it is: the patch that is read now, by which meter, as which part."""

from dataclasses import dataclass
from typing import Any

from fenvik.core.signal.patches import Patch
from fenvik.web.passes.models import Pass


@dataclass(frozen=True)
class Plan:
    """What the engine needs to know of a pass."""

    pass_: Pass
    rows: list[dict[str, Any]]  # the patches as they are stored, with which meter reads each
    done: set[int]  # indices that need no reading
    taken: int  # readings that are stored already


def patch_of(row: dict[str, object]) -> Patch:
    """Return a patch as it was stored."""
    red, green, blue = row["rgb"]  # type: ignore[misc]
    return Patch(str(row["label"]), (int(red), int(green), int(blue)), tuple(row["percent"]))  # type: ignore[arg-type,has-type]


@dataclass(frozen=True)
class Turn:
    """A patch as it is stored, its place in the list, and how many readings were stored before it."""

    row: dict[str, Any]
    index: int
    taken: int

    @property
    def patch(self) -> Patch:
        """The patch itself."""
        return patch_of(self.row)

    @property
    def by(self) -> str:
        """Which meter reads it."""
        return str(self.row.get("by", "meter"))

    @property
    def part(self) -> str:
        """Which part of its pass it belongs to."""
        return str(self.row.get("part", "main"))

    @property
    def look(self) -> tuple[Any, ...]:
        """What the screen shows for it: two patches that look alike are shown once."""
        return tuple(self.row["rgb"]), self.row.get("window"), repr(self.row.get("chart"))
