"""How the greys of a hands-free job are moved: learn from what was read, solve, set, and see that something came of it."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from fenvik.core.controls import Control, felt_steps
from fenvik.core.models import grain, room
from fenvik.core.models.grey import Fit
from fenvik.core.models.greyblock import prior_units
from fenvik.core.models.greysolve import solve
from fenvik.core.procedures.following import PATIENT_S
from fenvik.core.procedures.greyview import GreyView
from fenvik.core.procedures.misfit import see_that_it_is_explained
from fenvik.core.procedures.steps import Procedure, Wait
from fenvik.core.procedures.taken import Taken
from fenvik.core.procedures.unlocking import LEAST_PROMISED, Dead
from fenvik.core.types import Floats

IS_LATE = 0.5  # of what was promised, once it was waited for
TRIES, MANY_LOST = 3, 4  # to move and read; readings that a move was made from and that were thrown away since
NEAR = 0.3  # percent of signal: a code is rounded by less
LEAST_LEVELS = 4  # fewer tell nothing of a curve
FIRST = (100.0, 70.0, 40.0, 20.0, 10.0)
BESIDE = 12.0  # percent of signal: levels nearer to each other tell nearly the same of a curve
HIDDEN = 2.0  # times less known than where a display follows: near its end little of what is turned is seen
LIT, DOES_LITTLE, DOES_MUCH = 0.25, 0.2, 0.7  # of signal; of what was promised


@dataclass
class GreyMoves(GreyView):
    """What moves the greys, from what is known of them."""

    quiet: bool = False  # something else adjusts what this cannot
    reached: bool = False
    before_last: dict[str, Any] | None = None  # how everything stood before a move that no reading has checked
    suspicions: int = 0  # how often nothing seemed to come of what was turned
    dead: Dead | None = None  # what was turned, did nothing, and was put back: nothing was adjusted then

    def _fits_nothing(self, kinds: Sequence[str]) -> bool:
        """Return whether a fit to all readings gives knobs of some kinds next to nothing of what their range promises."""
        made = self._fit(self._seen(self.boost))
        share = np.array(made.step) / prior_units(self.knobs)
        return float(np.median([share[i] for i, knob in enumerate(self.knobs) if knob.kind in kinds])) < DOES_LITTLE

    def suspected(self, kinds: Sequence[str], stood: dict[str, Any], *, by_fit: bool = False) -> Dead | None:
        """Return what of some kinds of knobs was turned, if nothing seems to have come of it; what acts is doubted no more.

        ``stood``: the settings before. ``by_fit``: points, of which all that is known is held against what they promise: other
        knobs that were turned with them may have brought what seems to have come of them. What was turned by less than every
        display feels is turned farther in what is returned, for some feel every fourth step of their menu alone.
        """
        assert self.model is not None
        now, after = self.desk.settings, self.moved
        mine = np.array([knob.kind in kinds for knob in self.knobs])
        without = np.where(mine, self._moved(stood), after)
        turned = [knob.id for knob in self.knobs if knob.kind in kinds and now[knob.id] != stood[knob.id]]
        refused = {knob.id for knob in self.knobs if knob.kind in kinds} & self.desk.refused
        if refused and not turned:
            return Dead({name: stood[name] for name in refused}, is_refused=True)
        told = [s for s in self._seen(self.model.boost) if s.level >= LIT and s.doubt < HIDDEN and (s.moved == after).all()]
        if not turned or not told:
            return None
        levels = np.array([s.level for s in told])
        was = self.model.at(levels, without)
        promised, came = self.model.at(levels, after) - was, np.array([s.drives for s in told]) - was
        # All that such knobs promised so far: a model that has seen them do nothing promises little of what is turned next.
        now_kept: Floats = np.array([float((promised * came).sum()), float((promised**2).sum())])
        since = self.kept_of[kinds] = self.kept_of.get(kinds, np.zeros(2)) + now_kept
        if since[0] > DOES_LITTLE * since[1] and not (by_fit and self._fits_nothing(kinds)):
            if by_fit or since[0] > DOES_MUCH * since[1]:
                self.doubted = [kind for kind in self.doubted if kind not in kinds]
            return None
        by = after - without
        least = np.array([felt_steps(knob.low, knob.high, knob.step) for knob in self.knobs])
        farther = np.where(mine & (by != 0.0), without + np.sign(by) * np.maximum(np.abs(by), least), after)
        lights = [self._shown(self.model.at(levels, moved), levels, 0.0) for moved in (without, farther)]
        of_levels = np.abs(np.log(lights[1] / lights[0])).max(axis=1)
        place = int(np.argmax(of_levels))
        values = {k.id: k.value_at(float(steps)) for k, steps in zip(self.knobs, farther, strict=True) if k.id in turned}
        dead = Dead(values, 100.0 * float(levels[place]), float(of_levels[place]))
        return dead if dead.promised >= LEAST_PROMISED else None

    def _move_and_read(self, allowed: Sequence[bool], levels: Floats, read: Sequence[float]) -> Procedure[None]:
        """Move, and read greys at percentages. What came from readings of another light is taken back and done anew."""
        for left in reversed(range(TRIES)):
            known, stood = list(self.desk.taken), self.desk.settings
            yield from self._move(allowed, levels)
            if self.reached:
                return
            yield from self.desk.greys(read)
            kept = {id(t) for t in self.desk.taken}
            if not left or sum(id(t) not in kept for t in known) < MANY_LOST:
                return
            yield from self.desk.put(stood)
            yield from self.desk.each_once(self.palette.greys(FIRST))

    def _is_dead(
        self, kinds: Sequence[str], stood: dict[str, object], *, is_first: bool = False, by_fit: bool = False
    ) -> Procedure[bool]:
        """Where nothing came of first moves of some kinds of knobs, put those back and keep in ``dead`` what they were turned to.

        ``stood``: the settings before them. What is suspected is proven by a reading with them and one without; a first suspicion
        that others can follow is not. ``by_fit``: as of ``suspected``.
        """
        now, dead = self.desk.settings, self.suspected(kinds, stood, by_fit=by_fit)
        if dead is None or dead.is_refused:  # none was let be set
            self.dead = dead
            return dead is not None
        self.suspicions += 1
        if is_first and not by_fit and self.suspicions == 1:
            return False
        start = next((i for i, t in enumerate(self.desk.taken) if t.settings == now), len(self.desk.taken))
        read = [t for t in self.desk.taken[start:] if t.is_grey]
        percents = [100.0 * float(t.fraction[0]) for t in read]
        with_it = yield from self._patiently(now | dead.turned, dead.level)
        without_it = yield from self._patiently(now | {name: stood[name] for name in dead.turned}, dead.level)
        if share := dead.share(without_it, with_it):
            self.doubted = [kind for kind in self.doubted if kind not in kinds]
            yield from self.desk.put(now)
            if share > IS_LATE and (yield from self._had_not_come(read, dead, with_it)):
                self.desk.forget_too_soon(start)
                self.desk.following.waits_longer("turned")
                yield from self.desk.greys(percents)
            return False
        self.dead = dead
        return True

    def _had_not_come(self, read: Sequence[Taken], dead: Dead, with_it: Taken) -> Procedure[bool]:
        """Return whether what was ``read`` after a move was read before that came into the light; else it does less than its range
        says, or than the end of a display lets be seen. ``with_it``: the reading that proved that it acts.
        """
        was = next((t for t in read if t.shows((dead.level,) * 3)), None)
        now = with_it if with_it.settings == self.desk.settings else (yield from self.desk.greys((dead.level,)))[0]
        return was is None or bool(dead.share(was, now))

    def _patiently(self, settings: dict[str, object], level: float) -> Procedure[Taken]:
        """Return the reading of a grey with all controls put somewhere, once it has surely come into the light."""
        yield from self.desk.put(settings)
        yield Wait(PATIENT_S["turned"])
        return (yield from self.desk.greys((level,)))[0]

    def _not_kept(self, levels: Sequence[float], before: Sequence[Taken]) -> list[float]:
        """Return the levels in percent of which no reading is kept but those from before."""
        earlier = {id(t) for t in before}
        new = [t for t in self.desk.taken if id(t) not in earlier and t.is_grey]
        return [p for p in levels if not any(abs(100.0 * float(t.fraction[0]) - p) < NEAR for t in new)]

    def _move(self, allowed: Sequence[bool], levels: Floats, *, last: bool = False) -> Procedure[None]:
        """Fit to everything seen, solve, and set."""
        yield from self._learn()
        if lost := (yield from see_that_it_is_explained(self)):
            yield from self.desk.greys(lost)
            yield from self._learn()
        self.reached = self._is_good_enough(self.moved, levels)
        if self.reached:
            return
        self.before_last = self.desk.settings if last else None
        while not (yield from self._turn(allowed, levels, last=last)):
            assert self.model is not None
            self.knobs = [self._with_room(knob) for knob in self.knobs]
            self.model = replace(self.model, knobs=tuple(self.knobs))

    def see_that_it_fits(self) -> Procedure[None]:
        """See that greys that were read since the last move are explained; what is not is forgotten. Raises OtherLightError."""
        if self.model is None:
            return
        known, boost, self.taught = (self.model, self.taught), self.model.boost, None
        self.model = replace(self._fit(self._seen(boost)), boost=boost)
        yield from see_that_it_is_explained(self)
        self.model, self.taught = known  # what the proof says is no more to be learned from

    def _learn(self) -> Procedure[None]:
        """Fit to everything seen."""
        if self.model is not None:
            self._follow_black()
        seen = self._seen()
        known = {round(100.0 * s.level, 2) for s in seen}
        if len(known) < LEAST_LEVELS:
            apart = NEAR if self.palette.is_shortened else BESIDE  # in HDR there are readings to spare
            lacking = [p for p in self.palette.greys(FIRST) if all(abs(p - other) > apart for other in known)]
            yield from self.desk.each_once(lacking)
            seen = self._seen()
        self.model = self._fit(seen)
        if self.boost:
            freed = self._fit(self._seen(self.boost))
            if freed.residual < self.model.residual:
                self.model = replace(freed, boost=self.boost)
        self._see_the_grain()

    def _see_the_grain(self) -> None:
        """Turn in a display's own steps from now on, where what was read speaks for larger ones than its menu's."""
        assert self.model is not None
        boost = self.model.boost
        others = grain.find(self.model, self._seen_by(self._of_now(), boost), self._fit_of)
        if others is not None:
            self.knobs = others
            self.model = replace(self._fit(self._seen(boost)), boost=boost)

    def _solved(self, model: Fit, allowed: Sequence[bool], levels: Floats, *, last: bool = False) -> Floats:
        """Return where knobs would best stand (k,), in steps from where this began."""
        # Curves that follow bend what gains and offsets would bend badly; in PQ these bring light for them.
        is_whole = self.target.curve == "pq" or not self.quiet
        return solve(
            model, self.moved, self.target, self.white, self.black, levels=levels, last=last, curve=is_whole,
            allowed=[may and knob.id not in self.desk.refused for may, knob in zip(allowed, self.knobs, strict=True)],
            lift=self._black().most(min(self.black, self.found)), roll=self.palette.roll,
        )  # fmt: skip

    def _freely(self) -> Floats | None:
        """Return where gains would stand (k,) if their range went on; None where none was found at its top, or stands elsewhere."""
        if self.model is None or not room.stuck(self.knobs, self.moved):
            return None
        free = replace(self.model, knobs=tuple(room.freed(knob) for knob in self.knobs))
        return self._solved(free, self.two, self.judged)

    def _turn(self, allowed: Sequence[bool], levels: Floats, *, last: bool) -> Procedure[bool]:
        """Turn what the model says; return whether the display let that be done, else it is to be thought of anew."""
        assert self.model is not None
        moved, refused = self.moved, set(self.desk.refused)
        wanted = self._solved(self.model, allowed, levels, last=last)
        controls = {c["id"]: c for c in self.desk.controls}
        ends = [(controls[knob.id]["min"], controls[knob.id]["max"]) for knob in self.knobs]
        for knob, now, then in zip(self.knobs, moved, wanted, strict=True):
            if now != then:
                yield from self.desk.set(controls[knob.id], knob.value_at(then))
        is_as_told = ends == [(controls[knob.id]["min"], controls[knob.id]["max"]) for knob in self.knobs]
        return is_as_told and refused == self.desk.refused

    def _with_room(self, knob: Control) -> Control:
        control = next(c for c in self.desk.controls if c["id"] == knob.id)
        return replace(knob.in_grains(None), low=float(control["min"]), high=float(control["max"])).in_grains(knob.grain)
