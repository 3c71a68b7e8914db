"""What a colour's controls may be expected to do before they are turned: by role and range, and by what other colours have taught.

Ranges tell the scale of a control widely, and nothing tells which way a hue turns. But what a kind of control does to one colour it
does to the others too, as angles and shares: one colour that was moved says more of the next than any range does.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import MIXED, Control
from fenvik.core.models.hues import DEAD, OWN, Belief, Look, Prior, errors_of, learn, parts_of
from fenvik.core.types import Floats

FULL_EFFECT = {"hue": 12.0, "saturation": 0.25, "luminance": 0.25, "mix": 0.25}  # at a control's end: degrees, shares
# Of what it does to hue, and of what any other control does in all: what it may do to the other parts of a difference too.
HUE_ALSO, HUE_OWN, ALSO = 0.5, 0.5, 0.3
LEAST_DOUBT = 0.35  # of a difference, over the whole range


WOULD_SHOW = 3.0 * DEAD  # of a difference: what a move should have done for its absence to tell
Moved = tuple[Sequence[Control], Floats, Sequence[Look]]  # controls, patches (n, 3) in fractions of signal, and looks of a colour


@dataclass(frozen=True)
class Scale:
    """How many times what is usual a kind of control does, and by how much one colour's differs from that."""

    ratio: float
    spread: float


UNTAUGHT, HUE_UNKNOWN = Scale(1.0, 0.6), Scale(0.0, 3.0)
PALE = np.repeat([False, True, False], 3)
UNLIKE, LEAST_RATIO = 0.35, 0.3  # of what a control does: by how much another colour's differs; of what is usual


def usual(
    turns: Sequence[Control], fraction: Floats, target: Target, white: float, black: float,
    scales: Mapping[str, Scale] | None = None,
) -> Prior:  # fmt: skip
    """Return what role and range lead to expect of one step of each control.

    ``scales``: what other colours of the same display have taught of each kind of control.
    """
    return _expected(turns, units(turns, fraction, target, white, black), scales)


def _expected(turns: Sequence[Control], unit: Floats, scales: Mapping[str, Scale] | None = None) -> Prior:
    """Return what is to be expected of controls that may do some times of ``unit`` (m, k), as of ``units``."""
    mean, own, common = np.zeros_like(unit), np.zeros_like(unit), np.zeros_like(unit)
    for i, turn in enumerate(turns):
        scale = (scales or {}).get(family(turn)) or (HUE_UNKNOWN if turn.kind == "hue" else UNTAUGHT)
        one = unit[:, i]
        mean[:, i], common[:, i] = scale.ratio * one, scale.spread * one
        size = float(np.hypot(scale.ratio, scale.spread)) * np.repeat(errors_of(one), 3)
        also = HUE_ALSO * np.tile([1.0, 1.0, HUE_OWN], len(unit) // 3) if turn.kind == "hue" else ALSO
        own[:, i] = also * size + LEAST_DOUBT * turn.step / (turn.high - turn.low)
    return Prior(mean, own, common)


def family(turn: Control) -> str:
    """Return what a colour's control has in common with those of other colours."""
    return "mix" if turn.kind.startswith("mix") else turn.kind


def shows(looks: Sequence[Look]) -> bool:
    """Return whether looks have shown that the controls of a colour do something."""
    return any(
        before.era == after.era and np.nan_to_num(errors_of((after.parts - before.parts)[:OWN])).max() > WOULD_SHOW
        for before, after in combinations(looks, 2)
    )


def taught(colours: Iterable[Moved], target: Target, white: float, black: float) -> dict[str, Scale]:
    """Return by kind what colours teach of the controls of others; ``white`` and ``black`` in cd/m²."""
    told: dict[str, list[tuple[float, float]]] = {}
    for turns, fraction, looks in colours:
        if not shows(looks):
            continue
        unit = units(turns, fraction, target, white, black)
        belief = learn(_expected(turns, unit), looks)
        for i, turn in enumerate(turns):
            # By the pale patch: a full one may lie where the display ends, and answers to one direction only.
            one = np.where(PALE[: len(unit)], unit[:, i], 0.0)
            size = float((one**2).sum())
            if belief.seen[i] and not belief.dead[i] and size > 0:
                ratio, variance = float(belief.slope[:, i] @ one) / size, float(one @ belief.covariance[:, i, :, i] @ one) / size**2
                told.setdefault(family(turn), []).append((ratio, variance))
    made = {}
    for kind, ratios in told.items():
        weight = np.array([1.0 / (variance + (UNLIKE * ratio) ** 2 + 1e-4) for ratio, variance in ratios])
        ratio = float(weight @ [ratio for ratio, _ in ratios] / weight.sum())
        made[kind] = Scale(ratio, float(np.hypot(UNLIKE * max(abs(ratio), LEAST_RATIO), weight.sum() ** -0.5)))
    return made


def believed(mine: Moved, others: Iterable[Moved], target: Target, white: float, black: float) -> Belief:
    """Return what a colour's controls are taken to do: by its looks, and by what others have taught where these do not deny it."""
    turns, fraction, looks = mine
    scales, unit = taught(others, target, white, black), units(turns, fraction, target, white, black)
    made = [learn(_expected(turns, unit, each), looks) for each in ((scales, None) if scales else (None,))]
    return min(made, key=lambda belief: belief.unlikely)


def units(turns: Sequence[Control], fraction: Floats, target: Target, white: float, black: float) -> Floats:
    """Return the slope (m, k) of one step of controls that do just what is usual; of hue, towards greater angles."""
    count, k = len(fraction), len(turns)
    made = np.zeros((3 * count, k))
    xyz = target.xyz(fraction, white, black)
    linear = xyz @ target.inverse_matrix.T
    # The less saturated a patch, the less a colour's control does to it.
    share = np.ptp(linear, axis=1) / np.maximum(linear.max(axis=1), 1e-9)
    grey = target.white * linear.mean(axis=1, keepdims=True)
    by_parts: dict[int, tuple[Floats, float]] = {}  # XYZ that a control leads to, by its place, and in how many steps
    for i, turn in enumerate(turns):
        steps = 0.5 * (turn.high - turn.low) / turn.step
        size = FULL_EFFECT["mix" if turn.kind.startswith("mix") else turn.kind] * 0.4
        if turn.kind == "luminance":
            moved = xyz * (1.0 + size * share[:, None])
        elif turn.kind == "saturation":
            moved = xyz + size * share[:, None] * (xyz - grey)
        elif turn.kind == "hue":
            made[2::3, i] = share * FULL_EFFECT["hue"] / 3.0 / steps
            continue
        else:
            channel = MIXED.index(turn.kind)
            more = np.zeros_like(linear)
            more[:, channel] = size * share * linear.max(axis=1)
            moved = xyz + more @ target.matrix.T
        by_parts[i] = moved, 0.4 * steps
    if by_parts:
        every = np.concatenate([moved for moved, _ in by_parts.values()])
        parts = parts_of(np.tile(fraction, (len(by_parts), 1)), every, target, white, black).reshape(len(by_parts), -1)
        made[:, [*by_parts]] = parts.T / [steps for _, steps in by_parts.values()]
    return made
