"""What controls are called, so that each is known by its name alone.

Many menus call three controls "Red" and six of them "Hue", and tell them apart by where they stand. A nudge, a log and a handover
name a control without its place.
"""

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from typing import Any

LONGEST, LONGEST_ADDED = 80, 36  # characters, of a whole name and of what is added to it

Told = Mapping[str, Any]


def told_apart(controls: Sequence[Told]) -> list[dict[str, Any]]:
    """Return controls, as the device link describes them, each with a ``label`` that no other has; in the same order.

    To one that it shares with others is added, in brackets, what tells all of those apart: their ``group``, what their ``role`` is
    about, both, their ``id``, or else their place. One without a label has what its role is about, or its id.
    """
    called = [str(c["label"]).strip() or _about(c) or str(c["id"]) for c in controls]
    for ways in (WAYS, ()):  # what was added may be what another is called
        alike = defaultdict(list)
        for place, name in enumerate(called):
            alike[name.lower()].append(place)
        for places in (each for each in alike.values() if len(each) > 1):
            added = _telling([controls[place] for place in places], ways) or [f"no. {place + 1}" for place in places]
            for place, words in zip(places, added, strict=True):
                called[place] = f"{called[place][: LONGEST - LONGEST_ADDED - 3]} ({words})"
    return [{**control, "label": name} for control, name in zip(controls, called, strict=True)]


def bare(label: str) -> str:
    """Return a name without what was added to it: in a mode with fewer controls less tells them apart, or something else."""
    return label.partition(" (")[0]


def _telling(alike: Sequence[Told], ways: Sequence[Callable[[Told], str]]) -> list[str]:
    """Return what tells all of them apart by the first way that does; empty where none does."""
    for way in ways:
        words = [way(control)[:LONGEST_ADDED].strip() for control in alike]
        if all(words) and len({w.lower() for w in words}) == len(words):
            return words
    return []


def _group(control: Told) -> str:
    return str(control.get("group") or "").strip()


def _about(control: Told) -> str:
    """Return what a role is about in a word or two: the level of a point, the end of a balance, a colour, a process."""
    match str(control.get("role") or "").split("."):
        case ["white" | "gamma", "at", *level] if level:
            return f"{'.'.join(part for part in level if part[:1].isdigit())} %"
        case ["white", end, _]:
            return end
        case ["colour", hue, "mix", _]:
            return f"in {hue}"
        case ["colour", hue, *_]:
            return hue
        case ["process", name]:
            return name.replace("-", " ")
        case [name]:
            return name.replace("-", " ")
    return ""


WAYS: tuple[Callable[[Told], str], ...] = (
    _group, _about, lambda c: f"{_group(c)}, {_about(c)}" if _group(c) else "", lambda c: str(c["id"]),
)  # fmt: skip
