"""What every procedure works at: the controls, every reading with the state it was taken in, the budget, and what is to be said."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import takewhile

import numpy as np

from fenvik.core.procedures.correcting import Corrected
from fenvik.core.procedures.doubt import agree, standing_out
from fenvik.core.procedures.following import MOST_TRIES, SOON_S, Following, is_late, read_lit
from fenvik.core.procedures.samelight import OF_COLOUR, comes_back, is_right, see_the_dark, see_the_light, woken
from fenvik.core.procedures.shown import MOST_CALLS, until_it_shows
from fenvik.core.procedures.stand import UNKNOWN, Stand
from fenvik.core.procedures.steps import (
    Ask,
    BudgetError,
    Correct,
    Fraction,
    OtherLightError,
    Procedure,
    RestlessError,
)
from fenvik.core.procedures.stirring import kept_awake
from fenvik.core.procedures.taken import Taken
from fenvik.core.procedures.wholelight import see_the_whole
from fenvik.core.types import Floats

TRIES = 3  # to read something while the display stands still
MANY_SLIPS = 3  # of a batch: there was something before the meter for a while, and others of it tell of that
LEFT_MODE = "The display left its picture mode by itself; it was chosen again."
OFTEN = 2  # times that it did
MOST_DOUBTED = 4  # of a batch that are read again


@dataclass
class Desk(Stand):
    """What a procedure has before it: controls as they stand, readings in order, the budget, notes, and what was found."""

    budget: int = 400
    taken: list[Taken] = field(default_factory=list)
    thrown: int = 0  # readings that were taken while the display stood otherwise than it was set
    lent: int = 0  # of those that are kept, readings that something else has counted
    slips: int = 0  # of those that were thrown away: so many that a second and a third reading did not confirm
    proven: int = 0  # whites from here on are held against each other: those before them were read again and were still true
    proven_black: int = 0  # the same of blacks
    stands_still: bool = False  # whether what was found gave the same light at its beginning and at its end
    is_hdr: bool = False  # whether light follows the signal as PQ has it
    sure: int = 0  # so many of those that are kept were taken while it stood as it was set
    recalled: int = 0  # so many were thrown away that told of another light
    lit_well: int = 0  # so many of them were taken before a lit patch last gave its light
    dark_well: int = 0  # the same of black
    left_often: int = 0  # so often it had left its mode
    waits: int = 0  # so often another light was waited for until it was as before
    passed: int = 0  # so often the light was another for a while, and was as before once everything was turned back
    following: Following = field(default_factory=Following)

    def __post_init__(self) -> None:
        super().__post_init__()
        self.following.choices = frozenset(c["id"] for c in self.controls if c["kind"] != "range")
        self.following.colours = frozenset(c["id"] for role in OF_COLOUR for c in self.by_role(role) if c["kind"] == "range")

    @property
    def spent(self) -> int:
        """How many readings were taken, those that were thrown away included."""
        return len(self.taken) + self.thrown - self.lent

    def read(self, percent: Sequence[float]) -> Procedure[Taken]:
        """Read a patch of percentages of signal. Raises BudgetError."""
        if self.spent >= self.budget:
            raise BudgetError("The budget of readings is used up, but for those of the proof.")
        yield from kept_awake(self)
        if not self.by_hand:  # a person is slower than any display
            yield from self.following.wait(self.settings)
        fraction, xyz = yield from read_lit(self, (float(percent[0]), float(percent[1]), float(percent[2])))
        made = Taken(fraction, xyz, self.settings)
        self.taken.append(made)
        return made

    def take(self, percent: Fraction, xyz: Floats) -> None:
        """Keep XYZ (3,) in cd/m² of a patch that was read for something else, and is not counted once more."""
        self.taken.append(Taken(np.array(percent) / 100.0, xyz, self.settings))
        self.lent += 1

    def reads(
        self, patches: Iterable[Sequence[float]], aims: Mapping[Fraction, float] | None = None
    ) -> Procedure[list[Taken]]:
        """Read patches of percentages, in their order, while the display stands as it was set. Raises RestlessError.

        ``aims``: the cd/m² of those that were just given what should bring them there; what comes there is not doubted.
        """
        wanted = list(patches)
        told: OtherLightError | None = None
        for left in reversed(range(TRIES)):
            if self.left_often >= OFTEN:  # nothing is read in vain of a display that leaves its mode whenever something is turned
                yield from self.look()
            start, slips = len(self.taken), self.slips
            made = yield from self.followed(wanted)
            yield from self._read_doubtful(made, start, aims)
            if (yield from self.look()):
                continue
            try:
                yield from see_the_light(self, made, start)
                yield from see_the_whole(self, made, start)
                yield from see_the_dark(self, made, start)
            except OtherLightError as problem:
                if not (yield from self.look()):  # else it moved while it was turned back
                    yield from self.set_right(problem)
                    told = problem
                continue
            if left and self.slips - slips >= MANY_SLIPS:
                thrown = self._forget(min(start, len(self.taken)))
                self.recalled -= thrown  # what was read before it was no other light
                self.notes.append(f"Several of {len(made)} readings were not confirmed, so all of them were taken again.")
                continue
            return made
        raise told or RestlessError("The display does not stay as it is set: what was read in between tells nothing.")

    def followed(self, wanted: Sequence[Sequence[float]]) -> Procedure[list[Taken]]:
        """Read patches of percentages; where the light had not followed yet what was turned, all of them again."""
        for left in reversed(range(MOST_TRIES)):
            start, now = len(self.taken), self.settings
            kind, stood = self.following.kind_of(now), self.following.stood
            may = not self.by_hand and self.spent + len(wanted) < self.budget
            tells = may and self.following.tells(kind, wanted)
            if kind == "installed" and not tells:
                yield from self.following.wait_long(now, SOON_S)
            made = []
            for percent in wanted:
                made.append((yield from self.read(percent)))
            if kind is None or stood is None or not tells or not left:
                return made
            if not (yield from is_late(self, made, kind, stood, at_once=left == MOST_TRIES - 1)):
                return made
            self.forget_too_soon(start)
            self.following.stood = stood  # the same turn is waited for
        return made

    def forget_too_soon(self, start: int) -> None:
        """Forget what was read before the light had followed what was turned: it is no other light, and nobody chose to take it."""
        thrown = self._forget(start)
        self.recalled -= thrown
        self.thrown, self.budget = self.thrown + thrown, self.budget + thrown

    def set_right(self, problem: OtherLightError) -> Procedure[None]:
        """Have another light set right, or wait until it is, and forget what was read in it; raise the problem where it stays."""
        if problem.is_over:
            self.throw_away(problem.since, "The light was another for a while")
            self.passed += 1
            self.is_drowsy |= self.passed > 1 and not self.by_hand  # turning everything back may be what has woken it
            return
        if (yield from woken(self, problem)):
            self.throw_away(problem.since, "The display had faded")
            return
        answer: bool | None = None
        for _ in range(MOST_CALLS):
            answer = yield Ask(f"{problem} Set that right, then go on: what was read since it was last right is read again.")
            if not answer:
                break
            if (yield from is_right(self, problem.was)):  # who says so may be wrong
                self.throw_away(problem.since, "Somebody was called and set the light right")
                return
        if answer is not None or not (yield from comes_back(self, problem)):
            raise problem
        self.throw_away(problem.since, "The light became another for a while, and was waited for")

    def reads_held(self, patches: Iterable[Sequence[float]]) -> Procedure[list[Taken]]:
        """Read patches of which nothing is known yet, and the first once more after them.

        Where that gives another light, or a reading is not confirmed by a second, something was before the meter or a door was
        open, and all are read again. A display that gives another light each time is taken as it is, and that is said. Raises
        what ``reads`` does.
        """
        wanted = list(patches)
        for left in reversed(range(TRIES)):
            since, slips = len(self.taken), self.slips
            *made, last = yield from self.reads([*wanted, wanted[0]])
            holds = self.stands_still = agree(made[0], last)
            if holds and self.slips == slips:
                break
            if left:
                self.throw_away(since, "Readings of one patch were not alike, so what was found was read again")
            elif not holds:
                gave = f"{made[0].xyz[1]:.3g} cd/m² at first and {last.xyz[1]:.3g} at the end"
                self.notes.append(f"However often it was read, the same patch gave {gave}: the light does not stand still.")
        return made

    def throw_away(self, since: int, how: str) -> None:
        """Forget what was read while the light was another; it is not counted, for it was nobody's choice."""
        thrown = self._forget(since)
        self.notes.append(f"{how}; {thrown} readings from before that were thrown away.")

    def _forget(self, since: int) -> int:
        """Forget readings, and return how many they were."""
        thrown = len(self.taken) - since
        self.recalled += thrown
        del self.taken[since:]
        self.proven, self.proven_black, self.sure = (min(n, since) for n in (self.proven, self.proven_black, self.sure))
        self.lit_well, self.dark_well = min(self.lit_well, since), min(self.dark_well, since)
        return thrown

    def begin_anew(self, why: str) -> Procedure[None]:
        """Forget everything, and put all controls to where they were found."""
        thrown = self._forget(0)
        yield from self.put(self.found)
        self.notes = [f"{why} Everything was put back and begun anew; {thrown} readings were thrown away."]

    def _read_doubtful(self, made: list[Taken], start: int, aims: Mapping[Fraction, float] | None = None) -> Procedure[None]:
        """Read again what stands out of a batch, and keep in its place what a second reading confirms.

        ``start``: so many were kept when the batch began.
        """
        asked, of = set[int](), {True: 0, False: 0}  # greys and colours: what was turned may have changed all of these
        while True:
            doubted = [
                i for i in standing_out(made, self.taken[:start], is_hdr=self.is_hdr, aims=aims)
                if i not in asked and of[made[i].is_grey] < MOST_DOUBTED
            ]  # fmt: skip
            if not doubted:
                return
            place = doubted[0]
            asked.add(place)
            of[made[place].is_grey] += 1
            made[place] = yield from self.confirmed(made[place])

    def confirmed(self, first: Taken) -> Procedure[Taken]:
        """Return what two readings of a patch agree on, and throw away one that stands alone."""
        percent = [100.0 * float(v) for v in first.fraction]
        read = [first, (yield from self.read(percent))]
        if not agree(*read):
            read.append((yield from self.read(percent)))
            read.sort(key=lambda t: float(t.xyz[1]))
            alone = read[0] if agree(read[1], read[2]) else read[2]
            read = [t for t in read if t is not alone]
            self.drop(alone)
        return read[-1]

    def drop(self, taken: Taken) -> None:
        """Throw away one reading that others do not confirm."""
        self.taken = [t for t in self.taken if t is not taken]
        self.thrown += 1
        self.slips += 1

    def look(self, *, takes_choices: bool = False) -> Procedure[bool]:
        """Ask how the display stands. What moved by itself is set again and said, and what was read since it last stood right is
        thrown away. Return whether there was anything.

        ``takes_choices``: a choice that stands otherwise was brought along by what was just turned, and is taken as it is.
        """
        standing = yield from self.stands()
        if standing is None:
            return False
        left_mode, sent_again, self.left_mode, self.sent_again = self.left_mode, self.sent_again, False, False
        was_elsewhere = left_mode or sent_again or bool(standing.clash)
        if standing.clash:
            standing = yield from until_it_shows(self, standing)
            self.budget += len(self.taken) - self.sure  # of those that are thrown away nobody chose to take them
        moved = self.strayed(standing)
        if takes_choices and any(c["kind"] == "choice" for c in moved):
            for control in moved:
                control["value"] = standing.values[control["id"]]
            self.enter_preset()
            moved = []
        if not moved and not was_elsewhere:
            self.sure = len(self.taken)
            return False
        thrown = len(self.taken) - self.sure
        self.thrown += thrown
        del self.taken[self.sure :]
        if left_mode:
            self.left_often += 1
            if self.left_often <= OFTEN:
                self.notes.append(LEFT_MODE if self.left_often < OFTEN else f"{LEFT_MODE} It does so again and again.")
        if sent_again:
            self.notes.append("The display showed another signal; the right one was sent again.")
        for control in moved:
            yield from self.set_again(control, standing)
        if moved:
            names = ", ".join(c["label"] for c in moved[:4]) + (f" and {len(moved) - 4} more" if len(moved) > 4 else "")
            again = "and was set again" if len(moved) == 1 else "and were set again"
            self.notes.append(f"{names} moved by {'itself' if len(moved) == 1 else 'themselves'} {again}.")
        if thrown:
            self.notes.append(f"{thrown} readings that were taken meanwhile were thrown away.")
        return True

    def adopt(self) -> Procedure[None]:
        """Take every control as the display tells it: a choice may bring others along."""
        standing = yield from self.stands()
        if standing is not None:
            for control in self.controls:
                if control["id"] not in self.restless:
                    control["value"] = standing.values.get(control["id"], control["value"])
        self.enter_preset()
        if not (self.left_mode or self.sent_again):
            self.sure = len(self.taken)

    def look_through(
        self, made: Corrected, *others: list[Taken], instead_of: Floats | None = None, since: int = 0
    ) -> Procedure[None]:
        """Look at everything through a correction: what is read from now on, what was read before it, and other lists of that.

        ``instead_of``: the correction (3, 3) through which that was seen until now. ``since``: so many of the readings were taken
        while that was right, the other lists among them where it is as many as those. ``made`` has a matrix.
        """
        assert made.matrix is not None
        matrix = made.matrix
        yield Correct(matrix, made)
        change = matrix if instead_of is None else matrix @ np.linalg.inv(instead_of)
        for seen in (self.taken, *(each for each in others if since < len(each))):
            right = since if seen is self.taken else 0
            seen[right:] = [replace(t, xyz=np.asarray(change @ t.xyz)) for t in seen[right:]]

    def greys(self, levels: Iterable[float]) -> Procedure[list[Taken]]:
        """Read greys at percentages, in their order."""
        return self.reads((level, level, level) for level in levels)

    def read_once(self, level: float) -> Procedure[Taken]:
        """Return the newest reading of a grey with every control as it stands now; read it where there is none."""
        return (yield from self.each_once([level]))[0]

    def just_read(self, percent: Fraction) -> Taken | None:
        """Return a reading of a patch that was taken since anything was last turned, or forgotten; None where there is none."""
        return next((t for t in self.just_read_all() if t.shows(percent)), None)

    def just_read_all(self) -> list[Taken]:
        """Return what was read since anything was last turned, the newest first."""
        now = self.settings
        return list(takewhile(lambda t: t.settings == now, reversed(self.taken)))

    def newest(self, percent: Fraction) -> Procedure[Taken]:
        """Return the newest reading of a patch with every control as it stands now; read it where there is none."""
        now = self.settings
        for t in reversed(self.taken):
            if t.shows(percent) and t.settings == now:
                return t
        return (yield from self.reads([percent]))[0]

    def each_once(self, levels: Iterable[float]) -> Procedure[list[Taken]]:
        """Return the newest readings of greys with every control as it stands now; those that are lacking are read."""
        wanted = list(levels)
        lacking = [level for level in wanted if self._newest_grey(level) is None]
        if lacking:  # together, for each is held against the others
            start = len(self.taken)
            made = yield from self.followed([(level,) * 3 for level in lacking])
            yield from self._read_doubtful(made, start)
        return [t for level in wanted if (t := self._newest_grey(level)) is not None]

    def _newest_grey(self, level: float) -> Taken | None:
        now = self.settings
        for t in reversed(self.taken):
            if np.ptp(t.fraction) == 0 and abs(100 * float(t.fraction[0]) - level) < 0.3 and t.settings == now:
                return t
        return None

    def had_more(self) -> None:
        """Take it that something was installed of which nothing is known, and is gone: what was read before cannot come back."""
        self.gave = [{UNKNOWN: {}}, self.given]
        self.proven = self.proven_black = self.lit_well = self.dark_well = len(self.taken)
