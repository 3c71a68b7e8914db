"""Installing in a display that takes it: where it ends, curves for its greys, a cube or a matrix for its colours."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.analysis.highlights import three_points
from fenvik.core.colour import curves as transfer
from fenvik.core.colour.target import Target
from fenvik.core.models.grey import drives_of, wanted_of
from fenvik.core.models.installed import (
    Curves,
    Split,
    Wheel,
    as_the_last,
    balanced_peak,
    cube_data,
    curves_for,
    matrix_towards,
)
from fenvik.core.models.palette import Palette
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import Procedure, RefusedError
from fenvik.core.procedures.taken import Taken
from fenvik.core.types import Floats

GREYS = 11  # levels that curves are made from
AGAIN = 13  # when a cube stands behind them
AGAIN_ROUNDS, LEAST_AGAIN = 2, 8
COLOUR_ROUNDS = 3
UNCHECKED_COST = 0.012  # in HLG, where the last change is not looked at any more
PEAK_COST, MOST_COST = 0.015, 0.045  # of the peak that was found: what a balanced white may cost, and may be let cost for that
# Curves are made anew, with no other reading than of the peak, where that costs more, or less than a neutral one may.
PEAK_ROUNDS, LEAST_LOST, MOST_LOST = 3, 0.011, 0.018
ABOVE = 1.15  # of the peak: where a tone that shall not bend anything cuts off
USUAL_CUBE = 33
SPARE_SIGNAL = 0.02
STEEP_END, LIFTED_FROM = 6.0, 0.97  # of HLG: by how much light grows with signal there; of signal, where it is lifted from
AT_PEAK = 0.985  # of the peak: the brightest grey that curves are made from
RIGHT = 0.28  # of an error, the noise of the readings included: curves that are off by less are left as they are
NEARLY = 0.998  # of the peak: where a target counts as having reached it
OVER = 0.015  # of signal, above the peak: from there on nothing is told apart
# Three lights and their white are read again where no display can be so: white in shares of their sum, and how far they are apart.
TRIES, LEAST_WHITE, MOST_WHITE, LEAST_APART = 3, 0.85, 2.5, 0.02
LEAST_BOOST = 0.05  # of the sum of the three lights


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
class Installer:
    """What is installed by one job: ``takes`` is what the display says that it can be given."""

    desk: Desk
    target: Target
    palette: Palette
    white: float
    black: float
    takes: dict[str, Any]
    found: float = 0.0  # cd/m² of white as it was found
    curves: Curves = field(default_factory=lambda: Curves.none(1024))
    wheel: Wheel = field(default_factory=Wheel.none)
    pure: list[Taken] = field(default_factory=list)  # each light alone, and all three
    split: Split | None = None
    turned: Floats | None = None  # lights (n, 3) of colours that the cube was made for
    cube_size: int = USUAL_CUBE
    open: Floats | None = None  # XYZ of full signal before any curves, where the range of greys ends below it
    cost: float = PEAK_COST  # what the peak is let cost by what is believed of the lights, so that it really costs so much
    paid: list[tuple[float, float]] = field(default_factory=list)  # costs of the peak as believed, and as they were read
    is_neutral: bool = False  # whether all three lights end together already
    peak: float = 0.0  # cd/m² of full white, once it has been read after a change
    lift: float = 0.0  # of signal, at the end of HLG: by how much the stronger lights go on beyond a balanced white
    looked: list[tuple[Floats, Floats]] = field(default_factory=list)  # signals that left the curves, and XYZ

    @property
    def installed(self) -> dict[str, dict[str, Any]]:
        """What is installed now."""
        return self.desk.given

    # Where it ends.

    def tone(self) -> Procedure[bool]:
        """Let the display end as the target does. Return whether it takes that."""
        if not self.takes.get("tone") or self.target.curve != "pq":
            return False
        yield from self.desk.say("roll-off")
        try:
            yield from self.desk.install("tone", tone_of(self.target, self.white, self.black))
        except RefusedError as refusal:
            self.does_without(refusal)
            return False
        return True

    def does_without(self, refusal: RefusedError) -> None:
        """Go on without what the display says that it takes, and does not."""
        what = refusal.what
        self.takes = {name: told for name, told in self.takes.items() if name != what}
        if what == "curves":
            self.curves = Curves.none(self.curves.size)
        if what == "cube":
            self.wheel, self.split = Wheel.none(), None
        self.desk.notes.append(f"The display did not take the {what}, and it was left out: {refusal}")

    # Greys.

    def greys(self) -> Procedure[None]:
        """Make curves from greys, install them, and make them better from what is read then."""
        if not self.takes.get("curves"):
            self.desk.notes.append("This display takes no curves: greys are left to its controls.")
            return
        yield from self.desk.say("curves")
        self.curves = Curves.none(int(self.takes["curves"].get("size", 1024)))
        if self.palette.is_shortened:
            self.open = (yield from self.desk.read_once(100.0)).xyz
        yield from self._see_lights()
        yield from self._round(GREYS, free=True)

    def _see_lights(self) -> Procedure[None]:
        """Read what each light gives alone, and all three: a white sub-pixel adds to them, with the least of the three."""
        for _ in range(TRIES):
            self.pure = yield from self.desk.reads(self._pure())
            each = np.array([t.xyz for t in self.pure])
            white, total = float(each[3, 1]), float(each[:3, 1].sum())
            shape = each[:3] / np.maximum(each[:3].sum(axis=1, keepdims=True), 1e-9)
            if LEAST_WHITE * total < white < MOST_WHITE * total and abs(np.linalg.det(shape)) > LEAST_APART:
                return

    def greys_again(self) -> Procedure[None]:
        """Read greys with all that is installed, and make the curves better, as often as readings are left for, twice at most."""
        if "curves" not in self.installed:
            return
        yield from self.desk.say("curves once more")
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

    def _drives(self, xyz: Floats) -> Floats:
        """Return the signals (n, 3) at which each light by itself gives what it gives in greys XYZ (n, 3)."""
        if self.target.curve != "pq":
            return drives_of(xyz, self.target, self.white, self.black)  # HLG bends the three together, BT.1886 has black in each
        return self._signal(self._lights(xyz))

    def _lights(self, xyz: Floats) -> Floats:
        """Return what each light gives (n, 3) in greys XYZ (n, 3), in cd/m² of the grey that it would belong to.

        Lights are told apart by what each was read to give alone, and not by what the standard's would: so one is not taken for
        another, and a white sub-pixel not for all three.
        """
        columns, more = self._balanced()
        seen = xyz - (self.black * self.target.white if self.target.curve == "pq" else 0.0)
        made = np.empty_like(seen)
        for i, row in enumerate(seen):
            options = []
            for least in range(3):
                matrix = columns.copy()
                matrix[:, least] += more
                lights = np.linalg.solve(matrix, row)
                options.append((float(lights[least] - lights.min()), least, lights))
            made[i] = np.maximum(min(options, key=lambda option: option[0])[2], 0.0)
        return made

    def _balanced(self) -> tuple[Floats, Floats]:
        """Return what each light gives in XYZ (3, 3) for a grey of 1 cd/m², and what is more in all three (3,)."""
        light = self._as_light(self.pure)
        each = np.array([t.xyz - self.black * self.target.white for t in self.pure])
        columns = np.array([each[c] / light[c, c] for c in range(3)]).T
        more = each[3] / light[3, 0] - columns.sum(axis=1)
        if np.abs(more[1]) < LEAST_BOOST * columns[1].sum():
            more = np.zeros(3)
        # How much of each makes the target's white: the lights' own scale is what curves are to mend.
        share = np.linalg.solve(columns + more[:, None] / 3.0, self.target.white)
        return columns * share, more * float(share.mean())

    def _see_peak(self) -> Procedure[None]:
        """Hold the target against the peak as it is now."""
        if self.palette.is_shortened:
            self.white = self.peak = float((yield from self.desk.greys((100.0,)))[0].xyz[1])
            if "cube" in self.installed:
                self.paid.append((self.cost, self._lost))
                self.cost = self._next_cost()
        elif self.target.is_hdr:
            self.peak = float((yield from self.desk.greys((100.0,)))[0].xyz[1])
            if self._lost > MOST_LOST or self.lift:
                # Balance has taken more of it than it may: levels are held against what it may leave, and the end goes on to that.
                white = (1.0 - UNCHECKED_COST) * self.found
                lower = (self.white - white) / self.found  # comes off the peak too
                self.lift = max(self.lift + (self._lost + lower - UNCHECKED_COST) / STEEP_END, 0.0)
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
            opened = [bool(light <= 1.002 * peak) and "cube" not in self.installed for light in lights]
        sent, drives = as_the_last([(sent, self._drives(xyz)) for sent, xyz in self.looked])
        self.curves = curves_for(self.curves, sent, drives, self._wanted, ends, open_top=opened, most=most)
        yield from self.desk.install("curves", self.curves.data())
        yield from self._see_peak()

    def _wanted(self, signal: Floats) -> Floats:
        # The peak before any curves: what they take of it is said by where each light ends, and not once more by what is left.
        if self.target.curve == "hlg":
            return signal + self.lift * np.clip((signal - LIFTED_FROM) / (1.0 - LIFTED_FROM), 0.0, 1.0)
        white = self.white if self.open is None else float(self.open[1])
        if self.open is not None and not self.target.rolls_off:
            white *= ABOVE  # where one light is weak, the others end above what a neutral peak would ask of them
        return wanted_of(signal, self.target, white, self.black)

    # Colours.

    def colours(self) -> Procedure[None]:
        """Put colours in place by a cube, or by a matrix where there is none."""
        sizes = (self.takes.get("cube") or {}).get("sizes") or []
        if not sizes and not self.takes.get("matrix"):
            self.desk.notes.append("This display takes neither cube nor matrix: colours are left to its controls.")
            return
        yield from self.desk.say("cube" if sizes else "matrix")
        patches = [percent for hue in self.palette.hues.values() for _, percent in hue]
        full = np.array([patches.index(hue[0][1]) for hue in self.palette.hues.values()])
        if not self.pure:
            yield from self._see_lights()
        read = yield from self.desk.reads(patches)
        sent, gives = self._as_light(read), self._gives(self.pure)
        # What was sent through the wheel is what comes of it; what is needed is learned from what is still off.
        now, best, kept = sent.copy(), self._error(read), None
        needed, looked = now.copy(), np.arange(len(patches))
        for left in reversed(range(COLOUR_ROUNDS)):
            off = np.array([t.xyz for t in read]) - self._wanted_of(read)
            for i, o in zip(looked, off, strict=True):
                needed[i] = np.maximum(now[i] - np.linalg.solve(gives(now[i]), o), 0.0)
            before = self.wheel
            yield from self._turn(sent, needed, sizes)
            now = self.wheel.turned(sent) if sizes else sent @ np.array(self.installed["matrix"]["rows"]).T
            if left < COLOUR_ROUNDS - 1:  # pale colours have come right by then, and what moves the full ones hardly moves them
                looked, best = full, self._error([read[i] for i in full] if len(read) > len(full) else read)
            if not left or self.desk.budget - self.desk.spent < len(looked) + 2 * AGAIN:
                break  # the proof reads them too
            read = yield from self.desk.reads([patches[i] for i in looked])
            error = self._error(read)
            if error >= best:
                self.wheel = before
                yield from self._put(kept, "cube" if sizes else "matrix")
                break
            best, kept = error, self.installed["cube" if sizes else "matrix"]

    def _put(self, kept: dict[str, Any] | None, what: str) -> Procedure[None]:
        if kept is not None:
            yield from self.desk.install(what, kept)
        else:
            yield from self.desk.uninstall(what)

    def _pure(self) -> list[tuple[float, float, float]]:
        level = max(max(percent) for hue in self.palette.hues.values() for _, percent in hue[:1])
        return [(level * r, level * g, level * b) for r, g, b in (*np.eye(3).tolist(), (1.0, 1.0, 1.0))]

    def _as_light(self, read: list[Taken]) -> Floats:
        """Return the lights (n, 3) in cd/m² of white that readings' signals ask for."""
        return self._light(np.array([t.fraction for t in read]))

    def _light(self, fraction: Floats) -> Floats:
        target = self.target.unrolled
        most = transfer.PQ_PEAK_CD_M2 if target.curve == "pq" else self.white
        return np.asarray(target.light(fraction, most, 0.0 if target.curve == "pq" else self.black))

    def _signal(self, light: Floats) -> Floats:
        target = self.target.unrolled
        most = transfer.PQ_PEAK_CD_M2 if target.curve == "pq" else self.white
        return np.asarray(target.fraction(light, most, 0.0 if target.curve == "pq" else self.black))

    def _wanted_of(self, read: list[Taken]) -> Floats:
        return self.target.xyz(np.array([t.fraction for t in read]), self.white, self.black)

    def _error(self, read: list[Taken]) -> float:
        wanted, xyz = self._wanted_of(read), np.array([t.xyz for t in read])
        return float(self.target.metric.whole(wanted, xyz, self.target.white * self.white).mean())

    def _gives(self, pure: list[Taken]) -> Any:
        """Return a function from lights (3,) to the matrix (3, 3) of what a little more of each adds, in XYZ."""
        light = self._as_light(pure)
        each = np.array([t.xyz - self.black * self.target.white for t in pure])
        columns = np.array([each[c] / light[c, c] for c in range(3)]).T
        more = each[3] / light[3, 0] - columns.sum(axis=1)

        def at(lights: Floats) -> Floats:
            made = columns.copy()
            made[:, int(np.argmin(lights))] += more
            return made

        return at

    def _turn(self, sent: Floats, needed: Floats, sizes: list[int]) -> Procedure[None]:
        if not sizes:
            rows = matrix_towards(sent, needed)
            yield from self.desk.install("matrix", {"rows": np.round(rows, 6).tolist()})
            return
        self.wheel = self.wheel.towards(sent, needed)
        self.turned = sent
        if self.split is None:
            # Above the peak, not above the last grey: else the peak itself would be cut off.
            reached = float(self.target.fraction(NEARLY * self.white, self.white, self.black))
            ends = reached + OVER if self.palette.is_shortened else 1.0
            self.split = Split.of(self.curves, min(ends, 1.0))
            if "curves" in self.installed:
                self.curves = self.split.curves()
                yield from self.desk.install("curves", self.curves.data())
        self.cube_size = max((s for s in sizes if s <= USUAL_CUBE), default=min(sizes))
        yield from self._cube()

    def _cube(self) -> Procedure[None]:
        assert self.split is not None
        values = self.split.cube(self.cube_size, self.wheel, self._light, self._signal)
        yield from self.desk.install("cube", cube_data(self.cube_size, values))

    def hold_colours(self) -> Procedure[None]:
        """Let colours be as they were before the curves in front of their cube were made better: no reading is needed."""
        if "cube" not in self.installed or self.split is None or self.turned is None:
            return
        reaching = self._light(self.split.before(self.curves.bent(self._signal(self.turned))))
        self.wheel = self.wheel.towards(reaching, self.wheel.turned(self.turned))
        yield from self._cube()


