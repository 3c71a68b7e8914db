"""The greys of a hands-free job: two-point first, then all points at once, and a last look when the colours are done."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control, of_greys
from fenvik.core.models import room
from fenvik.core.models.black import Black, black_of
from fenvik.core.models.foreseen import Course
from fenvik.core.models.grey import Fit, Seen, drives_of, fineness, seen_at, seen_of
from fenvik.core.models.greyfit import fit
from fenvik.core.models.greysolve import lift_of, solve, worth_reading
from fenvik.core.models.palette import DARKEST, SDR, Palette
from fenvik.core.models.taught import Taught
from fenvik.core.models.twopoint import light
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import Procedure
from fenvik.core.procedures.taken import Taken
from fenvik.core.types import Floats

MOST_GREYS = 60  # readings for greys over a whole job: less than three for each of 21 levels
DOUBTED = 2  # of those: kept for what stands out and is read twice
FOR_END = 15  # more of them in HDR, where the end of a display takes some for itself
GO_ON = 7  # readings, twice, after the meter was corrected anew
MOST_SPARE = 20  # readings in HDR that nothing else wants and greys still take: more bring nothing
FOR_SLIPS = 3  # readings of what is spare that are kept for those that stand out
LEAST_AGAIN = 2  # readings after all points were moved, whatever was spent before
FEW_LEVELS = 12
MANY_POINTS = 15
AGAIN = 0.4
OF_END = 5  # greys between where a display stops following and its peak
LEAST_LEVELS = 4  # fewer tell nothing of a curve
FIRST = (100.0, 70.0, 40.0, 20.0, 10.0)
JUDGED = np.array([0.1, 0.15, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0])  # fractions of signal, where there are no points
COARSE = np.array([0.1, 0.2, 0.3, 0.5, 0.7, 0.9, 1.0])  # what gains and offsets are to get right before points
# Percent, after each move of gains and offsets: black too, for offsets raise it. Without points there are readings to spare.
FIRST_OF_TWO, FIRST_BEFORE_POINTS = (90.0, 70.0, 50.0, 30.0, 15.0, 0.0), (90.0, 30.0, 60.0, 0.0)
SECOND_OF_TWO, LAST_OF_TWO = (80.0, 20.0, 50.0), (100.0, 70.0, 40.0, 20.0, 10.0)
AFTER_ROOM = (90.0, 50.0, 25.0)
EVERY_TWENTIETH = tuple(float(v) for v in range(100, 5, -5))  # where there are readings to spare
AT_ONCE, VALLEYS = 16, 3  # places in a run that are tried at once for when a meter has changed; the best of them are looked about
DISBELIEVED = 3.0  # squared error that speaks against what an earlier sample of the model has taught
DARKEST_READ = 0.025  # fraction of signal: below it a reading tells of black
BEYOND = 0.003  # of signal, above the end of what is judged: still at it
OF_COLOUR = ("colour.", "saturation", "tint")  # roles that leave greys alone, nearly


@dataclass
class Greys:
    """``white`` and ``black`` in cd/m² are what greys are held against; ``boost`` is a white sub-pixel's share of light.

    ``to_come``: readings that ``finish`` is going to take.
    """

    desk: Desk
    target: Target
    white: float
    black: float
    boost: float
    kinds: Sequence[str]
    model: Fit | None = None
    to_come: int = 0
    between: list[float] = field(default_factory=list)  # levels in percent that may be read again
    palette: Palette = SDR
    quiet: bool = False  # something else adjusts what this cannot
    goal: float = 0.0  # of the error, in the target's own measure: what is no farther off is left; 0 for as good as it gets
    reached: bool = False
    taught: Taught | None = None  # by an earlier sample of the same model
    more: int = 0  # readings that greys may take beyond MOST_GREYS, where somebody wants them nearer to what is possible
    half_way: Callable[[], Procedure[None]] | None = None  # what is to be looked at in the middle of the points

    def __post_init__(self) -> None:
        self.found = self.black
        self.knobs = self._knobs(*self.kinds)
        self.two = [k.kind in ("gain", "offset") for k in self.knobs]
        # A point beyond the end of what is judged moves what the display cannot show.
        self.darkest = DARKEST if self.palette.is_shortened else 3.0  # percent
        at = sorted({k.at for k in self.knobs if k.kind in ("point", "tone")})
        self.points = [p for p in at if p <= self.palette.top + BEYOND]
        # The first one beyond still pulls at what lies below.
        most = max([*self.points, *[p for p in at if p not in self.points][:1]], default=1.0)
        self.every = [k.kind in ("gain", "offset") or k.at <= most for k in self.knobs]
        self.judged, self.coarse = self.palette.fractions(JUDGED), self.palette.fractions(COARSE)
        self.levels = self.judged

    def _knobs(self, *kinds: str) -> list[Control]:
        """Return the controls of the greys, in their order, as they stand."""
        return of_greys(self.desk.controls, self.desk.settings, kinds)

    @property
    def moved(self) -> Floats:
        """How many steps each knob stands from where this began."""
        return self._moved(self.desk.settings)

    def _moved(self, settings: dict[str, object]) -> Floats:
        return np.array([(float(settings[k.id]) - k.value) / k.step for k in self.knobs])  # type: ignore[arg-type]

    def white_now(self) -> float:
        """Return the luminance in cd/m² that white is expected to have with the knobs as they stand."""
        assert self.model is not None
        if self.palette.is_shortened:
            return self.white  # it is where the display ends
        freed = self.model.at(np.array([1.0]), self.moved) - 1.0
        seen = 1.0 + freed @ seen_of(self.model.boost).T
        return float(light(seen, self.target, self.white, self.black)[0, 1])

    def course(self, levels: Floats) -> Floats:
        """Return XYZ (n, 3) that greys at fractions of signal (n,) are expected to give with the knobs as they stand."""
        assert self.model is not None
        return self._shown(self.model.at(levels, self.moved), levels, self.model.boost)

    def course_of(self, taken: Sequence[Taken]) -> Course:
        """Return the course of greys that were read, whatever was turned since: straight between them, in the signal's domain."""
        lit = sorted((t for t in taken if t.fraction[0] >= DARKEST_READ and t.xyz[1] > 0), key=lambda t: float(t.fraction[0]))
        at = np.array([0.0, *(float(t.fraction[0]) for t in lit)])
        drives = drives_of(np.array([t.xyz for t in lit]), self.target, self.white, self.black, 0.0, self.palette.roll)
        off = np.vstack([np.zeros(3), drives - at[1:, None]])

        def course(levels: Floats) -> Floats:
            made = np.stack([levels + np.interp(levels, at, off[:, c]) for c in range(3)], axis=-1)
            return self._shown(made, levels, 0.0)

        return course

    def _shown(self, drives: Floats, levels: Floats, boost: float) -> Floats:
        xyz = seen_at(np.where(levels[:, None] > 0, drives, 0.0), self.target, self.white, self.black, self.palette.roll)
        if boost:
            light = xyz @ self.target.inverse_matrix.T
            xyz = (light + boost * light.min(axis=1, keepdims=True)) / (1.0 + boost) @ self.target.matrix.T
        return xyz

    def adjust(self, *, proof: int, others: bool = False) -> Procedure[None]:
        """Move what there is: model, solve, set, read.

        ``proof``: greys that the end will read; ``others``: whether readings of anything else are for the greys too.
        """
        if not self.knobs:
            if self.quiet:
                return
            self.desk.notes.append("This mode has no white balance that can be set.")
            return
        if any(self.two):
            yield from self.desk.say("two-point white balance")
            yield from self._move(self.two, self.coarse if self.points else self.judged)
            yield from self.desk.greys(self.palette.greys(FIRST_BEFORE_POINTS if self.points else FIRST_OF_TWO))
            yield from self._make_room()
        if self.points:
            yield from self._all_points(proof, others)
            return
        yield from self._move(self.two, self.judged)
        yield from self.desk.greys(self.palette.greys(SECOND_OF_TWO))
        yield from self._make_room()
        yield from self._move(self.two, self.judged)
        self.between = self.palette.greys(LAST_OF_TWO)
        self.to_come = len(self.between)

    def _make_room(self) -> Procedure[None]:
        """Turn the white level where gains have come to their end in PQ: it says every light itself, and the three want it alike.

        What was read before is still of use: the model finds what that has shifted.
        """
        control = room.of_room(self.desk.controls)
        if control is None or not self.palette.is_shortened:
            return
        for _ in range(room.MOST_ROOM):
            wanted = room.turned(control, control["value"], room.at_their_end(self.knobs, self.moved))
            if wanted is None:
                return
            yield from self.desk.set(control, wanted)
            yield from self.desk.greys(self.palette.greys(AFTER_ROOM))
            yield from self._move(self.two, self.coarse if self.points else self.judged)
            yield from self.desk.greys(self.palette.greys(AFTER_ROOM))
            self.desk.notes.append(
                f"Gains had come to their end, so {control['label']} was turned to {control['value']:g} to give them room."
            )

    def _all_points(self, proof: int, others: bool) -> Procedure[None]:
        """Move all points at once and read every level; then again those that are expected to be worst."""
        yield from self.desk.say("points of the white balance")
        top = round(100 * self.palette.top, 2)
        at = sorted({round(100 * p, 3) for p in self.points if 100 * p < top} | {top}, reverse=True)
        if len(at) < FEW_LEVELS:
            at = sorted({*at, 5.0, round(0.95 * top, 2)}, reverse=True)
        # What lies between the points is looked at too: the model knows how their pulls meet there.
        self.between = sorted({*at, *(float(v) for v in range(5, int(top), 5)), *self._of_end()}, reverse=True)
        self.levels = np.array(sorted(p / 100.0 for p in {*self.between, self.darkest} if p >= self.darkest))
        if self.desk.by_hand:
            yield from self.desk.greys(at)
        else:
            parts = (at[::3], at[1::3], at[2::3])
            for part in parts:
                yield from self._move(self.every, self.levels)
                if self.reached:
                    return
                yield from self.desk.greys(part)
                if part is parts[1] and self.half_way is not None:
                    yield from self.half_way()
        spent = sum(others or np.ptp(t.fraction) == 0 for t in self.desk.taken)
        # In HDR there are readings to spare for those that tell how soon what is turned is seen.
        most = MOST_GREYS + self.more + (FOR_END + self.desk.following.asked if self.palette.is_shortened else 0)
        left = max(most - DOUBTED - spent - proof, LEAST_AGAIN)
        # With many points most of what is left is kept for the last look, when little is wrong any more.
        first = round(AGAIN * left) if len(at) < MANY_POINTS else 0
        yield from self._move(self.every, self.levels)
        if self.reached:
            return
        if first:
            yield from self.desk.greys(self._worst(first))
            yield from self._move(self.every, self.levels)
        self.to_come = left - first

    def finish(self, spare: int = 0) -> Procedure[None]:
        """Look once more where it is worth it, for the colours may have moved the greys, and make the last move.

        ``spare``: readings beside those kept for this that nothing else wants.
        """
        if not self.to_come:
            return
        yield from self.desk.say("the greys once more")
        more = max(min(spare - FOR_SLIPS, MOST_SPARE), 0)
        count, looks = self.to_come + more, 1
        if more and not self.points:
            self.between = self.palette.greys(EVERY_TWENTIETH)
            looks = 1 if self.desk.by_hand else 2  # gains go on from what the first has told; a person has a list less to enter
        for look in range(looks):
            levels = self._worst(count // looks)
            # Black with them, where a reading is left: whether the room is as dark as it was shows there and nowhere else.
            dark = [0.0] if look == 0 and self.desk.spent + len(levels) < self.desk.budget else []
            yield from self.desk.greys([*levels, *dark])
            yield from self._move(self.every, self.levels, last=look == looks - 1)

    def go_on(self) -> Procedure[None]:
        """Look again, as far as readings are left, when all that was read is seen through another correction."""
        if self.model is None:
            return
        for _ in range(2):
            self.to_come = max(min(GO_ON, self.desk.budget - self.desk.spent), 0)
            if self.to_come:
                yield from self.finish()
            else:
                yield from self._move(self.every, self.levels, last=True)  # what was read says otherwise now

    def changed_at(self, change: Floats) -> tuple[int, float]:
        """Return how many readings were taken before a meter changed that ``change`` (3, 3) puts right from then on.

        Nobody has seen when: it is where the model explains all greys best. With it, how little that explains them.
        """
        every = self._of_now()
        last = len(self.desk.taken)

        def unlikely(since: int) -> float:
            seen = self._seen_of([
                (when, t if when < since else replace(t, xyz=np.asarray(change @ t.xyz)), before) for when, t, before in every
            ])
            return float(self._fit(seen).residual)

        places = sorted({0, *(when for when, _, _ in every), last})
        # What is unlikely has more than one valley: a few are looked into, from places all over the run.
        apart = max(len(places) // AT_ONCE, 1)
        tried = {i: unlikely(places[i]) for i in {*range(0, len(places), apart), len(places) - 1}}
        for deepest in sorted(tried, key=lambda i: tried[i])[:VALLEYS]:
            for i in range(max(deepest - apart + 1, 0), min(deepest + apart, len(places))):
                tried[i] = tried[i] if i in tried else unlikely(places[i])
        best = min(tried, key=lambda i: (tried[i], i))
        return places[best], tried[best]

    def _of_end(self) -> list[float]:
        """Return the levels in percent at which the end of an HDR display is looked at: it bends there within a few of them."""
        roll = self.palette.roll
        if roll is None or roll.from_signal >= self.palette.top:
            return []
        return [round(100.0 * float(v), 2) for v in np.linspace(roll.from_signal, self.palette.top, OF_END)]

    def _worst(self, count: int) -> list[float]:
        """Return the levels in percent that are most worth a reading, the brightest first."""
        assert self.model is not None
        order = worth_reading(
            self.model, np.array(self.between) / 100.0, self.moved, self._seen(self.model.boost), self.target, self.white,
            self.black, self.palette.roll,
        )  # fmt: skip
        # White always: everything below is judged in relation to it.
        first = [i for i in order if self.between[i] == max(self.between)]
        return sorted((self.between[i] for i in [*first, *(i for i in order if i not in first)][:count]), reverse=True)

    def _of_now(self) -> list[tuple[int, Taken, float]]:
        """Return the greys that were read with all but the knobs as it stands now: others tell of another display.

        With their places, and how far they may be shifted by what was turned since: colours, or the white level for room.
        """
        mine = {k.id for k in self._knobs("gain", "offset", "point", "tone")}
        colour = {c["id"] for c in self.desk.controls if (c.get("role") or "").startswith(OF_COLOUR)}
        now = self.desk.settings
        level = {c["id"] for c in self.desk.by_role(room.ROLE)} if self.palette.is_shortened else set()
        others = {k: v for k, v in now.items() if k not in mine and k not in colour and k not in level}

        def shifted(t: Taken) -> float:
            if any(t.settings[k] != now[k] for k in level):
                return room.BY_ROOM
            return float(any(t.settings[k] != now[k] for k in colour))

        return [
            (when, t, shifted(t))
            for when, t in enumerate(self.desk.taken)
            if np.ptp(t.fraction) == 0 and all(t.settings[k] == v for k, v in others.items())
        ]

    def _seen(self, boost: float = 0.0) -> list[Seen]:
        return self._seen_of(self._of_now(), boost)

    def _seen_of(self, taken: Sequence[tuple[int, Taken, float]], boost: float = 0.0) -> list[Seen]:
        made = []
        for when, t, before in taken:
            if t.fraction[0] < DARKEST_READ or t.xyz[1] <= 0 or t.fraction[0] > self.palette.top + BEYOND:
                continue
            drives = drives_of(t.xyz[None], self.target, self.white, self.black, boost, self.palette.roll)[0]
            roll = self.palette.roll
            doubt = 1.0 if roll is None else roll.doubt_of(float(drives.mean()))
            made.append(Seen(float(t.fraction[0]), drives, self._moved(t.settings), float(when), before, doubt))
        return made

    def _fit(self, seen: Sequence[Seen]) -> Fit:
        """Return the model of what was seen; an earlier sample is believed for as long as this one does not speak against it."""
        alone = fit(self.knobs, seen, fineness(self.target))
        if self.taught is None:
            return alone
        told = fit(self.knobs, seen, fineness(self.target), self.taught)
        if told.residual > alone.residual + DISBELIEVED:
            self.taught = None
            self.desk.notes.append("What an earlier display of this model had taught of these controls does not hold for this one.")
            return alone
        return told

    def teaches(self) -> Taught | None:
        """Return what this sample has told of what the knobs do, for the next one of its model; None where that is too little."""
        if self.model is None:
            return None
        turned = np.zeros(len(self.knobs), dtype=bool)
        for _, taken, _ in self._of_now():
            turned |= self._moved(taken.settings) != 0
        return Taught.of(self.model, turned.tolist())

    def _move(self, allowed: Sequence[bool], levels: Floats, *, last: bool = False) -> Procedure[None]:
        """Fit to everything seen, solve, and set."""
        if self.model is not None:
            self._follow_black()
        seen = self._seen()
        if len({round(s.level, 4) for s in seen}) < LEAST_LEVELS:
            yield from self.desk.each_once(self.palette.greys(FIRST))
            seen = self._seen()
        self.model = self._fit(seen)
        if self.boost:
            freed = self._fit(self._seen(self.boost))
            if freed.residual < self.model.residual:
                self.model = replace(freed, boost=self.boost)
        self.reached = self._is_good_enough(self.moved, levels)
        if self.reached:
            return
        while not (yield from self._turn(allowed, levels, last=last)):
            self.knobs = [self._with_room(knob) for knob in self.knobs]
            self.model = replace(self.model, knobs=tuple(self.knobs))

    def _turn(self, allowed: Sequence[bool], levels: Floats, *, last: bool) -> Procedure[bool]:
        """Turn what the model says; return whether the display let that be done, else it is to be thought of anew."""
        assert self.model is not None
        moved, refused = self.moved, set(self.desk.refused)
        wanted = solve(
            self.model, moved, self.target, self.white, self.black, levels=levels, last=last,
            allowed=[may and knob.id not in refused for may, knob in zip(allowed, self.knobs, strict=True)],
            lift=self._black().most(self.black), roll=self.palette.roll,
        )  # fmt: skip
        controls = {c["id"]: c for c in self.desk.controls}
        ends = [(controls[knob.id]["min"], controls[knob.id]["max"]) for knob in self.knobs]
        for knob, now, then in zip(self.knobs, moved, wanted, strict=True):
            if now != then:
                yield from self.desk.set(controls[knob.id], knob.value + then * knob.step)
        is_as_told = ends == [(controls[knob.id]["min"], controls[knob.id]["max"]) for knob in self.knobs]
        return is_as_told and refused == self.desk.refused

    def _with_room(self, knob: Control) -> Control:
        control = next(c for c in self.desk.controls if c["id"] == knob.id)
        return replace(knob, low=float(control["min"]), high=float(control["max"]))

    def _is_good_enough(self, moved: Floats, levels: Floats) -> bool:
        """Whether every level is expected within the goal, and each third of them was read with the knobs as they stand."""
        if self.goal <= 0 or self.model is None:
            return False
        drives = self.model.at(levels, moved)
        xyz = seen_at(drives, self.target, self.white, self.black, self.palette.roll)
        wanted = self.target.xyz(np.repeat(levels[:, None], 3, axis=1), self.white, self.black)
        off = self.target.metric.whole(wanted, xyz, self.target.white * self.white)
        now = self.desk.settings
        fresh = {round(float(t.fraction[0]), 3) for t in self.desk.taken if np.ptp(t.fraction) == 0 and t.settings == now}
        return bool(off.max() <= self.goal and len(fresh) >= len(levels) / 3)

    def _dark(self) -> list[tuple[float, float]]:
        """Return the blacks that were read, in cd/m², with how far the signal was lifted for each."""
        assert self.model is not None
        raising = lift_of(self.model, self.moved)
        dark = [t for _, t, _ in self._of_now() if not t.fraction.any()]
        return [(float(raising @ self._moved(t.settings)), float(t.xyz[1])) for t in dark]

    def _black(self) -> Black:
        """Return what is known of black. Raised black makes BT.1886 look followed, and the picture worse; so it is bounded."""
        return black_of(self.white, self.found, self._dark())

    def _follow_black(self) -> None:
        """Hold greys against a black that fell: the target follows it, but never below what was read."""
        assert self.model is not None
        read = self._dark()
        now = self._black().at(float(lift_of(self.model, self.moved) @ self.moved))
        self.black = min(self.black, max(now, min((luminance for _, luminance in read), default=now)))
