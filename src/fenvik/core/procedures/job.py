"""The order of a hands-free job: what is found, processing off, curve and white, two-point, points, colours, what is left."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.errors import FenvikError
from fenvik.core.models.foreseen import Foresight
from fenvik.core.models.palette import FOUND, SDR, Palette, palette_for
from fenvik.core.models.points import MAY_COST, held
from fenvik.core.models.rolloff import roll_off_of
from fenvik.core.models.taught import Taught
from fenvik.core.procedures import choices, colours, giving, leaving, preparing, reference, trusted, unlocking
from fenvik.core.procedures.correcting import Corrected, correct
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.doubt import agree
from fenvik.core.procedures.expected import between
from fenvik.core.procedures.greys import Greys
from fenvik.core.procedures.hue import Hue
from fenvik.core.procedures.installing import Installer
from fenvik.core.procedures.leaving import MANY_RECALLED
from fenvik.core.procedures.steps import (
    BudgetError,
    FoundElsewhereError,
    Fraction,
    Procedure,
    RestlessError,
)
from fenvik.core.procedures.taken import Taken
from fenvik.core.signal.patches import Patch
from fenvik.core.types import Floats

USUAL_BUDGET = 150  # readings: who allows more wants greys nearer to what is possible
OF_REFERENCE = 5  # readings of greys fewer where a reference is beside the meter: white is known better then
USUAL_IN_HDR = 140  # readings that a job in HDR fills up, where nothing else wants them
# Readings that the proof may want besides its own, where one stands out or light is proven; what is installed wants them more.
SPARE, IN_HDR, IN_INSTALLING = 4, 2, 3
OTHERWISE = 0.3  # of ln luminance: how far a grey may lie from those beside it that are read after it
TRIES = 3  # to read what is found
MIDDLE = (75.0, 55.0, 40.0)  # percent of the range
LEAST_CONTRAST = 2.0  # of white to black: less is no display
BUT_LOST = "; what had been installed before could not be."
FOLLOWS = "It follows the standard to"  # how it is said where an HDR display begins to roll off
UNREAD = "Black is too dark for the meter:"  # how it is said what is counted with then
FOUND_SAID = "as found"  # what is said when what is found is read
STEPS = ("light", "white", "grey", "colour")
FOR_ORDER = 30.0  # percent of a PQ or HLG signal: a grey by which a slip at white or black shows
LEAST_BOOST = 0.05  # of the sum of the three lights: less is the meter's and the display's own doing


def proof_of(steps: Sequence[str]) -> list[Fraction]:
    """Return the patches, in percent of signal, that are read before and after in SDR; in HDR there are as many of them."""
    return SDR.proof(colours="colour" in steps)




@dataclass
class Job:
    """What a job knows while it runs: the desk, the target, the white and black that everything is held against."""

    desk: Desk
    target: Target
    steps: Sequence[str] = STEPS
    white: float = 0.0
    whole: float = 0.0  # of full signal, in cd/m²; the white that is held against may be less, for balance
    black: float = 0.0
    as_found: list[Taken] = field(default_factory=list)
    untouched: list[Taken] = field(default_factory=list)  # what was found, where that was read once more beside the light wanted
    as_left: list[Taken] = field(default_factory=list)
    balance: Greys | None = None
    restored: bool = False
    boost: float = 0.0  # light of a white sub-pixel, as a share of the sum of the three
    luminance: float | None = None  # cd/m² of white that is wanted; None leaves the light as it is
    correction: Sequence[Patch] = ()  # what the meter is corrected by first, where there is a reference beside it
    in_force: Floats | None = None  # the correction (3, 3) through which the meter is seen until one is made
    corrected: Corrected | None = None
    witnessed: list[Taken] = field(default_factory=list)  # what the reference saw before, where the meter could not be corrected
    stood: Taken | None = None  # how the display stood when the meter was last corrected
    agreed: bool = False  # whether the reference has confirmed the correction since it was made
    lost: str = ""  # why the reference is not asked any more; empty while it is
    left_at: int = 0  # readings that were kept when what is left was begun to be read
    compared: int = 0  # readings that were spent when the meter was last held against the reference
    hues: list[Hue] = field(default_factory=list)  # the colours that were adjusted, with all their looks
    palette: Palette = SDR
    presets: dict[Any, float] = field(default_factory=dict)  # of white, and how far each is from the white that is wanted
    takes: dict[str, Any] = field(default_factory=dict)  # what the display can be given to install, as it describes itself
    by: str = "controls"  # by which greys and colours are adjusted: controls, install, or both
    installer: Installer | None = None
    bare: int = 0  # the state in which nothing was installed, as the desk counts them
    has_lost: bool = False  # whether something was installed when it was found that nobody can put back
    judged_by: Palette | None = None  # of the proof in HDR: its patches hang on the peak that was found
    total: int = 0  # readings that the whole job may take
    may_cost: float = MAY_COST  # of HLG's peak: what a white without a tint may cost where curves are installed
    goal: float = 0.0  # of the error, in the target's own measure: what is no farther off is left alone
    taught: Taught | None = None  # what an earlier sample of the model has told of the controls of the greys

    @property
    def first(self) -> list[Taken]:
        """What was read before anything was turned."""
        return self.untouched or self.as_found

    @property
    def proof(self) -> list[Fraction]:
        """The patches that are read before and after."""
        return self.proved.proof(colours="colour" in self.steps)

    @property
    def proved(self) -> Palette:
        """What those are of: the same, wherever the peak has come to meanwhile."""
        return self.judged_by or self.palette

    def run(self) -> Procedure[None]:
        """Do the whole job. What a budget or a device ends early is kept as it stands, and noted by whoever catches it."""
        try:
            try:
                yield from self.go()
            except FoundElsewhereError as problem:
                yield from self.begin_anew(problem)
                yield from self.go()
        except (RestlessError, BudgetError) as problem:
            yield from self.give_up(problem)
        except np.linalg.LinAlgError:
            # Whatever slipped there: no display gives such light.
            yield from self.give_up(RestlessError("What was read contradicts itself, so nothing can be worked out from it."))

    def begin_anew(self, problem: FenvikError) -> Procedure[None]:
        """Put everything back and forget what was read; the meter is still seen through the correction that was made."""
        yield from self.put_back()
        yield from self.desk.begin_anew(str(problem))
        self.in_force = self.in_force if self.corrected is None or self.corrected.matrix is None else self.corrected.matrix
        self.desk.budget, self.palette, self.boost = self.total, SDR, 0.0
        self.corrected = self.balance = self.installer = None
        self.hues, self.witnessed, self.untouched, self.stood, self.lost = [], [], [], None, ""

    def go(self) -> Procedure[None]:
        """Look at what is found, adjust, hold the correction against the reference once more, and look at what is left."""
        self.total = self.desk.budget
        yield from self.look_found()
        self._say_what_black_is_taken()
        # The proof is never saved on, nor the reference's look at what is left.
        spare = IN_INSTALLING if self.by != "controls" else SPARE + (IN_HDR if self.target.is_hdr else 0)
        self.desk.budget -= len(self.proof) + spare + (reference.MOST_CHECKED if self.correction else 0)
        yield from self.adjust()
        if self.correction:
            yield from self.desk.say(leaving.LEFT)  # what the reference is held against is part of it
            self.left_at = len(self.desk.taken)
        try:
            yield from reference.hold(self, reference.checked(self))
        except BudgetError:
            self.desk.notes.append("There was no time left to read the reference once more.")
        yield from leaving.look_left(self)

    def _say_what_black_is_taken(self) -> None:
        counted = float(self.target.counted(self.white, self.black))
        said = [note for note in self.desk.notes if note.startswith(UNREAD)]
        if counted > self.black and not said:
            self.desk.notes.append(
                f"{UNREAD} {counted:.2g} cd/m² was counted with instead, as is usual for such a display: how bright dark levels "
                "should be hangs on it."
            )

    def adjust(self) -> Procedure[None]:
        """Do everything between what is found and what is left."""
        recalled = self.desk.recalled
        yield from self.desk.say("processing")
        try:
            yield from preparing.process_off(self)
            yield from self.correct()
            if self.by != "install":
                yield from preparing.begin_at_defaults(self)
            if "light" in self.steps:
                yield from preparing.light(self)
            if self.by != "controls":
                yield from giving.begin(self)
            if self.by == "install":
                yield from giving.install(self)
                return
            if "white" in self.steps:
                before = self.desk.settings
                yield from choices.curve(self.desk, self.target, self.palette, self.black)
                self.presets = yield from choices.preset(self.desk, self.target, self.palette)
                yield from unlocking.let_it_be_set(
                    self.desk, self.presets, "white-preset", unlocking.PROBED, "white balance"
                )
                if self.desk.settings != before:
                    yield from self._settle_anew()
            if "white" in self.steps or "grey" in self.steps:
                yield from self.greys()
                yield from reference.hold_between(self)
            if "colour" in self.steps and not self._turns:
                yield from self.colours()
                yield from reference.hold_between(self)
            if self.balance is not None:
                yield from self.balance.finish(self._spare())
                if self.desk.recalled > recalled + MANY_RECALLED:  # what was adjusted by those is looked at once more
                    yield from self.go_over_it()
            yield from preparing.light_again(self)
            if self.by == "both":
                yield from giving.beside_controls(self)
                yield from giving.install(self)
        except BudgetError as spent:
            self.desk.notes.append(f"{spent} What was reached by then is kept.")

    def go_over_it(self) -> Procedure[None]:
        """Look once more at what was adjusted in another light, and go on from there."""
        if self.hues:
            yield from colours.look_again(self.desk, self.target, self.hold(), self.hues)
        if self.balance is not None:
            yield from self.balance.go_on()

    def _spare(self) -> int:
        """Return how many readings nothing else wants in HDR: there greys have most to gain by them."""
        if not self.target.is_hdr or self.by != "controls" or self.balance is None:
            return 0
        usual = self.desk.budget - max(min(self.total, USUAL_BUDGET) - USUAL_IN_HDR, 0)
        return usual - self.desk.spent - self.balance.to_come

    def put_back(self) -> Procedure[None]:
        """Put everything back to as it was found."""
        yield from self.desk.put(self.desk.found)

    def give_up(self, problem: FenvikError) -> Procedure[None]:
        """Put everything back: nothing that was read lately says whether it is better than it was."""
        self.desk.notes.append(f"{problem} Every control was put back{BUT_LOST if self.has_lost else '.'}")
        yield from self.put_back()
        self.restored = True
        self.as_left = list(self.first)

    def correct(self) -> Procedure[None]:
        """Correct the meter by the reference, on a display on which nothing works any more, and look at everything through it."""
        if not self.correction:
            return
        patches, just_read = reference.first_comparison(self)
        self.corrected = yield from correct(patches, self.black, just_read=just_read)
        self.compared = self.desk.spent
        self.desk.notes += self.corrected.notes
        if self.corrected.matrix is not None:
            patch, (_, white) = self.corrected.sides["white"]
            trusted.believe(self, patch.percent)
            self.desk.take(patch.percent, white if self.in_force is None else self.in_force @ white)
            yield from self.desk.look_through(self.corrected, self.as_found, instead_of=self.in_force)
        self.settle((yield from self.desk.each_once((100.0, 0.0))))
        if self.corrected.matrix is not None or self.corrected.is_left_out:
            return
        if not self.corrected.blind:
            self.witnessed = yield from reference.witness(self)
        if not self.witnessed:  # nobody could say afterwards whether it is better
            raise RestlessError("A correction was asked for: without one, and without the reference, nothing is adjusted.")

    def look_found(self) -> Procedure[None]:
        """Read what is found, before anything is touched."""
        yield from self.desk.say(FOUND_SAID)
        if self.target.is_hdr:
            self.as_found = yield from self._found_in_hdr()
        else:
            self.as_found = yield from self.desk.reads_held(self.proof)
        self.settle(self.as_found)
        if self.palette.is_shortened:
            yield from self.find_end()

    def _found_in_hdr(self) -> Procedure[list[Taken]]:
        """Read what is found, by patches that hang on the peak; where the peak is another at their end, all of it again."""
        for left in reversed(range(TRIES)):
            since = len(self.desk.taken)
            white, black, grey = yield from self.desk.reads([(100.0,) * 3, (0.0,) * 3, (FOR_ORDER,) * 3])
            self.settle([white, black])
            self.judged_by = self.palette = palette_for(self.target, self.white, self.black)
            self.desk.is_hdr = True
            held = yield from self.desk.reads_held(self.proof)
            if not left or agree(white, next(t for t in held if t.fraction.min() == 1.0)):
                break
            self.desk.throw_away(since, "The peak was another when it was first read, so what was found was read again")
        is_about = between(held, float(grey.fraction[0]), is_hdr=True) or 0.0
        if grey.xyz[1] <= 0 or is_about <= 0 or abs(np.log(float(grey.xyz[1]) / is_about)) > OTHERWISE:
            self.desk.drop(grey)
        return held

    def find_end(self) -> Procedure[None]:
        """Find how the display ends, from a few greys about its peak and those that are read anyway."""
        more = yield from self.desk.greys(self.palette.end)
        now = self.desk.settings
        told = [t for t in self.as_found if t.settings == now]
        if len(told) < len(FOUND):  # something was turned since: the middle of the range is read anew too
            more = [*more, *(yield from self.desk.greys([round(self.palette.reach * level, 2) for level in MIDDLE]))]
        greys = [t for t in (*told, *more, *self.desk.taken) if np.ptp(t.fraction) == 0 and t.settings == now]
        roll = roll_off_of([float(t.fraction[0]) for t in greys], [float(t.xyz[1]) for t in greys], self.black)
        self.palette = replace(self.palette, roll=roll)
        if roll is not None:
            self.desk.notes[:] = [note for note in self.desk.notes if not note.startswith(FOLLOWS)]  # to where its peak was before
            self.desk.notes.append(f"{FOLLOWS} {roll.follows_to:.0f} cd/m², then rolls off to {self.white:.0f}.")

    @property
    def _bends(self) -> bool:
        """Whether curves, or a cube that stands alone, do what points would."""
        return self.by == "both" and bool(self.takes.get("curves") or self.takes.get("cube"))

    @property
    def _turns(self) -> bool:
        """Whether a cube or a matrix does what colour management would."""
        return self.by == "both" and bool(self.takes.get("cube") or self.takes.get("matrix"))

    def find_boost(self) -> Procedure[None]:
        """Find how much a white sub-pixel adds: white beside the sum of the three full lights."""
        if self.target.is_hdr:
            return  # greys far below the peak are mixed as the signal says; what a sub-pixel adds belongs to the peak
        taken = self.as_found
        if "colour" not in self.steps:
            white_now = yield from self.desk.read_once(100.0)
            taken = [white_now, *(yield from self.desk.reads(SDR.full[:3]))]
        full = sum(float(t.xyz[1]) for t in taken if sorted(t.fraction) == [0.0, 0.0, 1.0])
        white = next(float(t.xyz[1]) for t in taken if (t.fraction == 1.0).all())
        if full > 0 and white / full - 1.0 > LEAST_BOOST:
            self.boost = white / full - 1.0

    def settle(self, taken: Sequence[Taken]) -> None:
        """Take white and black from what was read: white as bright as the weakest light allows without raising any."""
        by = {round(100 * float(t.fraction[0])): t.xyz for t in taken if np.ptp(t.fraction) == 0}
        if 100 not in by or by[100][1] <= 0:
            raise self._unlike("White has no light: nothing can be adjusted.")
        if 0 in by and by[100][1] < LEAST_CONTRAST * by[0][1]:
            raise self._unlike("Black gives as much light as white: something else is shown, or the meter sees something else.")
        may_cost = self.may_cost if self.by == "install" else MAY_COST
        self.white, self.whole = held(by[100], self.target, may_cost), float(by[100][1])
        self.black = max(float(by[0][1]) if 0 in by else 0.0, 0.0)

    def just_read(self, percent: Fraction) -> Taken | None:
        """Return a reading since anything was last turned; once what is left is read, one that is part of that."""
        just = self.desk.just_read(percent)
        return just if just is not None and any(t is just for t in self.desk.taken[self.left_at :]) else None

    def _unlike(self, words: str) -> FenvikError:
        """Return what ends a job before it has begun, or has everything put back."""
        return RestlessError(words) if self.as_found else FenvikError(words)

    def hold(self) -> tuple[float, float]:
        """Return white and black as they are now, in cd/m²: colours are judged beside the white that the greys leave."""
        if self.balance is None or self.balance.model is None:
            return self.white, self.black
        return self.balance.white_now(), self.balance.black

    def greys(self) -> Procedure[None]:
        """Adjust the greys, but for the last look that comes after the colours."""
        yield from self.find_boost()
        kinds = (["gain", "offset"] if "white" in self.steps else []) + (
            ["point", "tone"] if "grey" in self.steps and not self._bends else []
        )
        doubted: list[str] = [kind for kind in ("gain", "point") if kind in kinds and (kind == "point" or len(self.presets) > 1)]
        while True:
            more = max(self.total - USUAL_BUDGET, 0) - (OF_REFERENCE if self.correction else 0)
            self.balance = Greys(
                self.desk, self.target, self.white, self.black, self.boost, kinds, palette=self.palette, quiet=self._bends,
                goal=self.goal, half_way=lambda: reference.hold_between(self, goes_on=True),
                taught=self.taught, more=more, doubted=doubted,
            )  # fmt: skip
            # Of a job without colours everything counts; with them the full colours are theirs.
            yield from self.balance.adjust(proof=len(self.palette.found), others="colour" not in self.steps)
            if self.balance.dead is None:
                return
            kinds, doubted = yield from unlocking.what_is_left(self.desk, self.presets, self.balance.dead, kinds)
            yield from self._settle_anew()

    def _settle_anew(self) -> Procedure[None]:
        """Take white anew, after what was chosen."""
        white = yield from self.desk.read_once(100.0)
        self.settle([white, *(t for t in self.desk.taken if not t.fraction.any())])

    def colours(self) -> Procedure[None]:
        """Adjust the colours. What the greys want to look at after them is kept back, for colours may move greys a little."""
        kept = self.balance.to_come if self.balance is not None else 0
        self.desk.budget -= kept
        try:
            yield from colours.adjust(
                self.desk, self.target, self.hold(), self.palette, self.goal,
                kept=self.hues, foresight=self.foresight(), thrifty=bool(self.correction),
            )  # fmt: skip
        except BudgetError as spent:
            if self.desk.spent < self.desk.budget:
                raise  # it was the time that ended: nothing is kept back of that
            self.desk.notes.append(f"{spent} The colours are kept as they were reached by then.")
        finally:
            self.desk.budget += kept

    def foresight(self) -> Foresight | None:
        """Return what is known of colours since the greys were adjusted, from how both were found; None where they were not."""
        if self.balance is None or self.balance.model is None:
            return None
        colours = [t for t in self.as_found if np.ptp(t.fraction) > 0]
        greys = [t for t in self.as_found if np.ptp(t.fraction) == 0]
        black = next((t.xyz for t in greys if not t.fraction.any()), np.zeros(3))
        courses = self.balance.course_of(greys), self.balance.course
        fraction, xyz = np.array([t.fraction for t in colours]), np.array([t.xyz for t in colours])
        if not colours or (xyz[:, 1] <= black[1]).any():
            return None  # a colour too dark to be read tells of no light
        try:
            return Foresight.of(fraction, xyz, black, courses, self.target.matrix[1])
        except np.linalg.LinAlgError:
            return None
