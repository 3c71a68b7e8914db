"""Which readings of a batch stand out from those beside them, and are read again before anything is learned from them."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour import curves
from fenvik.core.colour.space import xyz_to_uv

INSTALLED = "*installed*"  # beside the values of controls: no control is called so
DARK = 0.08  # fraction of signal: below it what black adds bends every curve
STRAIGHT = 1.0 / 2.3  # power of luminance that makes a display's curve nearly a straight line over its signal
SAME = 0.06  # of ln luminance: with every control as it stood, nothing but a slip changes a patch by more
INSIDE, AT_END = 0.07, 0.12  # of ln luminance: from the greys beside it, and where there are greys on one side only
SAME_UV, INSIDE_UV, AT_END_UV = 0.005, 0.012, 0.02  # the same of u′v′
SHADOW, BENT = 0.35, 2.0  # fraction of signal, and how many times more is let pass below it, where curves bend
APART, APART_IN_HDR = 0.15, 0.22  # of ln luminance: how differently two patches may change at once, of one colour or greys of PQ
FAR = 0.21  # of signal: greys farther apart tell little of what is between them
ENDS_BY = 0.97  # fraction of an HDR signal: above it every display has ended
LIFTED = 0.03  # of signal above what PQ says: brighter than that is the patch before
LIT = 0.5  # cd/m²: below it the meter's own noise stands out
WHITE = 0.9  # fraction of signal: a grey above it is lit, whatever the display
# Of two patches of which one asks for more of every light, that one is brighter wherever a display may end or clip.
LOWER, HIGHER, BRIGHTER = 0.5, 0.25, 1.15  # fraction of signal of the one, how much more the other asks for, and what it must give
LOWER_HDR = 0.3  # 10 cd/m² of PQ: every display gives that, however early it ends
OTHER_PATCH, TO_A_HAIR, TO_A_HAIR_UV = 0.03, 0.008, 0.0015  # of signal; of ln luminance and u′v′: the meter's own noise
SAME_HUE = 0.01  # of signal, once both are as bright
OUT_OF_ORDER = 100.0  # times what is let pass: it is looked at before anything else


def standing_out(
    made: Sequence[Any], before: Sequence[Any], *, is_hdr: bool = False, aims: Mapping[Any, float] | None = None,
) -> list[int]:
    """Return the places in a batch that want reading again, the one that stands out most first.

    ``made`` and ``before`` are readings in order, with ``fraction`` (3,), ``xyz`` (3,) in cd/m² and ``settings``; ``before`` ends
    where the batch begins. A grey is held against the same patch with the same controls, or else against the greys of its state
    around it; another patch against itself with the same controls, or against how its neighbours in the batch changed.
    ``is_hdr``: light follows the signal as PQ has it, up to where the display ends. ``aims``: the cd/m² of patches, in percent,
    that were just given what should bring them there.
    """
    far = {i: size for i, t in enumerate(made) if (size := _far(i, made, before, is_hdr=is_hdr)) > 1.0}
    for i in [*far] if aims else ():
        should = next((light for percent, light in (aims or {}).items() if made[i].shows(percent)), 0.0)
        if far[i] < OUT_OF_ORDER and should > 0 and abs(_ln(made[i]) - float(np.log(should))) < APART:
            del far[i]
    return sorted(far, key=lambda i: -far[i])


def agree(one: Any, other: Any) -> bool:
    """Return whether two readings of a patch, with the controls as they stood, confirm each other."""
    return abs(_ln(one) - _ln(other)) <= SAME and _beside(one.xyz, other.xyz) <= SAME_UV


def _far(place: int, made: Sequence[Any], before: Sequence[Any], *, is_hdr: bool) -> float:
    """Return how far a reading lies from what is expected, in shares of what is let pass."""
    now = made[place]
    others = [*before, *(t for i, t in enumerate(made) if i != place)]
    most = LOWER_HDR if is_hdr else LOWER
    if any(_is_out_of_order(now, t, most) or _is_out_of_order(t, now, most) for t in others if t.settings == now.settings):
        return OUT_OF_ORDER
    if now.fraction.min() > WHITE and now.xyz[1] < LIT:
        return OUT_OF_ORDER  # the patch before, likely
    if _is_the_one_before(now, made[place - 1] if place else before[-1] if before else None, others):
        return OUT_OF_ORDER
    if now.xyz[1] < LIT or now.fraction.max() < DARK:
        return 0.0
    same = next((t for t in reversed(others) if t.settings == now.settings and np.array_equal(t.fraction, now.fraction)), None)
    if same is not None:
        return max(abs(_ln(now) - _ln(same)) / SAME, _beside(now.xyz, same.xyz) / SAME_UV)
    if np.ptp(now.fraction) == 0:
        around = [t for t in others if t.settings == now.settings and np.ptp(t.fraction) == 0]
        # Where every light is said by the signal greys keep their places, whatever is turned; in SDR white is another.
        changed = _from_greys_before(place, made, before) if is_hdr else 0.0
        return max(_from_curve(now, around, is_hdr=is_hdr), _from_greys(now, around), changed)
    return _from_change(place, made, before, is_hdr=is_hdr)


def _is_out_of_order(low: Any, high: Any, most: float) -> bool:
    """Return whether a patch that asks for far less of every light than another, ``most`` at most, is not darker."""
    least = float(low.fraction.max())
    is_lower = least <= most and float(high.fraction.max()) >= least + HIGHER and bool((low.fraction <= high.fraction).all())
    return is_lower and low.xyz[1] >= LIT and low.xyz[1] * BRIGHTER > high.xyz[1]


def _is_the_one_before(now: Any, last: Any, others: Sequence[Any]) -> bool:
    """Return whether a patch gives to a hair what another gave just before it, and the display has not ended there."""
    if last is None or now.xyz[1] < LIT or np.abs(now.fraction - last.fraction).max() < OTHER_PATCH:
        return False
    is_same = abs(_ln(now) - _ln(last)) < TO_A_HAIR and _beside(now.xyz, last.xyz) < TO_A_HAIR_UV
    return is_same and any(t.xyz[1] > BRIGHTER * now.xyz[1] for t in others)


def _beside(one: ArrayLike, other: ArrayLike) -> float:
    """Return how far two XYZ lie apart in u′v′."""
    return float(np.linalg.norm(xyz_to_uv(one) - xyz_to_uv(other)))


def _from_greys(now: Any, around: Sequence[Any]) -> float:
    """Hold a grey's chromaticity against those of the two that are nearest to it: a slip may leave the light as it is."""
    at = float(now.fraction[0])
    lit = {float(t.fraction[0]): xyz_to_uv(t.xyz) for t in around if t.fraction[0] > DARK and t.xyz[1] >= LIT}
    lit.pop(at, None)
    below, above = sorted(v for v in lit if v < at), sorted(v for v in lit if v > at)
    if not lit:
        return 0.0
    if below and above:
        share, allowed = (at - below[-1]) / (above[0] - below[-1]), INSIDE_UV
        expected = (1.0 - share) * lit[below[-1]] + share * lit[above[0]]
    else:
        expected, allowed = lit[below[-1] if below else above[0]], AT_END_UV
    return float(np.linalg.norm(xyz_to_uv(now.xyz) - expected)) / (allowed * (BENT if at < SHADOW else 1.0))


def _ln(taken: Any) -> float:
    return float(np.log(max(float(taken.xyz[1]), 1e-6)))


def _straight(luminance: float, *, is_hdr: bool) -> float:
    """Return what is nearly a straight line over a display's signal."""
    return float(curves.pq_inverse(luminance)) if is_hdr else luminance**STRAIGHT


def _from_curve(now: Any, around: Sequence[Any], *, is_hdr: bool) -> float:
    """Hold a grey against the straight line through the two that are nearest to it.

    In HDR a display may follow that line and bend down from anywhere on: what lies between the two is as good.
    """
    at = float(now.fraction[0])
    if is_hdr and at > ENDS_BY:
        return 0.0
    levels = {float(t.fraction[0]): _straight(float(max(t.xyz[1], 0.0)), is_hdr=is_hdr) for t in around if t.fraction[0] > DARK}
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
    expected = _through(levels, pair, at)
    if not is_hdr:
        return abs(_ln(now) - float(np.log(max(expected, 1e-3))) / STRAIGHT) / (allowed * (BENT if at < SHADOW else 1.0))
    low = high = expected
    if len(below) > 1 and above:
        high = max(expected, min(_through(levels, (below[-2], below[-1]), at), levels[above[0]], at + LIFTED))
    elif len(below) > 1 and ended:
        low = min(expected, _through(levels, (below[-1], ended[0]), at))
    dark, lit = (float(np.log(max(float(curves.pq(v)), 1e-6))) for v in (low, high))
    return max(dark - _ln(now), _ln(now) - lit) / (allowed * (BENT if low == high else 1.0))


def _through(levels: dict[float, float], pair: tuple[float, float], at: float) -> float:
    """Return where the straight line through two levels is at a third."""
    low, high = pair
    return levels[low] + (at - low) / (high - low) * (levels[high] - levels[low])


def between(greys: Sequence[Any], at: float, *, is_hdr: bool, far: float = 1.0) -> float | None:
    """Return the cd/m² that a grey at a fraction of signal would give between those about it; None beside them, or between two that
    are ``far`` apart.
    """
    levels = {float(t.fraction[0]): _straight(max(float(t.xyz[1]), 0.0), is_hdr=is_hdr) for t in greys if np.ptp(t.fraction) == 0}
    known = sorted(levels)
    if not known or not known[0] <= at <= known[-1]:
        return None
    place = int(np.searchsorted(known, at))
    if known[place] != at and known[place] - known[place - 1] > far:
        return None
    straight = float(np.interp(at, known, [levels[v] for v in known]))
    return float(curves.pq(straight)) if is_hdr else straight ** (1.0 / STRAIGHT)


def _from_greys_before(place: int, made: Sequence[Any], before: Sequence[Any]) -> float:
    """Hold how a grey of PQ or HLG changed since such greys were last read against how the others of its batch did."""
    changes: dict[int, float] = {}
    same = [t for t in before if t.settings.get(INSTALLED) == made[place].settings.get(INSTALLED)]  # curves move greys as they like
    for i, t in enumerate(made):
        at = float(t.fraction[0])
        if np.ptp(t.fraction) == 0 and at >= SHADOW and t.xyz[1] >= LIT and (was := last_about(same, at)):
            changes[i] = _ln(t) - float(np.log(was))
    if place not in changes or len(changes) < 3:
        return 0.0
    rest = float(np.median([v for i, v in changes.items() if i != place]))
    return abs(changes[place] - rest) / APART_IN_HDR


def last_about(before: Sequence[Any], at: float) -> float | None:
    """Return the cd/m² that a grey last gave, or would have between those about it."""
    state: list[Any] = []
    for t in reversed(before):
        if np.ptp(t.fraction) > 0:
            continue
        if state and t.settings != state[0].settings:
            if (known := between(state, at, is_hdr=True, far=FAR)) is not None:
                return known
            state = []
        state.append(t)
    return between(state, at, is_hdr=True, far=FAR)


def _from_change(place: int, made: Sequence[Any], before: Sequence[Any], *, is_hdr: bool) -> float:
    """Hold how a colour changed since it was last read against how the others of its batch did.

    What was last read with other controls than all of those changed otherwise, and what was adjusted by itself too: neither is
    doubted as long as it gives what it gave, or what the newest reading of its hue and the greys tell.
    """
    changes: dict[int, float] = {}
    then: dict[int, Any] = {}
    for i, t in enumerate(made):
        last = next((b for b in reversed(before) if np.array_equal(b.fraction, t.fraction)), None)
        if last is not None and t.xyz[1] >= LIT:
            changes[i], then[i] = _ln(t) - _ln(last), last.settings
    if place not in changes or len(changes) < 2:
        return 0.0
    others = [i for i in changes if i != place]
    apart = [abs(changes[place] - float(np.median([changes[i] for i in others])))]
    if apart[0] > APART:
        if all(then[i] != then[place] for i in others):
            apart.append(abs(changes[place]))
        if (should := _by_its_hue(made[place], [*before, *made], is_hdr=is_hdr)) is not None:
            apart.append(abs(_ln(made[place]) - should))
    return min(apart) / APART


def _by_its_hue(now: Any, others: Sequence[Any], *, is_hdr: bool) -> float | None:
    """Return the ln luminance that a colour should have, from the newest reading of its hue at another level and the greys."""
    top = float(now.fraction.max())
    greys = [t for t in others if t.settings == now.settings and np.ptp(t.fraction) == 0]
    for t in reversed(others):
        level = float(t.fraction.max())
        if np.ptp(t.fraction) == 0 or level <= DARK or abs(level - top) < OTHER_PATCH or t.xyz[1] < LIT:
            continue
        if np.abs(t.fraction / level - now.fraction / top).max() < SAME_HUE:
            at, as_now = (between(greys, v, is_hdr=is_hdr, far=FAR) for v in (level, top))
            return _ln(t) + float(np.log(as_now / at)) if at and as_now else None
    return None
