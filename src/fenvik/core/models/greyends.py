"""Lights that end below full signal: from there on nothing lifts them, and what was read tells only that they were at their end.

A display whose contrast is too high for its white balance cuts a light off at the top. Taken for an error of its curve, the light
is turned up for ever; known, the others are brought down to it.
"""

from collections.abc import Sequence
from itertools import combinations

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control
from fenvik.core.models.grey import Fit
from fenvik.core.models.greyproblem import Part, Problem
from fenvik.core.types import Floats

AT_END = 0.006  # of drive: what readings of a light at its end differ by: noise, and light that still grows
BRIGHT = 0.85  # of signal: below no light ends that leaves a picture
NO_END = np.inf
ROUNDS = 3  # which readings are at an end follows from the fit, and that from them
SPEAKS, AND_SHARE = 6.0, 0.2  # of the squared error: what must speak for a light that ends
ANOTHER = 2.0  # and for each further one


def may_end(target: Target, knobs: Sequence[Control]) -> bool:
    """Return whether lights that end below full signal are looked for.

    PQ has a roll-off for that. In HLG gains alone bend nothing: what ends is better taken for what they leave.
    """
    return not target.is_hdr or (target.curve == "hlg" and any(knob.kind in ("point", "tone") for knob in knobs))


def with_ends(problem: Problem, made: Fit) -> tuple[Problem, Fit]:
    """Return problem and fit with those lights ending that readings speak for; the given ones where they do for none.

    Every set of lights is tried: one that is cut off and taken for none spoils the fit of another.
    """
    end = np.array([_end_of(problem, c) for c in range(3)])
    may = [c for c in range(3) if np.isinf(problem.end[c]) and np.isfinite(end[c])]
    sets = [list(each) for n in range(1, len(may) + 1) for each in combinations(may, n)]
    known: dict[tuple[object, ...], Part] = {}
    best, likeliest, least = problem, made, min(made.residual - SPEAKS, (1.0 - AND_SHARE) * made.residual)
    for each in sets:
        at = problem.end.copy()
        at[each] = end[each]
        other, fitted = _fitted(problem, made, at, known)
        if fitted.residual + ANOTHER * (len(each) - 1) <= least:
            best, likeliest, least = other, fitted, fitted.residual + ANOTHER * (len(each) - 1)
    return best, likeliest


def _end_of(problem: Problem, channel: int) -> float:
    """Return the drive that a light was never read above, infinite where it was read too little near its top."""
    bright = problem.read.drives[problem.read.at >= BRIGHT, channel]
    return float(np.median(bright[bright > bright.max() - AT_END])) if bright.size else NO_END


def _fitted(problem: Problem, made: Fit, end: Floats, known: dict[tuple[object, ...], Part]) -> tuple[Problem, Fit]:
    """Return the fit about another, with lights that end at drives (3,)."""
    read = problem.read
    near = (read.drives > end - AT_END) & (read.at >= BRIGHT)[:, None]
    told, about, ended = near, made, problem
    for _ in range(ROUNDS):
        ended = problem.with_ends(end, told, known)
        about = ended.solved((made.width, made.shape), about)
        now = near & (about.of_readings(read.at, read.moved) > end - AT_END)
        if (now == told).all():
            break
        told = now
    return ended, about
