"""What a pattern is: how it is drawn, the control it is for, and what too low, right and too high look like."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

from fenvik.core.signal.patterns.board import Board, Box, Signal
from fenvik.core.signal.patterns.options import Option, settle

Chosen = Mapping[str, Any]
Draw = Callable[[Board, Chosen], None]
How = Literal["low", "right", "high"]
Group = Literal["levels", "detail", "geometry", "gradients", "colour", "light", "motion", "free"]


@dataclass(frozen=True)
class Wrong:
    """A display that is set wrongly: one of the faults of ``seen`` and how much of it."""

    fault: str
    amount: float
    words: str


@dataclass(frozen=True)
class Moving:
    """What moves over a pattern: a bar of a width, in fractions of the screen, crossing it in so many seconds.

    ``rows``: instead of one bar, rows from top to bottom of lines so many pixels wide, with as much between them.
    """

    seconds: float
    frames: float  # a second
    box: Box
    rgb: tuple[int, int, int]
    rows: tuple[int, ...] = ()


@dataclass(frozen=True)
class Pattern:
    """A test picture.

    ``roles``: the controls that it is for, as on the device link. ``lens``: the part of it that the examples show;
    ``lift``: the exponent with which they are drawn, below 1 where the eye in a dark room sees more than a page can show.
    """

    id: str
    name: str
    group: Group
    purpose: str
    look_for: str
    cannot: str
    draw: Draw
    low: Wrong
    high: Wrong
    right: str
    roles: tuple[str, ...] = ()
    options: tuple[Option, ...] = ()
    lens: Box = (0.0, 0.0, 1.0, 1.0)
    lift: float = 1.0
    moving: Callable[[Signal, Chosen], Moving] | None = None
    ends: tuple[str, str] = ("too low", "too high")
    own_colours: bool = False  # it compares spaces itself: a space chosen for all patterns does not touch it

    def drawn(self, width: int, height: int, signal: Signal, typed: Mapping[str, str] | None = None) -> Board:
        """Return the picture in code values. Raises PatternError for options that it does not take."""
        board = Board(width, height, replace(signal, colours="") if self.own_colours else signal)
        self.draw(board, settle(self.options, typed or {}))
        return board

    def movement(self, signal: Signal, typed: Mapping[str, str] | None = None) -> Moving | None:
        """Return what moves over the picture, if anything does. Raises PatternError."""
        chosen = settle(self.options, typed or {})
        return None if self.moving is None else self.moving(signal, chosen)
