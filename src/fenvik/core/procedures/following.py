"""How soon what is turned comes into the light: a display may say that something is set, and show it a second or three later.

How long the light takes to follow a picture tells nothing of that. So the first batches after a turn end with a patch of their own
once more: where it gives another light by then, what was read is of a display that had not followed yet.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.procedures.doubt import INSTALLED
from fenvik.core.procedures.steps import Fraction, Procedure, Read, Wait
from fenvik.core.procedures.taken import Taken
from fenvik.core.types import Floats

if TYPE_CHECKING:
    from fenvik.core.procedures.desk import Desk

# Seconds, the next one wherever one was not enough. What is installed shows seldom in the first reading, so few steps tell.
# A colour's own controls are a kind of their own: that they are seen at once tells nothing of white balance, which may come late.
OF_TURNS = (1.5, 3.0, 6.0, 12.0)
WAITS = {"chosen": OF_TURNS, "turned": OF_TURNS, "coloured": OF_TURNS, "installed": (5.0, 12.0)}
MOST_TRIES = 1 + max(len(waits) for waits in WAITS.values())
ENOUGH = 1  # that was seen to have come when it was read
MARGIN = 1.5  # times what was seen to be enough
PATIENT_S = {"chosen": 8.0, "turned": 8.0, "coloured": 8.0, "installed": 10.0}  # for what should be seen and is not
BETWEEN_S = 2.0  # from the first reading of a patch to its second, at least
SOON_S, MANY = 2.0, 3  # for what is installed, before fewer patches than tell of it
MOST_PATIENT = 2  # times in a run
ALIKE = ("chosen", "turned", "coloured")
VISIBLE = ("gamma", "white-preset", "gamut", "light", "white")  # roles that usually change the light of every patch
EVERYWHERE = ("white.gain", "light", "white-preset")  # that change the light of every lit patch
LIT, SEEN = 0.29, 1.0  # fraction of signal, and cd/m²: what is darker tells little
APART, APART_UV = 0.01, 0.002  # of ln luminance and of u′v′: the meter's noise and a wandering light are less
BESIDE = 0.3  # of the way from the one light to the other: a light on its way lies no farther beside it
CLEARLY = 2.0  # times that: what a turn does beyond doubt
# Share of the light of patches that ask for no more; how long, and how often, a black screen is waited for.
DARK, DARK_S, MOST_DARK = 0.02, 2.0, 5


def _of_each() -> dict[str, Any]:
    return dict.fromkeys(WAITS, 0)


@dataclass
class Following:
    """What is known of it, of a choice, of what is turned, of colours and of what is installed apart.

    ``wait_s``: after each, before anything is read; until more is known all but what is installed are taken to be alike.
    """

    choices: frozenset[str] = frozenset()  # ids of what is chosen and not turned
    colours: frozenset[str] = frozenset()  # ids of what single colours are turned by
    wait_s: dict[str, float] = field(default_factory=_of_each)
    came: dict[str, int] = field(default_factory=_of_each)  # that were seen to have come
    stood: dict[str, Any] | None = None  # the settings when something was last read
    lit: dict[str, Any] | None = None  # the settings when something last gave light
    asked: int = 0  # readings that told of it, and were taken for nothing else
    patient: dict[str, int] = field(default_factory=_of_each)

    def kind_of(self, now: dict[str, Any]) -> str | None:
        """Return what was done since something was last read: chosen, turned or installed, None for nothing."""
        if self.stood is None or self.stood == now:
            return None
        other = {name for name, value in now.items() if self.stood.get(name) != value}
        if INSTALLED in other:
            return "installed"
        if other <= self.choices:
            return "chosen"
        return "coloured" if other <= self.colours else "turned"

    def after(self, kind: str) -> float:
        """Return how many seconds are waited after something of a kind, before they are stretched."""
        if kind == "coloured" or (kind in ALIKE and self.is_unknown(kind)):
            return max(self.wait_s[each] for each in ALIKE)
        return self.wait_s[kind]

    def wait(self, now: dict[str, Any]) -> Procedure[None]:
        """Wait until what was turned is seen, as far as it is known how long that takes."""
        kind = self.kind_of(now)
        if kind is not None and self.after(kind):
            # What was just enough once may not be the next time.
            yield Wait(self.after(kind) * (1.0 if self.is_unknown(kind) else MARGIN))
        self.stood = now

    def wait_long(self, now: dict[str, Any], seconds: float | None = None) -> Procedure[None]:
        """Wait where nothing is known yet as if it was slow, or for so many seconds: what is read next is believed at once."""
        kind = self.kind_of(now)
        if kind is not None and self.is_unknown(kind):
            yield Wait(max(PATIENT_S[kind] if seconds is None else seconds, self.after(kind)))
            self.stood = now

    def tells(self, kind: str | None, wanted: Sequence[Sequence[float]]) -> bool:
        """Return whether a batch of patches, in percent, is to tell how soon it is seen.

        Curves and an end are seldom seen in the peak alone.
        """
        lit = sum(max(percent) >= 100.0 * LIT for percent in wanted)
        return kind is not None and self.is_unknown(kind) and lit >= (MANY if kind == "installed" else 1)

    def is_unknown(self, kind: str) -> bool:
        """Return whether it is not known yet how soon it is seen; of colours what white balance has told is enough."""
        return max(self.came[each] for each in {kind, "turned" if kind == "coloured" else kind}) < ENOUGH

    def waits_longer(self, kind: str) -> None:
        """Wait longer from now on: what was waited was not enough."""
        longer = [seconds for seconds in WAITS[kind] if seconds > self.after(kind)]
        self.wait_s[kind] = longer[0] if longer else WAITS[kind][-1]
        self.came[kind] = 0

    def unlearn(self, kind: str) -> None:
        """Take it that nothing is known of a kind: what was turned had no effect, and so told nothing."""
        self.came[kind] = self.patient[kind] = 0

    def has_come(self, kind: str) -> None:
        """Keep that what was waited is enough."""
        self.wait_s[kind] = self.after(kind)
        self.came[kind] += 1


def read_lit(desk: Desk, percent: Fraction) -> Procedure[tuple[Floats, Floats]]:
    """Read a patch; while it gives no light though something was turned since there last was some, read it again a little later.

    Many screens are black for a moment when a mode, a preset or a range is chosen. Those readings are not counted.
    """
    now, following = desk.settings, desk.following
    for left in reversed(range(MOST_DARK + 1)):
        fraction, xyz = yield Read(percent)
        made = np.asarray(fraction, dtype=np.float64), np.asarray(xyz, dtype=np.float64)
        if made[0].max() < LIT:
            return made
        least = [float(t.xyz[1]) for t in desk.taken if (t.fraction <= made[0]).all() and t.xyz[1] > SEEN]
        if not (left and least and made[1][1] < DARK * min(least) and following.lit not in (None, now)):
            break
        desk.thrown, desk.budget = desk.thrown + 1, desk.budget + 1
        yield Wait(DARK_S)
    following.lit = now
    return made


def is_late(desk: Desk, made: list[Taken], kind: str, stood: dict[str, Any], *, at_once: bool) -> Procedure[bool]:
    """Return whether a batch that was read after a turn was read before the light had followed; then more is waited from now on.

    ``stood``: the settings before the turn. ``at_once``: whether no batch was read since it; else that it has come proves nothing.
    """
    lit = [t for t in made if t.fraction.max() >= LIT and t.xyz[1] > SEEN]
    if not lit:
        return False
    ahead, first = [t for t in desk.taken[: -len(made)] if t.settings != lit[0].settings], lit[0]
    known = [(t, next((b for b in reversed(ahead) if np.array_equal(b.fraction, t.fraction)), None)) for t in lit]
    before = known[0][1]
    percent = [100.0 * float(v) for v in first.fraction]
    if any(was is not None for _, was in known) and not any(was is not None and _apart(was, t) > CLEARLY for t, was in known):
        # What was turned does next to nothing, or has not come at all yet.
        should = {INSTALLED, *(c["id"] for role in VISIBLE for c in desk.by_role(role))}
        if desk.following.patient[kind] >= MOST_PATIENT or all(stood.get(name) == first.settings.get(name) for name in should):
            return False
        desk.following.patient[kind] += 1
        yield Wait(PATIENT_S[kind])
    elif pause := max(desk.following.after(kind), BETWEEN_S if len(made) <= MANY else 0.0):
        yield Wait(pause)
    again = yield from desk.read(percent)
    desk.following.asked += 1
    if before is None:  # what the same turn does to others of the batch tells, where it turns every light
        changed = _turns_every_light(desk, first, stood) and any(was is not None and _apart(was, t) > CLEARLY for t, was in known)
    else:
        changed = _apart(before, again) > CLEARLY
    if _apart(first, again) <= 1.0:
        if changed and at_once:
            desk.following.has_come(kind)
        return False
    # A slip stands alone; a light that has come stays, and comes from where it was before the turn.
    third = yield from desk.read(percent)
    slip = again if _apart(first, third) <= 1.0 else first if before is not None and not _is_between(before, first, third) else None
    if slip is not None:
        made[:] = [again if t is slip else t for t in made]
        desk.drop(slip)
        return False
    desk.following.waits_longer(kind)
    return True


def _turns_every_light(desk: Desk, now: Taken, stood: dict[str, Any]) -> bool:
    """Return whether something was turned that no lit patch is without."""
    return any(stood.get(c["id"]) != now.settings.get(c["id"]) for role in EVERYWHERE for c in desk.by_role(role))


def _apart(one: Taken, other: Taken) -> float:
    """Return how far two readings of a patch lie apart, in shares of what a light that stands still may."""
    by_light = abs(float(np.log(max(float(one.xyz[1]), 1e-6) / max(float(other.xyz[1]), 1e-6))))
    return max(by_light / APART, float(np.linalg.norm(xyz_to_uv(one.xyz) - xyz_to_uv(other.xyz))) / APART_UV)


def _is_between(before: Taken, first: Taken, now: Taken) -> bool:
    """Return whether a reading lies between what a patch gave before a turn and what it gives now."""
    by_light = [float(np.log(max(float(t.xyz[1]), 1e-6))) / APART for t in (before, first, now)]
    by_colour = [xyz_to_uv(t.xyz) / APART_UV for t in (before, first, now)]
    was, at, end = (np.array([light, *colour]) for light, colour in zip(by_light, by_colour, strict=True))
    way = end - was
    share = float((at - was) @ way / max(float(way @ way), 1e-9))
    return -BESIDE < share < 1.0 and float(np.linalg.norm(at - was - share * way)) < 1.0 + BESIDE * float(np.linalg.norm(way))


def said_of(following: Following) -> list[str]:
    """Return in sentences what was learned, none where the light followed at once."""
    set_s, installed_s = max(following.wait_s[kind] for kind in ALIKE), following.wait_s["installed"]
    return [
        f"What is {kind} comes into this display’s light late: {MARGIN * seconds:.0f} s were waited each time."
        for kind, seconds in (("turned", set_s), ("installed", installed_s))
        if seconds
    ]
