"""Installing in a display that takes it: where it ends, and curves for its greys; its colours are the cube's (cube.py)."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.analysis.highlights import three_points
from fenvik.core.colour import curves as transfer
from fenvik.core.colour.target import Target
from fenvik.core.models.grey import wanted_of
from fenvik.core.models.installed import Curves, Split, Wheel, as_the_last, balanced_peak, curves_for
from fenvik.core.procedures.cube import AGAIN, NEARLY, Cube
from fenvik.core.procedures.steps import Procedure, RefusedError
from fenvik.core.types import Floats

GREYS = 11  # levels that curves are made from
AGAIN_ROUNDS, LEAST_AGAIN = 2, 8
USUAL_SIZE = 1024
UNCHECKED_COST = 0.012  # in HLG, where the last change is not looked at any more
PEAK_COST, MOST_COST = 0.015, 0.045  # of the peak that was found: what a balanced white may cost, and may be let cost for that
# Curves are made anew, with no other reading than of the peak, where that costs more, or less than a neutral one may.
PEAK_ROUNDS, LEAST_LOST, MOST_LOST = 3, 0.011, 0.018
ABOVE = 1.15  # of the peak: where a tone that shall not bend anything cuts off
SPARE_SIGNAL = 0.02
LONG = 0.1  # of signal: a roll-off that is shorter is over before readings tell of it
AT_ITS_END, LEAST_OF_IT = 0.002, 0.5  # of signal; of a light, in one step
STEEP_END, LIFTED_FROM = 6.0, 0.97  # of HLG: by how much light grows with signal there; of signal, where it is lifted from
AT_PEAK = 0.985  # of the peak: the brightest grey that curves are made from
RIGHT = 0.28  # of an error, the noise of the readings included: curves that are off by less are left as they are


def tone_of(target: Target, white: float, black: float) -> dict[str, Any]:
    """Return the tone of the device link by which a display of that white and black, in cd/m², ends as a PQ target does.

    With a clip it cuts off somewhat above the peak, and so follows to the peak.
    """
    points = [list(point) for point in target.knees]
    if not points and target.rolls_off:
        points = [list(point) for point in three_points(target, white, black)]
        if points:
            # The last one a little higher: what a display's own scale takes off the signal would be taken off its peak.
            points[-1][1] = round(min(points[-1][1] + SPARE_SIGNAL, 1.0), 5)
    return {"peak": float(round(ABOVE * white)), "knee": points}


@dataclass
class Installer(Cube):
    """What is installed by one job: the tone, and curves for the greys; the rest is its base's."""

    open: Floats | None = None  # XYZ of full signal before any curves, where the range of greys ends below it
    cost: float = PEAK_COST  # what the peak is let cost by what is believed of the lights, so that it really costs so much
    paid: list[tuple[float, float]] = field(default_factory=list)  # costs of the peak as believed, and as they were read
    is_neutral: bool = False  # whether all three lights end together already
    peak: float = 0.0  # cd/m² of full white, once it has been read after a change
    more: float = 0.0  # of HLG's peak: how much more than is usual a balanced white may cost
    lift: float = 0.0  # of signal, at the end of HLG: by how much the stronger lights go on beyond a balanced white
    looked: list[tuple[Floats, Floats]] = field(default_factory=list)  # signals that left the curves, and XYZ

    # Where it ends.

    def tone(self) -> Procedure[bool]:
        """Let the display end as the target does. Return whether it takes that."""
        if not self.takes.get("tone") or self.target.curve != "pq":
            return False
        yield from self.desk.say("roll-off")
        try:
            tone = tone_of(self.target, self.white, self.black)
            if self.target.knees and self.takes.get("curves"):
                # Curves cut it off where it shall end; of a light that is short there is more above that.
                tone["knee"][-1][1] = round(min(tone["knee"][-1][1] + SPARE_SIGNAL, 1.0), 5)
            yield from self.desk.install("tone", tone)
        except RefusedError as refusal:
            self.does_without(refusal)
            return False
        return True

    def cuts_off_less(self, white: float) -> Procedure[bool]:
        """Give the tone anew where it has cut white (cd/m²) down, as one before the light control does; return whether."""
        wanted = float(self.target.xyz(np.ones(3), self.white, self.black)[1])  # a target may end below it by itself
        if not 0.0 < white < (1.0 - MOST_LOST) * wanted:
            return False
        tone = dict(self.installed["tone"])
        tone["peak"] = float(round(tone["peak"] * wanted / white))
        try:
            yield from self.desk.install("tone", tone)
        except RefusedError as refusal:
            self.desk.notes.append(f"White ends at {white:.0f} cd/m² behind the tone, and no higher one is taken: {refusal}")
            return False
        return True

    def does_without(self, refusal: RefusedError) -> None:
        """Go on without what the display says that it takes, and does not."""
        what = refusal.what
        self.takes = {name: told for name, told in self.takes.items() if name != what}
        if what == "curves":
            self.curves = Curves.none(self.curves.size)
        if what == "cube":
            self.wheel, self.split, self.turned = Wheel.none(), None, None
            if self.holds_curves:
                self.curves, self.holds_curves = Curves.none(self.curves.size), False
        self.desk.notes.append(f"The display did not take the {what}, and it was left out: {refusal}")

    # Greys.

    def greys(self) -> Procedure[None]:
        """Make curves from greys, install them, and make them better from what is read then."""
        if not self.takes.get("curves") and not self.sizes:
            left = "greys are left to its controls, which “both” adjusts"
            self.desk.notes.append(f"This display takes neither curves nor a cube: {left}.")
            return
        self.holds_curves = not self.takes.get("curves")
        yield from self.desk.say("cube" if self.holds_curves else "curves")
        self.curves = Curves.none(USUAL_SIZE if self.holds_curves else int(self.takes["curves"].get("size", USUAL_SIZE)))
        if self.palette.is_shortened:
            self.open = (yield from self.desk.read_once(100.0)).xyz
        yield from self._see_lights()
        yield from self._round(GREYS, free=True)

    def greys_again(self) -> Procedure[None]:
        """Read greys with all that is installed, and make the curves better, as often as readings are left for, twice at most."""
        if not self.is_bent:
            return
        yield from self.desk.say("cube once more" if self.holds_curves else "curves once more")
        self.looked = []  # a cube stands behind the curves now: what they gave before tells of another display
        for _ in range(AGAIN_ROUNDS):
            # The peak is read too, and perhaps twice more.
            count = min(AGAIN, self.desk.budget - self.desk.spent - (3 if self.target.is_hdr else 1))
            if count < LEAST_AGAIN or not (yield from self._round(count)):
                break
        if self.looked:
            yield from self._balance_peak()

    def _balance_peak(self) -> Procedure[None]:
        """Make the end of the curves anew until the peak costs what it may, by readings of the peak alone."""
        if self.open is None and not self.target.is_hdr:
            return
        for _ in range(PEAK_ROUNDS):
            right = self.open is None and self._lost <= MOST_LOST
            right |= LEAST_LOST <= self._lost <= MOST_LOST or (self._lost < LEAST_LOST and self.is_neutral)
            # Who tries to have more keeps a reading to go back by.
            if right or self.desk.budget - self.desk.spent < (2 if self._lost < LEAST_LOST else 1):
                break
            yield from self._bend()
        kept = [pair for pair in self.paid if pair[1] <= MOST_LOST]
        if self._lost > MOST_LOST and kept and self.desk.budget > self.desk.spent:
            self.cost = max(kept, key=lambda pair: pair[1])[0]
            yield from self._bend()

    @property
    def _lost(self) -> float:
        """How much of the peak that was found is lost now."""
        return 1.0 - self.peak / self.found if self.peak else 0.0

    def _round(self, count: int, *, free: bool = False) -> Procedure[bool]:
        """Read greys and make the curves from them; return whether that was needed."""
        read = yield from self.desk.greys(self._levels(count))
        fraction, xyz = np.array([t.fraction for t in read]), np.array([t.xyz for t in read])
        self.looked.append((self.curves.bent(fraction), xyz))
        self.paid = []  # by curves that knew less
        # A fit to readings of curves that are right follows their noise. But where a range ends below full signal, so must they.
        if not free and self.open is None and self._error(read) <= RIGHT * self.target.metric.weight:
            return False
        yield from self._bend(free=free)
        return True

    def _levels(self, count: int) -> list[float]:
        """Return levels in percent, those of another round between those of the one before."""
        least, top = (5.0 if self.target.is_hdr else 3.0), 100.0 * self.palette.top
        if self.palette.is_shortened:
            top = 100.0 * float(self.target.fraction(AT_PEAK * self.white, self.white, self.black))
        levels = np.linspace(least, top, count)
        if len(self.looked) % 2:
            between = np.linspace(least, top, count - 1)
            levels = np.concatenate([[least], 0.5 * (between[:-1] + between[1:]), [top]])
        return sorted({round(float(v), 2) for v in levels}, reverse=True)

    def _see_peak(self) -> Procedure[None]:
        """Hold the target against the peak as it is now."""
        if self.palette.is_shortened:
            self.white = self.peak = float((yield from self.desk.greys((100.0,)))[0].xyz[1])
            if self.turned is not None:
                self.paid.append((self.cost, self._lost))
                self.cost = self._next_cost()
        elif self.target.is_hdr:
            read = (yield from self.desk.greys((100.0,)))[0].xyz
            self.peak = float(read[1])
            if self._lost > MOST_LOST + self.more or self.lift:
                self._go_on_at_the_end(read)

    def _go_on_at_the_end(self, xyz: Floats) -> None:
        """Let lights that are not at their end go on above a balanced white, so that HLG's peak is what it may be at least.

        Balance has taken more of it than it may. Levels are held against what it may leave. ``xyz``: full white as it was read.
        """
        white = (1.0 - UNCHECKED_COST - self.more) * self.found
        most = self.curves.values[:, -1] + (0.0 if self.split is None or self.holds_curves else self.split.beside[:, -1])
        lights = np.maximum(self.target.matrix[1] * (self.target.inverse_matrix @ xyz), 0.0)
        more = float(lights[most < 1.0 - AT_ITS_END].sum())
        lower = self.white - white  # comes off the peak too
        if more > 0.0:
            self.lift = max(self.lift + float(np.log(max(1.0 + (white + lower - self.peak) / more, LEAST_OF_IT))) / STEEP_END, 0.0)
        self.white = white

    def _next_cost(self) -> float:
        """Return what the peak is to be let cost so that it really costs what it may, between what was tried if it can be."""
        less = [pair for pair in self.paid if pair[1] <= PEAK_COST]
        more = [pair for pair in self.paid if pair[1] > PEAK_COST]
        if less and more:
            (low, gave), (high, took) = max(less, key=lambda pair: pair[1]), min(more, key=lambda pair: pair[1])
            return low + (high - low) * (PEAK_COST - gave) / (took - gave)
        return float(np.clip(self.cost + PEAK_COST - self._lost, 0.0, MOST_COST))

    def _bend(self, *, free: bool = False) -> Procedure[None]:
        """Make the curves from what was looked at; ``free``: not cut off where each light ends."""
        ends, opened, most = np.full(3, np.inf), [False, False, False], None
        if self.open is not None:
            lights = np.maximum(self._lights(self.open[None])[0], 1e-6)
            most = np.asarray(transfer.pq_inverse(lights))
        if self.open is not None and not free:
            columns, more = self._balanced()
            may = max(1.0 - (1.0 - self.cost) * self.found / float(self.open[1]), 0.0)
            peak = balanced_peak(lights, columns[1] + more[1] / 3.0, may)
            self.is_neutral = peak <= float(lights.min())
            ends = np.full(3, float(transfer.pq_inverse(peak)))
            # Before a cube a light that ran on to full signal would be a colour.
            opened = [bool(light <= 1.002 * peak) and self.turned is None for light in lights]
        sent, drives = as_the_last([(sent, self._drives(xyz)) for sent, xyz in self.looked])
        self.curves = curves_for(self.curves, sent, drives, self._wanted, ends, open_top=opened, most=most, knee=self._knee)
        yield from self._give_curves()
        yield from self._see_peak()

    def _give_curves(self) -> Procedure[None]:
        """Install the curves; in the cube, where the display takes no other, as it draws them between its points."""
        if not self.holds_curves:
            yield from self.desk.install("curves", self.curves.data())
            return
        reached = float(self.target.fraction(NEARLY * self.white, self.white, self.black))
        self.curves = self.curves.on_points(self._cube_size, reached if self.palette.is_shortened else 1.0)
        self.split = Split.none_before(self.curves)
        yield from self._cube()

    @property
    def _knee(self) -> Floats | None:
        """The points (n, 2) of the roll-off that is installed, or of the display's own where none is; None where it is short."""
        knee, roll = np.array((self.installed.get("tone") or {}).get("knee") or []), self.palette.roll
        if "tone" not in self.installed and roll is not None:
            knee = np.column_stack([roll.course, roll.light])
        return knee if knee.size and knee[-1, 0] - knee[0, 0] >= LONG else None

    def _wanted(self, signal: Floats) -> Floats:
        # The peak before any curves: what they take of it is said by where each light ends, and not once more by what is left.
        if self.target.curve == "hlg":
            return signal + self.lift * np.clip((signal - LIFTED_FROM) / (1.0 - LIFTED_FROM), 0.0, 1.0)
        white = self.white if self.open is None else float(self.open[1])
        if self.open is not None and not self.target.rolls_off:
            white *= ABOVE  # where one light is weak, the others end above what a neutral peak would ask of them
        return wanted_of(signal, self.target, white, self.black)
