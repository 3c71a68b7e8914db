"""The greys of a hands-free job: two-point first, then all points at once, and a last look when the colours are done."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.models import menuwords, room
from fenvik.core.procedures.greymoves import GreyMoves
from fenvik.core.procedures.outcome import surprise
from fenvik.core.procedures.steps import Procedure

MOST_GREYS = 60  # readings for greys over a whole job: less than three for each of 21 levels
DOUBTED = 2  # of those: kept for what stands out and is read twice
FOR_END = 15  # more of them in HDR, where the end of a display takes some for itself
GO_ON = 7  # readings, twice, after the meter was corrected anew
MOST_SPARE = 20  # readings in HDR that nothing else wants and greys still take: more bring nothing
FOR_BACKWARDS = 5  # more for each point that works backwards: it was turned the wrong way first
FOR_SLIPS = 3  # readings of what is spare that are kept for those that stand out
LEAST_AGAIN = 2  # readings after all points were moved, whatever was spent before
AT_FIRST, AS_EXPECTED = 9, 0.4  # levels of the last look that are read first; off by no more than that, the rest is not read
SURPRISING = 0.65  # off by more: the display is none that the model knows, and is looked at again
LOOKS_MORE, AT_A_LOOK = 2, 8  # so often at most, and so many levels each time
FEW_LEVELS = 12
MANY_POINTS = 15
AGAIN = 0.4
POINTS = ("point", "tone")  # kinds
OF_END = 5  # greys between where a display stops following and its peak
CONTRADICTS = 4.0  # squared error a reading that no display's own oddities leave
# Percent, after each move of gains and offsets: black too, for offsets raise it. Without points there are readings to spare.
FIRST_OF_TWO, FIRST_BEFORE_POINTS = (90.0, 70.0, 50.0, 30.0, 15.0, 0.0), (90.0, 30.0, 60.0, 0.0)
SECOND_OF_TWO, LAST_OF_TWO = (80.0, 20.0, 50.0), (100.0, 70.0, 40.0, 20.0, 10.0)
AFTER_ROOM = (90.0, 50.0, 25.0)
NAMES = {"gain": "two-point white balance", "offset": "two-point white balance", "point": "points", "tone": "points"}
EVERY_TWENTIETH = tuple(float(v) for v in range(100, 5, -5))  # where there are readings to spare


@dataclass
class Greys(GreyMoves):
    """What is done to the greys. ``to_come``: readings that ``finish`` is going to take."""

    to_come: int = 0
    more: int = 0  # readings that greys may take beyond MOST_GREYS, where somebody wants them nearer to what is possible
    looked_more: int = 0  # how often greys were otherwise than expected, and looked at again
    half_way: Callable[[], Procedure[None]] | None = None  # what is to be looked at in the middle of the points

    def adjust(self, *, proof: int, others: bool = False) -> Procedure[None]:
        """Move what there is: model, solve, set, read.

        ``proof``: greys that the end will read; ``others``: whether readings of anything else are for the greys too.
        """
        if not self.knobs:
            if self.quiet:
                return
            beside = {knob.kind for knob in self._knobs(*NAMES)} - set(self.kinds)
            has = " and ".join(dict.fromkeys(name for kind, name in NAMES.items() if kind in beside))
            only = f": it has {has} alone, and that was not asked for." if has else " that can be set."
            self.desk.notes.append(f"This mode has no {self._wanted() if has else 'white balance'}{only}")
            return
        if any(self.two):
            yield from self.desk.say("two-point white balance")
            read = self.palette.greys(FIRST_BEFORE_POINTS if self.points else FIRST_OF_TWO)
            stood = self.desk.settings
            yield from self._move_and_read(self.two, self.coarse if self.points else self.judged, read)
            if "gain" in self.doubted and (yield from self._is_dead(("gain", "offset"), stood)):
                return
            yield from self._make_room()
        if self.points:
            yield from self._all_points(proof, others)
            return
        yield from self._move_and_read(self.two, self.judged, self.palette.greys(SECOND_OF_TWO))
        yield from self._make_room()
        yield from self._move(self.two, self.judged)
        self.between = self.palette.greys(LAST_OF_TWO)
        self.to_come = len(self.between)

    def _wanted(self) -> str:
        """Return in words what was to be turned."""
        return " and no ".join(dict.fromkeys(NAMES[kind] for kind in self.kinds))

    def _make_room(self) -> Procedure[None]:
        """Turn the white level where gains have come to their end in PQ: it says every light itself, and the three want it alike.

        What was read before is still of use: the model finds what that has shifted.
        """
        control = room.of_room(self.desk.controls)
        if control is None or not self.palette.is_shortened:
            return
        for _ in range(room.MOST_ROOM):
            wanted = room.turned(control, control["value"], room.at_their_end(self.knobs, self.moved, self._freely()))
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
            parts, before = (at[::3], at[1::3], at[2::3]), list(self.desk.taken)
            stood = self.desk.settings
            for part in parts:
                yield from self._move_and_read(self.every, self.levels, part)
                if self.reached:
                    return
                if "point" in self.doubted and (yield from self._is_dead(POINTS, stood, is_first=True, by_fit=part is parts[2])):
                    return
                if part is parts[1] and self.half_way is not None:
                    yield from self.half_way()
            if lost := self._not_kept(at, before):
                yield from self._move_and_read(self.every, self.levels, lost)
        spent = sum(others or np.ptp(t.fraction) == 0 for t in self.desk.taken)
        # Those that tell how soon what is turned is seen are not for the greys; in HDR there are readings to spare.
        most = MOST_GREYS + self.more + self.desk.following.asked + (FOR_END if self.palette.is_shortened else -1)
        most += FOR_BACKWARDS * self._backwards
        left = max(most - DOUBTED - spent - proof, LEAST_AGAIN)
        # With many points most of what is left is kept for the last look, when little is wrong any more.
        first, stood = round(AGAIN * left) if len(at) < MANY_POINTS else 0, self.desk.settings
        yield from self._move(self.every, self.levels)
        if self.reached:
            return
        if first:
            yield from self.desk.greys(self._worst(first))
            if self.desk.by_hand and "point" in self.doubted and (yield from self._is_dead(POINTS, stood)):
                return
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
            off = yield from self._look(levels, dark)
            if self.target.curve == "hlg":  # what is left is held against the white that is left
                self.white = float((yield from self.desk.read_once(100.0)).xyz[1])
            known = self._backwards
            yield from self._move(self.every, self.levels, last=look == looks - 1)
        for _ in range(LOOKS_MORE):
            is_room = self.desk.spent + AT_A_LOOK <= self.desk.budget and not self.desk.by_hand
            if off <= SURPRISING or not self._is_of_points or not is_room:
                break
            self.looked_more += 1
            off = yield from self._look(self._worst(AT_A_LOOK))
            yield from self._move(self.every, self.levels, last=True)
        # What has just shown that it works backwards was turned the wrong way until now: what follows from it is looked at.
        while self._backwards > known and self.desk.spent + FOR_BACKWARDS <= self.desk.budget and not self.desk.by_hand:
            known = self._backwards
            yield from self.desk.greys(self._worst(FOR_BACKWARDS))
            yield from self._move(self.every, self.levels, last=True)
        self._say_how_the_menu_is()

    @property
    def _is_of_points(self) -> bool:
        """Whether a surprise tells how much is still to be won: where points can follow it, and readings are not spent anyway."""
        return bool(self.points) and not self.palette.is_shortened

    def _look(self, levels: Sequence[float], dark: Sequence[float] = ()) -> Procedure[float]:
        """Read greys at percentages, most of them only where the first are otherwise than expected; return by how much those are.

        ``dark``: what is read with the first and expected of nothing.
        """
        first = self._worst(AT_FIRST) if self._is_of_points and len(levels) > AT_FIRST else levels
        just = {p: t for p in first if (t := self.desk.just_read((p, p, p))) is not None}  # white, for the reference's sake
        read = [*just.values(), *(yield from self.desk.greys([*(p for p in first if p not in just), *dark]))]
        off = surprise(self, read)
        if len(first) < len(levels) and off > AS_EXPECTED:
            read += yield from self.desk.greys([p for p in levels if p not in first])
            off = surprise(self, read)
        return off

    def _say_how_the_menu_is(self) -> None:
        self.desk.notes += menuwords.said(self.knobs, self.model)
        if self.model is not None and self.model.residual > CONTRADICTS * max(self.read_of_now(), 1):
            self.desk.notes.append(
                "What was read of the greys does not fit together: something was probably another while a part of it was read."
            )

    @property
    def _backwards(self) -> int:
        """How many points are known to work backwards."""
        return 0 if self.model is None else len(self.model.backwards)

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

    def _of_end(self) -> list[float]:
        """Return the levels in percent at which the end of an HDR display is looked at: it bends there within a few of them."""
        roll = self.palette.roll
        if roll is None or roll.from_signal >= self.palette.top:
            return []
        return [round(100.0 * float(v), 2) for v in np.linspace(roll.from_signal, self.palette.top, OF_END)]
