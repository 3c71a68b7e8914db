"""Which readings of a batch stand out from those beside them, and are read again before anything is learned from them."""

from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any

import numpy as np

from fenvik.core.procedures.expected import ANOTHER, DARK, LIT, SHADOW, by_its_hue, from_curve, from_greys, last_about
from fenvik.core.procedures.told import Told, all_told

INSTALLED = "*installed*"  # beside the values of controls: no control is called so
SAME, SAME_UV = 0.06, 0.005  # of ln luminance and u′v′: with every control as it stood, only a slip changes a patch by more
APART, APART_IN_HDR = 0.15, 0.22  # of ln luminance: how differently two patches may change at once, of one colour or greys of PQ
WHITE = 0.9  # fraction of signal: a grey above it is lit, whatever the display
# Of two patches of which one asks for more of every light, that one is brighter wherever a display may end or clip.
LOWER, HIGHER, BRIGHTER = 0.5, 0.25, 1.15  # fraction of signal of the one, how much more the other asks for, and what it must give
LOWER_HDR = 0.3  # 10 cd/m² of PQ: every display gives that, however early it ends
TO_A_HAIR, TO_A_HAIR_UV = 0.008, 0.0015  # of ln luminance and u′v′: the meter's own noise
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
    batch = _Batch(*all_told(made, before), is_hdr=is_hdr)
    far = {i: size for i in range(len(made)) if (size := batch.far(i)) > 1.0}
    for i in [*far] if aims else ():
        should = next((light for percent, light in (aims or {}).items() if made[i].shows(percent)), 0.0)
        if far[i] < OUT_OF_ORDER and should > 0 and abs(batch.made[i].ln - float(np.log(should))) < APART:
            del far[i]
    return sorted(far, key=lambda i: -far[i])


def agree(one: Any, other: Any) -> bool:
    """Return whether two readings of a patch, with the controls as they stood, confirm each other."""
    a, b = (Told(t, t.settings) for t in (one, other))
    return abs(a.ln - b.ln) <= SAME and a.beside(b) <= SAME_UV


class _Batch:
    """Readings in order and those before them; how far each lies from what is expected of it."""

    def __init__(self, made: Sequence[Told], before: Sequence[Told], *, is_hdr: bool) -> None:
        self.made, self.before, self.is_hdr = made, before, is_hdr
        self.greys: dict[Any, dict[int, float]] = {}  # by what was installed: see _greys_changed

    def far(self, place: int) -> float:
        """Return how far a reading lies from what is expected, in shares of what is let pass."""
        now, made, before = self.made[place], self.made, self.before
        others = [*before, *made[:place], *made[place + 1 :]]
        alike = [t for t in others if t.settings is now.settings]
        most = LOWER_HDR if self.is_hdr else LOWER
        if any(_is_out_of_order(now, t, most) or _is_out_of_order(t, now, most) for t in alike):
            return OUT_OF_ORDER
        if now.least > WHITE and now.light < LIT:
            return OUT_OF_ORDER  # the patch before, likely
        if _is_the_one_before(now, made[place - 1] if place else before[-1] if before else None, others):
            return OUT_OF_ORDER
        if now.light < LIT or now.most < DARK:
            return 0.0
        same = next((t for t in reversed(alike) if t.patch == now.patch), None)
        if same is not None:
            return max(abs(now.ln - same.ln) / SAME, now.beside(same) / SAME_UV)
        if now.is_grey:
            around = [t for t in alike if t.is_grey]
            # Where every light is said by the signal greys keep their places, whatever is turned; in SDR white is another.
            changed = self._from_greys_before(place) if self.is_hdr else 0.0
            return max(from_curve(now, around, is_hdr=self.is_hdr), from_greys(now, around), changed)
        return self._from_change(place)

    def _from_greys_before(self, place: int) -> float:
        """Hold how a grey of PQ or HLG changed since such greys were last read against how the others of its batch did."""
        changes = self._greys_changed(self.made[place].settings.get(INSTALLED))
        if place not in changes or len(changes) < 3:
            return 0.0
        rest = float(np.median([v for i, v in changes.items() if i != place]))
        return abs(changes[place] - rest) / APART_IN_HDR

    def _greys_changed(self, installed: Any) -> dict[int, float]:
        """Return by how much the greys of the batch, by place, changed in ln luminance since what is installed was."""
        if installed not in self.greys:
            same = [t for t in self.before if t.settings.get(INSTALLED) == installed]  # curves move greys as they like
            lit = {i: t for i, t in enumerate(self.made) if t.is_grey and t.most >= SHADOW and t.light >= LIT}
            were = {i: last_about(same, t.most) for i, t in lit.items()}
            self.greys[installed] = {i: lit[i].ln - float(np.log(was)) for i, was in were.items() if was}
        return self.greys[installed]

    def _from_change(self, place: int) -> float:
        """Hold how a colour changed since it was last read against how the others of its batch did.

        What was last read with other controls than all of those changed otherwise, and what was adjusted by itself too: neither is
        doubted as long as it gives what it gave, or what the newest reading of its hue and the greys tell.
        """
        if place not in self._changes or len(self._changes) < 2:
            return 0.0
        change, then = self._changes[place]
        others = [each for i, each in self._changes.items() if i != place]
        apart = [abs(change - float(np.median([other for other, _ in others])))]
        if apart[0] > APART:
            if all(each is not then for _, each in others):
                apart.append(abs(change))
            now = self.made[place]
            if (should := by_its_hue(now, [*self.before, *self.made], is_hdr=self.is_hdr)) is not None:
                apart.append(abs(now.ln - should))
        return min(apart) / APART

    @cached_property
    def _changes(self) -> dict[int, tuple[float, dict[str, Any]]]:
        """By how much patches, by place, changed in ln luminance since they were last read, and with what controls that was."""
        last = {t.patch: t for t in self.before}
        lit = {i: t for i, t in enumerate(self.made) if t.patch in last and t.light >= LIT}
        return {i: (t.ln - last[t.patch].ln, last[t.patch].settings) for i, t in lit.items()}


def _is_out_of_order(low: Told, high: Told, most: float) -> bool:
    """Return whether a patch that asks for far less of every light than another, ``most`` at most, is not darker."""
    if low.most > most or high.most < low.most + HIGHER or low.light < LIT or low.light * BRIGHTER <= high.light:
        return False
    return all(a <= b for a, b in zip(low.patch, high.patch, strict=True))


def _is_the_one_before(now: Told, last: Told | None, others: Sequence[Told]) -> bool:
    """Return whether a patch gives to a hair what another gave just before it, and the display has not ended there."""
    if last is None or now.light < LIT or now.apart(last) < ANOTHER:
        return False
    is_same = abs(now.ln - last.ln) < TO_A_HAIR and now.beside(last) < TO_A_HAIR_UV
    return is_same and any(t.light > BRIGHTER * now.light for t in others)
