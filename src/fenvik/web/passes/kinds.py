"""Kinds of pass: what the apps that own one add to how passes run. Passes know none of them."""

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Protocol

from fenvik.web.passes.script import Scripted


class Runs(Protocol):
    """What runs a pass."""

    def run(self) -> None:
        """Run it until it ends, pauses, or the worker ends."""

    def let_go(self) -> None:
        """Close the connections."""


@dataclass
class Kinds:
    """``runners`` and ``procedures`` by purpose, ``sources`` by the fact of a device that says that it is one."""

    runners: dict[str, Callable[[Any, Any], Runs]] = field(default_factory=dict)  # of a plan and a store
    procedures: dict[str, Scripted] = field(default_factory=dict)  # that say what a pass reads next
    sources: dict[str, Callable[[Any], Any]] = field(default_factory=dict)  # of a device: like a source of the link
    before: list[Callable[[Any, datetime], None]] = field(default_factory=list)  # a pass of a tuning is about to start
    keeps: Callable[[int, Any], None] | None = None  # keeps a correction that a pass has made in the middle of it
    after: list[Callable[[int], None]] = field(default_factory=list)  # a pass has ended, or has got other readings

    def starts(self, tuning: Any, now: datetime) -> None:
        """Tell whom it concerns that a pass of a tuning is about to start."""
        for heard in self.before:
            heard(tuning, now)

    def ended(self, pass_id: int) -> None:
        """Tell whom it concerns that a pass has ended."""
        for heard in self.after:
            heard(pass_id)


kinds = Kinds()
