"""The seven stops say here what they show and what can be done at them: a stop is a folder that the others do not know."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from fenvik.web.people.policy import Right
from fenvik.web.stops.acts import Act


@dataclass(frozen=True)
class Page:
    """What a stop shows: ``fill`` brings what its templates need, ``field`` is what is looked at, ``hand`` what is done."""

    fill: Callable[[Any], None]
    field: str
    hand: str


pages: dict[str, Page] = {}  # by stop
acts: dict[str, Act] = {}
rights: dict[str, Right] = {}  # of acts that are not measuring


def can_be_done(more: Mapping[str, Act], right: Right = Right.MEASURE) -> None:
    """Add acts, with the right that they need."""
    acts.update(more)
    rights.update(dict.fromkeys(more, right))
