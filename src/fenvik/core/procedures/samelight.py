"""Whether the light is still the one that was read before: a meter that lost its aim, a curtain, a lamp, a hand in between."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, TypeVar

import numpy as np

from fenvik.core.procedures.doubt import INSTALLED, SAME, agree
from fenvik.core.procedures.expected import last_about
from fenvik.core.procedures.steps import (
    ENDS,
    FoundElsewhereError,
    OtherLightError,
    Procedure,
    Read,
    RestlessError,
    Wait,
)
from fenvik.core.procedures.stirring import stir
from fenvik.core.procedures.taken import Taken

if TYPE_CHECKING:
    from fenvik.core.procedures.desk import Desk

T = TypeVar("T")
LIT = 0.29  # fraction of signal: below it offsets and black levels move a lot
SEEN, LOST = 1.0, 0.4  # cd/m² that a patch had, and the share of it that is left where the meter no longer sees it
LIFTED, DAYLIGHT = 1.8, 0.1  # times black, and cd/m²: what lifts it by more is no white balance
CHANGED = 0.12  # of ln luminance of white: what a white balance takes or gives at most, usually
LOOKS, LOOK_S, MOST_WAITS = 25, 4.0, 2  # at a light that is another, while nobody can be called; how often that is done in a run
AIMED = 0.22  # of ln luminance: a meter that was aimed anew may differ by that
PASSED = "For a while the light was another than before and after it."
FELL = 1.5  # times a black that is left, and the light of a door beside it: more is proven before it is believed
LIT_UP, LIT_BY = 1.3, 0.15  # times what a dark grey gave, and cd/m²: more is seldom what it was turned to
CONFIRMS = 0.9  # share of its light that a patch must have to say that the light is as it was
OF_LIGHT = ("light", "white-level", "gamma", "process")  # roles that may take light away
OF_COLOUR = ("colour", "saturation", "tint", "gamut")  # roles of what colours are adjusted by


def see_the_light(desk: Desk, made: list[Taken], start: int) -> Procedure[None]:
    """Raise OtherLightError where a patch gives a fraction of its light, and no light was turned down.

    Where white gives less and it may be what was turned, that is turned back for one reading. ``start``: so many were kept when
    the batch began. That the light is as it was is said by a patch that was read before and gives about as much.
    """
    well = not desk.lit_well
    dim = {c["id"] for role in OF_LIGHT for c in desk.by_role(role)} | {INSTALLED}
    own = {c["id"] for role in OF_COLOUR for c in desk.by_role(role)}
    for place, now in enumerate(made):
        if now.fraction.max() == 0.0:
            yield from _prove_black(desk, now)
        if now.fraction.max() < LIT:
            continue
        # A colour's own controls may take its light; the balance of the greys cannot take most of it.
        names = dim if np.ptp(now.fraction) == 0 else dim | own
        for before in desk.taken[:start]:
            is_low = now.xyz[1] < LOST * before.xyz[1] and before.xyz[1] > SEEN
            is_same = now.xyz[1] > CONFIRMS * before.xyz[1] and np.array_equal(before.fraction, now.fraction)
            if not (is_low or is_same) or (before.fraction > now.fraction).any():
                continue
            if any(before.settings.get(name) != now.settings.get(name) for name in names):
                continue
            well = True
            if is_low:
                made[place] = yield from _not_a_slip(desk, now, before)
                break
        yield from _prove(desk, made[place])
    if well and any(now.fraction.max() >= LIT for now in made):
        desk.lit_well = len(desk.taken)


def _not_a_slip(desk: Desk, now: Taken, before: Taken) -> Procedure[Taken]:
    """Read once more what gives a fraction of its light; return what it gives if that was a slip, or the one before was.

    White tells which. Raises OtherLightError where it gives a fraction too.
    """
    again, slip = (yield from desk.read([100.0 * float(v) for v in now.fraction])), now
    if again.xyz[1] < LOST * before.xyz[1]:
        dim = [c["id"] for role in OF_LIGHT for c in desk.by_role(role)]
        whites = [t for t in desk.taken if t.fraction.min() == 1.0 and t is not before]
        lit = [float(t.xyz[1]) for t in whites if all(t.settings.get(name) == now.settings.get(name) for name in dim)]
        slip = before
        white = (yield from desk.read((100.0, 100.0, 100.0))) if lit else again
        if white.xyz[1] < LOST * max([*lit, float(before.xyz[1])]):
            raise OtherLightError(
                f"A patch gave {before.xyz[1]:.3g} cd/m². Now one that asks for no less gives {again.xyz[1]:.3g}, with no "
                "light turned down: the meter has lost its aim, or something dims the display.",
                desk.lit_well,
                before,
            )
    desk.drop(slip)
    return again


def _white_before(desk: Desk, now: Taken) -> Taken | None:
    """Return the first white since it was last proven that had every choice and light as they are now."""
    kept = of_no_balance(desk)
    for t in desk.taken[desk.proven :]:
        if t is not now and t.fraction.min() == 1.0 and all(t.settings.get(k) == now.settings.get(k) for k in kept):
            return t
    return None


def of_no_balance(desk: Desk) -> set[str]:
    """Return the controls that may take or give a lot of light, which turning them back would not show."""
    return {c["id"] for role in OF_LIGHT for c in desk.by_role(role)} | {c["id"] for c in desk.controls if c["kind"] != "range"}


def _prove(desk: Desk, now: Taken) -> Procedure[None]:
    """Where white changed by more than a white balance usually does, go back to where it was first read and read it again.

    Raises RestlessError where it is not what it was, and nor is another grey of that state.
    """
    before = _white_before(desk, now) if now.fraction.min() == 1.0 and now.xyz[1] > 0 else None
    if before is None or before.xyz[1] < SEEN or abs(np.log(now.xyz[1] / before.xyz[1])) < CHANGED:
        return
    beside = [t for t in desk.taken if t.settings == before.settings and LIT < t.fraction.min() == t.fraction.max() < 1.0]
    is_true, again = yield from turned_back(desk, before, is_as_it_was(desk, [before, *beside[:1]]))
    if not is_true:
        raise is_another(desk, before, again)
    if not agree(now, (yield from desk.read((100.0, 100.0, 100.0)))):
        raise OtherLightError(PASSED, known_well(desk, before), before, is_over=True)
    desk.proven = len(desk.taken)


def is_another(desk: Desk, before: Taken, again: Taken) -> RestlessError:
    """Return what it means that a patch gives another light than before with everything turned back to as it was then."""
    if again.xyz[1] > np.exp(CHANGED) * before.xyz[1]:
        # Then something was before the meter, and not now: what was found is read anew, anything else since then is.
        if before.settings == desk.found:
            return FoundElsewhereError("It was far darker when what was found was read: something was before the meter.")
        since = next(i for i, t in enumerate(desk.taken) if t is before)
        return OtherLightError(PASSED, since, before, is_over=True)
    what = "White" if before.fraction.min() == 1.0 else "A patch"
    return OtherLightError(
        f"{what} gave {before.xyz[1]:.3g} cd/m². Everything was turned back for a moment, and it gave {again.xyz[1]:.3g}: "
        "the meter has lost its aim, or the levels of the signal, the light of the display or of the room is another.",
        known_well(desk, before),
        before,
    )


def of_another_picture(why: str, was: Taken, now: Taken, since: int, *, as_it_was: Taken | None = None) -> OtherLightError:
    """Return what it means that a grey gives another light with everything turned back, though white tells of nothing.

    ``as_it_was``: a darker one that gives what it gave, where this one gives less.
    """
    means = ": the levels of the signal, the picture or the light is another."
    if as_it_was is not None:
        means = (
            f", and one of {100.0 * as_it_was.fraction[0]:.0f} % what it had given: the display holds its light back, as some do "
            "after bright pictures that stand still. A dark picture for some minutes, or less light, brings it back."
        )
    return OtherLightError(
        f"{why}. Everything was turned back for a moment, and a grey of {100.0 * was.fraction[0]:.0f} % that gave "
        f"{was.xyz[1]:.3g} cd/m² gave {now.xyz[1]:.3g}{means}",
        since,
        was,
    )


def known_well(desk: Desk, before: Taken) -> int:
    """Return how many readings were taken in the light in which something was read before.

    Where white is in no batch, patches that were read twice may have confirmed each other in another light: so no later than then.
    """
    if not (desk.is_hdr or desk.has_installed):
        return desk.lit_well
    at = next(i for i, t in enumerate(desk.taken) if t is before)
    after = (i for i in range(at, len(desk.taken)) if desk.taken[i].settings != before.settings)
    return min(desk.lit_well, next(after, len(desk.taken)))


def _prove_black(desk: Desk, now: Taken) -> Procedure[None]:
    """Where black became far lighter or darker, go back to where it was: what is darker than the room is not what a display gives.

    Raises OtherLightError where it is lighter there too; FoundElsewhereError where it is darker: a door was open at the beginning.
    """
    before = next((t for t in desk.taken[desk.proven_black :] if t is not now and t.fraction.max() == 0.0), None)
    is_lighter = before is not None and _is_lighter(now, before)
    if before is None or not (is_lighter or _is_darker(now, before)):
        desk.dark_well = len(desk.taken)
        return
    again, lost = yield from turned_back(desk, before, _black_and_lit(desk, before))
    if lost is not None:
        raise OtherLightError(
            f"Black gives less than it did, and what gave {lost.xyz[1]:.3g} cd/m² gives less too: the meter has lost its aim.",
            desk.lit_well,
            lost,
        )
    if _is_lighter(again, before):
        raise OtherLightError(
            f"Black gave {max(before.xyz[1], 0.0):.3g} cd/m². Everything was turned back for a moment, and it gave "
            f"{again.xyz[1]:.3g}: the room has become lighter, or the display’s black is another.",
            desk.dark_well,
            before,
        )
    if _is_darker(again, before):
        raise FoundElsewhereError("Black was far lighter when what was found was read: a door was open, or a lamp on.")
    if not (_is_lighter if is_lighter else _is_darker)((yield from desk.read((0.0, 0.0, 0.0))), before):
        raise OtherLightError(PASSED, desk.dark_well, before, is_over=True)
    desk.proven_black = desk.dark_well = len(desk.taken)


def _black_and_lit(desk: Desk, before: Taken) -> Procedure[tuple[Taken, Taken | None]]:
    """Return black as it is now and, where it is far darker, a lit patch of the same state that is darker too."""
    black = yield from desk.read((0.0, 0.0, 0.0))
    lit = next((t for t in desk.taken if t.settings == before.settings and t.fraction.min() >= LIT and t.xyz[1] > SEEN), None)
    if lit is None or not _is_darker(black, before):
        return black, None
    now = yield from desk.read([100.0 * float(v) for v in lit.fraction])
    return black, lit if now.xyz[1] < CONFIRMS * lit.xyz[1] else None


def see_the_dark(desk: Desk, made: list[Taken], start: int) -> Procedure[None]:
    """Read black where a dark grey gives far more or less than it did: light of the room is told by it, turned controls are not.

    Raises OtherLightError.
    """
    if desk.spent >= desk.budget or not any(t.fraction.max() == 0.0 for t in desk.taken[desk.proven_black : start]):
        return
    for now in made:
        if not 0.0 < now.fraction.max() < LIT or np.ptp(now.fraction) > 0:
            continue
        was = _dark_before(desk, now, desk.taken[:start])
        if was is not None and any(a > LIT_UP * b + LIT_BY for a, b in ((now.xyz[1], was), (was, now.xyz[1]))):
            yield from _prove_black(desk, (yield from desk.read((0.0, 0.0, 0.0))))
            return


def _dark_before(desk: Desk, now: Taken, taken: list[Taken]) -> float | None:
    """Return the cd/m² that a dark grey gave when it was last read, in HDR those about it; None where that is not told."""
    same = next((t for t in reversed(taken) if np.array_equal(t.fraction, now.fraction)), None)
    if same is not None:
        # Another curve, or processing that was turned off, may have moved it as far as it likes.
        kept = of_no_balance(desk)
        return float(same.xyz[1]) if all(same.settings.get(k) == now.settings.get(k) for k in kept) else None
    return last_about(taken, float(now.fraction[0])) if desk.is_hdr else None


def comes_back(desk: Desk, problem: OtherLightError) -> Procedure[bool]:
    """Wait until a patch gives what it gave before, with everything turned back to that; return whether it did.

    A hand before the meter or an open door is gone in a minute, and whoever could be called is not there.
    """
    if desk.waits == MOST_WAITS:
        return False
    desk.waits += 1
    seen_for = f"{LOOKS * LOOK_S:.0f} s or more"
    yield from desk.say(f"{problem} Nobody can be called: whether it comes right by itself is seen for {seen_for}.")
    return (yield from turned_back(desk, problem.was, _awaited(problem.was)))


def woken(desk: Desk, problem: OtherLightError) -> Procedure[bool]:
    """Return whether the light is as it was once something was turned; then that is done every few readings from now on."""
    if desk.by_hand or desk.is_drowsy or not (yield from stir(desk)):
        return False
    is_true, _ = yield from turned_back(desk, problem.was, is_as_it_was(desk, [problem.was], gives_as_much))
    if is_true:
        desk.is_drowsy = True
        how = "something is turned and turned back now and then"
        desk.notes.append(f"The display takes light from a picture that stands still, so {how}.")
    return is_true


def is_right(desk: Desk, was: Taken) -> Procedure[bool]:
    """Return whether a patch gives what it gave before, with everything turned back to that: somebody has said that it is right."""
    # Whoever aims a meter anew does not aim it to a hair as before.
    return (yield from turned_back(desk, was, _awaited(was, 1, lambda one, other: abs(np.log(one.xyz[1] / other.xyz[1])) < AIMED)))


def _awaited(was: Taken, looks: int = LOOKS, alike: Callable[[Taken, Taken], bool] = agree) -> Procedure[bool]:
    """Read a patch until it gives what it gave before; return whether it came to that.

    In between the picture is dark: a display that holds its light back gives it again after that alone.
    """
    red, green, blue = (100.0 * float(v) for v in was.fraction)
    for _ in range(looks):
        if looks > 1:
            yield Read((0.0, 0.0, 0.0))
            yield Wait(LOOK_S)
        _, xyz = yield Read((red, green, blue))
        now = replace(was, xyz=np.asarray(xyz, dtype=np.float64))
        lit = was.fraction.any() and was.xyz[1] > 0
        if (now.xyz[1] > 0 and alike(was, now)) if lit else not _is_lighter(now, was):
            return True
    return False


def gives_as_much(one: Taken, other: Taken) -> bool:
    """Return whether two readings of a patch have the same light, whatever its colour: a meter that drifts is no other light."""
    return bool(min(one.xyz[1], other.xyz[1]) > 0 and abs(np.log(one.xyz[1] / other.xyz[1])) <= SAME)


def is_as_it_was(
    desk: Desk, told: list[Taken], alike: Callable[[Taken, Taken], bool] = agree
) -> Procedure[tuple[bool, Taken]]:
    """Read patches again until one gives what it gave; return whether one did, and what the first gave."""
    first: Taken | None = None
    for t in told:
        read = yield from desk.read([100.0 * float(v) for v in t.fraction])
        first = first or read
        if alike(t, read):
            return True, first
    return False, first or told[0]


def turned_back(desk: Desk, to: Taken, look: Procedure[T]) -> Procedure[T]:
    """Do something with every control as it stood when something was read, and put all of them to where they are."""
    here = desk.settings
    yield from desk.put(to.settings)
    yield from desk.following.wait_long(desk.settings)
    try:
        made = yield from look
    except ENDS:
        yield from desk.put(here)
        raise
    yield from desk.put(here)
    yield from desk.following.wait_long(desk.settings)
    return made


def _is_lighter(now: Taken, before: Taken) -> bool:
    """Whether a black is lighter than a white balance can make one that was read before."""
    return bool(now.xyz[1] > LIFTED * max(float(before.xyz[1]), 0.0) + DAYLIGHT)


def _is_darker(now: Taken, before: Taken) -> bool:
    """Whether a black is darker than one that was read before by as much as an open door gives."""
    return bool(before.xyz[1] > FELL * max(float(now.xyz[1]), 0.0) + DAYLIGHT)
