"""What is known of the greys of a hands-free job: what was read, the model of it, and what that expects."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control, of_greys, steps_to
from fenvik.core.models import room
from fenvik.core.models.black import Black, black_of
from fenvik.core.models.foreseen import Course
from fenvik.core.models.grey import Fit, Seen, drives_of, fineness, seen_at, seen_of, wanted_of
from fenvik.core.models.greyends import may_end
from fenvik.core.models.greyfit import Quick, fit
from fenvik.core.models.greysolve import lift_of
from fenvik.core.models.greyworth import judged_size, worth_reading
from fenvik.core.models.palette import DARKEST, SDR, Palette
from fenvik.core.models.taught import Taught
from fenvik.core.models.twopoint import light
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.taken import Taken
from fenvik.core.types import Floats

JUDGED = np.array([0.1, 0.15, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0])  # fractions of signal, where there are no points
COARSE = np.array([0.1, 0.2, 0.3, 0.5, 0.7, 0.9, 1.0])  # what gains and offsets are to get right before points
VALLEYS = 3  # places in a run where a meter may have changed, by a quick fit, that are looked about
DISBELIEVED = 3.0  # squared error that speaks against what an earlier sample of the model has taught
DARKEST_TELLING = 0.045  # fraction of signal: below it a meter surprises more than a display does
DARKEST_READ = 0.025  # fraction of signal: below it a reading tells of black
BEYOND = 0.003  # of signal, above the end of what is judged: still at it
NOT_MOVED = np.zeros(0)
OF_COLOUR = ("colour.", "saturation", "tint", "gamut")  # roles that leave greys alone, nearly


@dataclass
class GreyView:
    """What is known of the greys: what was read of them, the model of it, and what that expects.

    ``white`` and ``black`` in cd/m² are what greys are held against; ``boost`` is a white sub-pixel's share of light.
    """

    desk: Desk
    target: Target
    white: float
    black: float
    boost: float
    kinds: Sequence[str]
    model: Fit | None = None
    between: list[float] = field(default_factory=list)  # levels in percent that may be read again
    palette: Palette = SDR
    goal: float = 0.0  # of the error, in the target's own measure: what is no farther off is left; 0 for as good as it gets
    taught: Taught | None = None  # by an earlier sample of the same model
    kept_of: dict[Sequence[str], Floats] = field(default_factory=dict)  # by kinds: what came of what they promised, and its square
    doubted: Sequence[str] = ()  # kinds of which it is still to be seen whether they do anything: gain, point
    explained: int = 0  # so many readings were taken before the model last explained all of them
    proofs: int = 0  # so often something else was looked for that would explain them

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

    def _moved(self, settings: dict[str, Any]) -> Floats:
        moved: Floats = steps_to(self.knobs, _values([knob.id for knob in self.knobs], [settings]))[0]
        return moved

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

    def changed_at(self, change: Floats) -> tuple[int, float]:
        """Return how many readings were taken before a meter changed that ``change`` (3, 3) puts right from then on.

        Nobody has seen when: it is where the model explains all greys best. With it, how little that explains them.
        """
        every = self._of_now()

        def seen(since: int) -> list[Seen]:
            return self._seen_of([
                (when, t if when < since else replace(t, xyz=np.asarray(change @ t.xyz)), before) for when, t, before in every
            ])

        places = sorted({0, *(when for when, _, _ in every), len(self.desk.taken)})
        # What is unlikely has more than one valley: a quick fit finds them, and the deepest are looked into.
        rough = [Quick(self.knobs, seen(place), fineness(self.target)).residual for place in places]
        around = [range(max(i - 1, 0), min(i + 2, len(places))) for i in range(len(places))]
        valleys = [i for i in range(len(places)) if rough[i] <= min(rough[j] for j in around[i])]
        deepest = sorted(valleys, key=lambda i: rough[i])[:VALLEYS]
        unlikely = {i: self._fit(seen(places[i])).residual for i in sorted({j for i in deepest for j in around[i]})}
        best = min(unlikely, key=lambda i: (unlikely[i], i))
        return places[best], float(unlikely[best])

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
        return self._seen_by(taken, boost)(self.knobs)

    def _seen_by(
        self, taken: Sequence[tuple[int, Taken, float]], boost: float = 0.0
    ) -> Callable[[Sequence[Control]], list[Seen]]:
        """Return what gives the readings with moves in the steps that its knobs may have; all the rest is worked out once."""
        made, settings, roll = [], [], self.palette.roll
        # Only points can bring down single levels that the display shows at its peak.
        may_hide = self.target.ends_otherwise and bool(self.points)
        lit = [e for e in taken if DARKEST_READ <= e[1].fraction[0] <= self.palette.top + BEYOND and e[1].xyz[1] > 0]
        xyz = np.array([t.xyz for _, t, _ in lit]).reshape(len(lit), 3)
        every = drives_of(xyz, self.target, self.white, self.black, boost, roll)
        for (when, t, before), drives in zip(lit, every, strict=True):
            if roll is not None and may_hide and roll.hides(float(drives.mean()), float(t.fraction[0])):
                continue
            doubt = 1.0 if roll is None else roll.doubt_of(float(drives.mean()))
            made.append(Seen(float(t.fraction[0]), drives, NOT_MOVED, float(when), before, doubt))
            settings.append(t.settings)

        values = _values([knob.id for knob in self.knobs], settings)

        def seen_by(knobs: Sequence[Control]) -> list[Seen]:
            moves = steps_to(knobs, values)
            return [Seen(s.level, s.drives, moved, s.when, s.before, s.doubt) for s, moved in zip(made, moves, strict=True)]

        return seen_by

    def read_of_now(self) -> int:
        """Return how many readings the model is of."""
        assert self.model is not None
        return len(self._seen(self.model.boost))

    def off_by(self, taken: Taken) -> float:
        """Return by how much of drive the model is off at most at a grey that was read; nothing below its end in the dark."""
        assert self.model is not None
        if taken.fraction[0] < DARKEST_READ or taken.xyz[1] <= 0:
            return 0.0
        drives = drives_of(taken.xyz[None], self.target, self.white, self.black, self.model.boost, self.palette.roll)[0]
        return float(np.abs(drives - self.model.at(np.array([taken.fraction[0]]), self._moved(taken.settings))[0]).max())

    def lit(self, taken: Sequence[Taken]) -> tuple[list[Taken], Floats, Floats]:
        """Return those of some greys that tell of the display and not of the meter, with their levels (n,) and drives (n, 3)."""
        assert self.model is not None
        lit = [t for t in taken if t.is_grey and t.fraction[0] >= DARKEST_TELLING and t.xyz[1] > 0]
        xyz = np.array([t.xyz for t in lit]).reshape(len(lit), 3)
        drives = drives_of(xyz, self.target, self.white, self.black, self.model.boost, self.palette.roll)
        return lit, np.array([float(t.fraction[0]) for t in lit]), drives

    def expected(self, levels: Floats, settings: dict[str, Any]) -> Floats:
        """Return the drives (n, 3) that the model expects of levels (n,) with some settings."""
        assert self.model is not None
        return self.model.at(levels, self._moved(settings))

    def judged_size(self, off: Floats, levels: Floats) -> float:
        """Return the root of the mean square of what drives (n, 3) are off by at levels (n,), as it is judged."""
        assert self.model is not None
        size = judged_size(off, levels, self.model.boost, self.target, self.white, self.black, self.palette.roll)
        return float(np.sqrt((size**2).mean())) if len(levels) else 0.0

    def wanted(self, levels: Floats) -> Floats:
        """Return the drives (n, 1) that are wanted of levels (n,), the same of all lights."""
        return wanted_of(levels, self.target, self.white, self.black, self.palette.roll)[:, None]

    def _fit(self, seen: Sequence[Seen]) -> Fit:
        """Return the model of what was seen; an earlier sample is believed for as long as this one does not speak against it."""
        return self._fit_of(self.knobs, seen)

    def _fit_of(self, knobs: Sequence[Control], seen: Sequence[Seen]) -> Fit:
        may = may_end(self.target, knobs)
        alone = fit(knobs, seen, fineness(self.target), may_end=may)
        if self.taught is None:
            return alone
        told = fit(knobs, seen, fineness(self.target), self.taught, may_end=may)
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
        if self.target.curve == "hlg":
            # All of its greys are lifted by black's share of white, so by what black may be raised too.
            self.black = now
            return
        self.black = min(self.black, max(now, min((luminance for _, luminance in read), default=now)))

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


def _values(ids: Sequence[str], settings: Sequence[dict[str, Any]]) -> Floats:
    """Return the values (s, k) that some controls have in some settings."""
    values = np.array([[each[name] for name in ids] for each in settings], dtype=np.float64)
    return values.reshape(len(settings), len(ids))
