"""What a reading is expected to be, by those beside it: a grey by the greys around it, a colour by its hue at another level."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from fenvik.core.colour import curves
from fenvik.core.procedures.told import Told

DARK = 0.08  # fraction of signal: below it what black adds bends every curve
STRAIGHT = 1.0 / 2.3  # power of luminance that makes a display's curve nearly a straight line over its signal
INSIDE, AT_END = 0.07, 0.12  # of ln luminance: from the greys beside it, and where there are greys on one side only
INSIDE_UV, AT_END_UV = 0.012, 0.02  # the same of u′v′
SHADOW, BENT = 0.35, 2.0  # fraction of signal, and how many times more is let pass below it, where curves bend
FAR = 0.21  # of signal: greys farther apart tell little of what is between them
ENDS_BY = 0.97  # fraction of an HDR signal: above it every display has ended
LIFTED = 0.03  # of signal above what PQ says: brighter than that is the patch before
LIT = 0.5  # cd/m²: below it the meter's own noise stands out
ANOTHER = 0.03  # of signal: two patches that are not the same one
SAME_HUE = 0.01  # of signal, once both are as bright


def from_greys(now: Told, around: Sequence[Told]) -> float:
    """Hold a grey's chromaticity against those of the two that are nearest to it: a slip may leave the light as it is.

    Returned is how far it lies off, in shares of what is let pass.
    """
    at = now.most
    lit = {t.most: t for t in around if t.most > DARK and t.light >= LIT}
    lit.pop(at, None)
    below, above = sorted(v for v in lit if v < at), sorted(v for v in lit if v > at)
    if not lit:
        return 0.0
    if below and above:
        share, allowed = (at - below[-1]) / (above[0] - below[-1]), INSIDE_UV
        wanted = (1.0 - share) * lit[below[-1]].uv + share * lit[above[0]].uv
    else:
        wanted, allowed = lit[below[-1] if below else above[0]].uv, AT_END_UV
    return float(np.linalg.norm(now.uv - wanted)) / (allowed * (BENT if at < SHADOW else 1.0))


def from_curve(now: Told, around: Sequence[Told], *, is_hdr: bool) -> float:
    """Hold a grey against the straight line through the two that are nearest to it; return as ``from_greys`` does.

    In HDR a display may follow that line and bend down from anywhere on: what lies between the two is as good.
    """
    at = now.most
    if is_hdr and at > ENDS_BY:
        return 0.0
    levels = {t.most: _straight(max(t.light, 0.0), is_hdr=is_hdr) for t in around if t.most > DARK}
    levels.pop(at, None)
    most = ENDS_BY if is_hdr else np.inf
    below, above = sorted(v for v in levels if v < at), sorted(v for v in levels if at < v <= most)
    ended = [v for v in levels if v > most]
    if below and above:
        pair, allowed = (below[-1], above[0]), INSIDE
    elif len(below) > 1:
        pair, allowed = (below[-2], below[-1]), AT_END
    elif len(above) > 1:
        pair, allowed = (above[0], above[1]), AT_END
    else:
        return 0.0
    wanted = _through(levels, pair, at)
    if not is_hdr:
        return abs(now.ln - float(np.log(max(wanted, 1e-3))) / STRAIGHT) / (allowed * (BENT if at < SHADOW else 1.0))
    low = high = wanted
    if len(below) > 1 and above:
        high = max(wanted, min(_through(levels, (below[-2], below[-1]), at), levels[above[0]], at + LIFTED))
    elif len(below) > 1 and ended:
        low = min(wanted, _through(levels, (below[-1], ended[0]), at))
    dark, lit = (float(np.log(max(float(curves.pq(v)), 1e-6))) for v in (low, high))
    return max(dark - now.ln, now.ln - lit) / (allowed * (BENT if low == high else 1.0))


def between(greys: Sequence[Any], at: float, *, is_hdr: bool, far: float = 1.0) -> float | None:
    """Return the cd/m² that a grey at a fraction of signal would give between those about it; None beside them, or between two that
    are ``far`` apart.
    """
    lights = {float(t.fraction[0]): max(float(t.xyz[1]), 0.0) for t in greys if t.is_grey}
    known = sorted(lights)
    if not known or not known[0] <= at <= known[-1]:
        return None
    place = int(np.searchsorted(known, at))
    about = known[place - 1 : place + 1] if place else known[:1]
    if known[place] != at and about[-1] - about[0] > far:
        return None
    straight = float(np.interp(at, about, [_straight(lights[v], is_hdr=is_hdr) for v in about]))
    return float(curves.pq(straight)) if is_hdr else straight ** (1.0 / STRAIGHT)


def last_about(before: Sequence[Any], at: float) -> float | None:
    """Return the cd/m² that a grey of HDR last gave, or would have between those about it."""
    state: list[Any] = []
    for t in reversed(before):
        if not t.is_grey:
            continue
        if state and t.settings is not state[0].settings and t.settings != state[0].settings:
            if (known := between(state, at, is_hdr=True, far=FAR)) is not None:
                return known
            state = []
        state.append(t)
    return between(state, at, is_hdr=True, far=FAR)


def by_its_hue(now: Told, others: Sequence[Told], *, is_hdr: bool) -> float | None:
    """Return the ln luminance that a colour should have, from the newest reading of its hue at another level and the greys."""
    greys = [t for t in others if t.settings is now.settings and t.is_grey]
    for t in reversed(others):
        if t.is_grey or t.most <= DARK or abs(t.most - now.most) < ANOTHER or t.light < LIT:
            continue
        if np.abs(t.fraction / t.most - now.fraction / now.most).max() < SAME_HUE:
            at, as_now = (between(greys, v, is_hdr=is_hdr, far=FAR) for v in (t.most, now.most))
            return t.ln + float(np.log(as_now / at)) if at and as_now else None
    return None


def _straight(luminance: float, *, is_hdr: bool) -> float:
    """Return what is nearly a straight line over a display's signal."""
    return float(curves.pq_inverse(luminance)) if is_hdr else luminance**STRAIGHT


def _through(levels: dict[float, float], pair: tuple[float, float], at: float) -> float:
    """Return where the straight line through two levels is at a third."""
    low, high = pair
    return levels[low] + (at - low) / (high - low) * (levels[high] - levels[low])
