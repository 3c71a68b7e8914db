"""The larger steps in which a display may count what its menu counts by ones: which there are, and controls as it has them.

A menu goes by ones where the display behind it knows every second or fourth step alone. Then what was asked for was not done, by
up to a step of the display's, and no smooth model explains what was read.
"""

from collections.abc import Sequence

from fenvik.core.controls import Control, Grain

NTH = {2: "second", 3: "third", 4: "fourth", 5: "fifth"}
NUMBER = {2: "two", 3: "three", 4: "four", 5: "five"}
WAYS = ("drops", "down", "nearest", "from its low end")  # how a display rounds
GROUPS: tuple[tuple[str, ...], ...] = (("gain", "offset"), ("point", "tone"))  # kinds of controls that a display counts alike
LEAST = 8  # grains that a range has: a menu of few steps is felt at each
CALLED = dict(zip(GROUPS, ("gains and offsets", "the white balance's points"), strict=True))


def choices(knobs: Sequence[Control], group: Sequence[str]) -> list[list[Control]]:
    """Return the knobs with those of a group in each grain that there may be: so many that a range still has some of them."""
    steps = min((2.0 * knob.in_grains(None).half_steps for knob in knobs if knob.kind in group), default=0.0)
    return [in_grains(knobs, group, every, way) for every in NTH if steps >= LEAST * every for way in WAYS]


def in_grains(knobs: Sequence[Control], group: Sequence[str], every: int = 1, way: str = "") -> list[Control]:
    """Return the knobs with those of a group as a display has them that counts so many steps as one, or every one."""

    def made(knob: Control) -> Control:
        plain = knob.in_grains(None)
        phase = {"drops": None, "down": 0, "nearest": every // 2, "from its low end": -round(plain.low / plain.step) % every}
        return plain if every == 1 else plain.in_grains(Grain(every, phase[way]))

    return [made(knob) if knob.kind in group else knob for knob in knobs]


def grained(knobs: Sequence[Control]) -> dict[tuple[str, ...], Grain]:
    """Return the grain of each group that has one."""
    return {group: k.grain for group in GROUPS for k in knobs if k.kind in group and k.grain is not None}


def said(knobs: Sequence[Control]) -> list[str]:
    """Return what a person is told of the grain that knobs have."""
    return [
        f"Only every {NTH[grain.every]} step of {CALLED[group]} does anything, so they go by {NUMBER[grain.every]} at a time."
        for group, grain in grained(knobs).items()
    ]
