"""The least squares behind the fit of the greys: of one light by itself, or of all three where points move them alike."""

import copy
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fenvik.core.controls import Control
from fenvik.core.models.grey import NOISE, Seen, ends, in_the_dark, pull, reach_of
from fenvik.core.models.taught import BETWEEN, BETWEEN_POINTS_UNTOLD, Taught
from fenvik.core.types import Floats, Ints

OWN = 0.8  # of what a step is taken to do by its range: how far that may be off
TILT = 0.2  # of it: how much a gain may add at black, or an offset at white
CROSS = 0.15  # of a control's own effect: how much it may push the other channels
PUSHED = 0.25  # of a point's effect: how much the points of one light may push another, where they do
UNEQUAL = 0.25  # of a point's effect: how far one point's step is from its light's usual one
WARMING, WARMS_IN = 0.004, 60.0  # of drive at white that warm-up may still add, and in how many readings most of it
ROUGH = 0.8  # how bent a display's curve may be: drive by level squared
LEAST_ROUGH = 0.0006  # of drive: what is left of that at any distance
MIDDLE, GROWTH = 0.5, 0.5  # of signal, and of a point's usual step: how much more it may do at white than in the middle, twice
SHIFTED = 0.004  # of drive: what colour management may do to greys
ASTRAY = np.array([0.028, 0.005])  # of signal: by how much points may meet white and black elsewhere than at their levels
LEAST_SPREAD = 1e-5  # of what is taken of anything before it was read
COLUMNS = {"warm": 0, "gain": 1, "offset": 4, "shift": 7, "place": 9, "tilt": 11, "push": 13}  # of a light, after its base
NEAR = 0.002  # of signal: how steep a point's pull is, is told over this


USUAL = {"gain": 0.30, "offset": 0.10, "point": 0.20, "tone": 0.20}  # of the whole range, before anything was seen


def prior_units(knobs: Sequence[Control], more: Mapping[str, float] | None = None) -> Floats:
    """Return what one step of each control is taken to add before anything was seen: ranges tell the scale, widely.

    ``more``: by kind, how many times more a step has been seen to do.
    """
    span = np.array([max(2.0 * knob.half_steps, 1.0) for knob in knobs])
    units: Floats = np.array([USUAL[knob.kind] * (more or {}).get(knob.kind, 1.0) for knob in knobs]) / span
    return units


@dataclass(frozen=True)
class Readings:
    """Readings as arrays: levels (r,), drives (r, 3), moves (r, k) and the place of each level among the n different ones."""

    at: Floats
    drives: Floats
    moved: Floats
    levels: Floats
    which: Ints
    when: Floats
    before: Floats
    doubt: Floats
    fine: float = 1.0  # as of ``grey.fineness``

    @classmethod
    def of(cls, seen: Sequence[Seen], knobs: int, fine: float = 1.0) -> "Readings":
        """Return readings in order of time as arrays."""
        at = np.array([s.level for s in seen])
        levels, which = np.unique(np.round(at, 6), return_inverse=True)
        return cls(
            at, np.array([s.drives for s in seen]), np.array([s.moved for s in seen]).reshape(len(seen), knobs), levels,
            which, np.array([s.when for s in seen]), np.array([s.before for s in seen], dtype=float),
            np.array([s.doubt for s in seen]), fine,
        )  # fmt: skip

    @cached_property
    def ends(self) -> Floats:
        """The shares (r, 2) that something at white and something at black has of each."""
        return ends(self.at)

    @property
    def noise(self) -> Floats:
        """What each reading (r,) is off by, in drive. Dark drives are noisy: the light there is little."""
        return self.doubt * self.fine * NOISE * (1.0 + (0.12 / np.maximum(self.at, 0.02)) ** 2)


class Block:
    """The unknown of some lights (m of them), in order: of each light its base at n levels, warm-up, gains (3), offsets (3), what
    colour management shifted (2), by how much points meet white and black elsewhere than was taken (2), tilts (2), and what the
    points of the other lights push it by (3); then of the points their usual steps, how these grow with the level, and how far each
    that was moved is from it. Points that move all lights alike have another usual step than those beside them that move one.
    """

    def __init__(
        self, channels: Sequence[int], knobs: Sequence[Control], moved: Sequence[int], read: Readings, units: Floats,
        taught: Taught | None = None, low: float = 1.0, *, pushes: bool = False,
    ) -> None:  # fmt: skip
        mine = [k for k in moved if knobs[k].kind == "tone" or knobs[k].channel in channels]
        self.channels, self.mine, self.read, self.low = tuple(channels), np.array(mine, dtype=int), read, low
        self.knobs, self.units, self.taught = tuple(knobs), units, taught
        self.placed: dict[tuple[str, int], list[int]] = {}  # which knobs are of a kind and a channel
        for k, knob in enumerate(knobs):
            self.placed.setdefault((knob.kind, knob.channel), []).append(k)
        self.unit = {place: float(units[each].mean()) for place, each in self.placed.items()}  # of a step of those, by itself
        self.points = np.array([knobs[k].at for k in mine])
        every = np.array([k.at for k in knobs if k.kind in ("point", "tone")])
        self.reach = reach_of(every, self.points)
        self.others = [k for k in moved if k not in mine] if pushes else []  # points of other lights
        self.at_others = np.array([knobs[k].at for k in self.others])
        self.reach_of_others = reach_of(every, self.at_others)
        self.light_of_others = np.array([knobs[k].channel for k in self.others], dtype=int)
        n = len(read.levels)
        self.one = n + 16  # columns of one light
        self.points_of = [
            k for k, knob in enumerate(knobs) if knob.kind == "tone" or (knob.kind == "point" and knob.channel in self.channels)
        ]
        kinds = sorted({knobs[k].kind for k in self.points_of}) or ["point"]
        first = len(channels) * self.one
        self.usual = np.arange(first, first + len(kinds))
        self.growth, self.own = self.usual + len(kinds), first + 2 * len(kinds)
        self.kind_of = np.array([kinds.index(knob.kind) if knob.kind in kinds else 0 for knob in knobs], dtype=int)
        # Which of those that were moved (m, points) move which light.
        self.moves = np.array([[knobs[k].kind == "tone" or knobs[k].channel == c for k in mine] for c in channels], dtype=float)
        self.size = self.own + len(self.mine)
        self.fixed = self._all_fixed()
        self.apart, self.apart_off = np.zeros(len(knobs)), UNEQUAL * units
        self.beyond_middle = np.array([k.at for k in knobs]) - MIDDLE
        self.prior, self.prior_wanted = self._prior()
        self.prior_squares = self.prior.T @ self.prior
        columns = [self.first(i, "place") + end for i in range(len(self.channels)) for end in range(2)]
        self.places = np.argmax(self.prior[:, columns] != 0.0, axis=0)

    def for_other(self, read: Readings, low: float) -> "Block":
        """Return the block of other moves of the same knobs at the same levels, with offsets that are felt below ``low``."""
        other = copy.copy(self)
        other.read, other.low = read, low
        other.fixed = other._all_fixed()
        return other

    def base(self, i: int) -> slice:
        """Return the columns of the base of the block's i-th light."""
        return slice(i * self.one, i * self.one + len(self.read.levels))

    def first(self, i: int, what: str) -> int:
        """Return the first column of what is unknown of the block's i-th light."""
        return i * self.one + len(self.read.levels) + COLUMNS[what]

    def _all_fixed(self) -> Floats:
        """Return what the readings say (m·r, size) of all that does not depend on where points act, light by light."""
        return np.concatenate([self._fixed(i, c) for i, c in enumerate(self.channels)])

    def _fixed(self, i: int, channel: int) -> Floats:
        read = self.read
        rows = np.zeros((len(read.at), self.size))
        rows[np.arange(len(read.at)), self.base(i).start + read.which] = 1.0
        rows[:, self.first(i, "warm")] = read.at * (
            np.exp(-read.when.max(initial=0.0) / WARMS_IN) - np.exp(-read.when / WARMS_IN)
        )
        shift = self.first(i, "shift")
        rows[:, shift : shift + 2] = read.before[:, None] * read.ends
        for (kind, of), mine in self.placed.items():
            if kind in ("gain", "offset"):
                share = read.at if kind == "gain" else in_the_dark(read.at, self.low)
                moved = read.moved[:, mine].sum(axis=1)
                rows[:, self.first(i, kind) + of] += share * moved
                if of == channel:
                    end = 0 if kind == "gain" else 1
                    rows[:, self.first(i, "tilt") + end] += (1.0 - read.at if end == 0 else read.at) * moved
        return rows

    def _prior(self) -> tuple[Floats, Floats]:
        """Return what is taken of what is unknown before anything was read, as equations (priors, size) and their values."""
        said: list[tuple[int, float, float]] = []  # a column, what it is taken to be, and how far that may be off
        for i, c in enumerate(self.channels):
            said.append((self.first(i, "warm"), 0.0, WARMING))
            for kind in ("gain", "offset"):
                said.extend((self.first(i, kind) + k, *self._of_two(kind, k, c)) for k in range(3))
            for k in range(2):
                said.append((self.first(i, "shift") + k, 0.0, SHIFTED))
                said.append((self.first(i, "place") + k, 0.0, float(ASTRAY[k])))
                mean, off = self._of_two(("gain", "offset")[k], c, c)
                said.append((self.first(i, "tilt") + k, 0.0, TILT * max(abs(mean), off)))
            said.extend((self.first(i, "push") + j, 0.0, self._pushed(j)) for j in range(3))
        self.apart, self.apart_off = np.zeros(len(self.knobs)), UNEQUAL * self.units
        for of, (at_usual, at_growth) in enumerate(zip(self.usual.tolist(), self.growth.tolist(), strict=True)):
            usual, off, growth = self._of_points([k for k in self.points_of if self.kind_of[k] == of])
            said.extend([(at_usual, usual, off), (at_growth, 0.0, growth)])
        said.extend((self.own + j, float(self.apart[k]), float(self.apart_off[k])) for j, k in enumerate(self.mine))
        columns = np.array([column for column, _, _ in said])
        values, spreads = np.array([each[1:] for each in said]).T
        sure = 1.0 / np.maximum(spreads, LEAST_SPREAD)
        rows = np.zeros((len(said), self.size))
        rows[np.arange(len(said)), columns] = sure
        smooth = [self._smooth(i) for i in range(len(self.channels))]
        return np.vstack([rows, *smooth]), np.concatenate([values * sure, np.zeros(sum(len(each) for each in smooth))])

    def _of_two(self, kind: str, channel: int, light: int) -> tuple[float, float]:
        """Return what a step of a gain or an offset is taken to do to a light before anything was read, and how far that is off."""
        mine = self.placed.get((kind, channel), [])
        told = self.taught.of_knob(self.knobs[mine[0]]) if mine and self.taught is not None else None
        if told is not None:
            return float(told[0][light]), float(told[1][light])
        unit = self.unit.get((kind, channel), 0.0)
        return (unit, OWN * unit) if channel == light else (0.0, CROSS * unit)

    def _pushed(self, channel: int) -> float:
        """Return how much a step of another light's points may push a light."""
        mine = self.units[[k for k in self.others if self.knobs[k].channel == channel]]
        return PUSHED * float(mine.mean()) if mine.size else 0.0

    def _of_points(self, mine: Sequence[int]) -> tuple[float, float, float]:
        """Return the usual step of some points, how far it may be off, and how much it may grow; and keep each one's own.

        ``apart`` (k,): by how much a point is taken to differ from that; ``apart_off`` (k,): how far that may be off.
        """
        unit = float(self.units[mine].mean()) if mine else 0.0
        told = {k: each for k in mine if self.taught is not None and (each := self.taught.of_point(self.knobs[k])) is not None}
        if not told:
            return unit, OWN * unit, GROWTH * unit
        usual = float(np.mean([effect for effect, _ in told.values()]))
        for k in mine:
            effect, off = told.get(k, (usual, BETWEEN_POINTS_UNTOLD * abs(usual)))
            self.apart[k], self.apart_off[k] = effect - usual, off
        return usual, BETWEEN * abs(usual), BETWEEN * abs(usual)

    def _smooth(self, i: int) -> Floats:
        """Return equations (n - 2, size) of a base that lies on the line between its neighbours, so that levels read once lean on
        the others.

        Curves are smooth, less so in the dark.
        """
        levels, start = self.read.levels, self.base(i).start
        made = np.zeros((max(len(levels) - 2, 0), self.size))
        if not len(made):
            return made
        at, span = np.arange(len(made)), levels[2:] - levels[:-2]
        share = (levels[1:-1] - levels[:-2]) / span
        rough = self.read.fine * (ROUGH * (0.5 * span) ** 2 + LEAST_ROUGH) * (1.0 + (0.1 / np.maximum(levels[1:-1], 0.02)) ** 2)
        for place, value in ((1, np.ones(len(made))), (0, share - 1.0), (2, -share)):
            made[at, start + at + place] = value / np.maximum(rough, LEAST_SPREAD)
        return made

    def rows(self, met: Floats | None, shape: tuple[float, str], steps: Floats | None) -> Floats:
        """Return what the readings say (m·r, size), light by light, where they meet the points at signals (r, m).

        ``shape``: width and shape of the points' pull; ``steps`` (points,): what a step of each is taken to do, for what a small
        error of these signals brings; None where that is not asked. ``met`` None: at their levels.
        """
        read, lights = self.read, len(self.channels)
        met = np.repeat(read.at[:, None], lights, axis=1) if met is None else met
        moved = read.moved[:, None, self.mine]
        near = met if steps is None else np.stack([met, met + NEAR, met - NEAR])
        pulled = self._felt(near, shape)
        felt = (pulled if steps is None else pulled[0]) * moved * self.moves  # (r, m, points)
        rows = self.fixed.copy()
        steep = None
        if steps is not None:
            slope = (pulled[1] - pulled[2]) / (2 * NEAR)
            steep = (slope * moved * self.moves * steps).sum(axis=-1)  # (r, m)
        for i in range(lights):
            mine = slice(i * len(read.at), (i + 1) * len(read.at))
            for kind, (usual, growth) in enumerate(zip(self.usual, self.growth, strict=True)):
                alike = self.kind_of[self.mine] == kind
                rows[mine, usual] = felt[:, i, alike].sum(axis=-1)
                rows[mine, growth] = felt[:, i, alike] @ (self.points[alike] - MIDDLE)
            rows[mine, self.own :] = felt[:, i]
            if steep is not None:
                place = self.first(i, "place")
                rows[mine, place : place + 2] = steep[:, i, None] * read.ends
        if self.others:
            pushed = self._felt_of_others(met, shape) * read.moved[:, None, self.others]
            for i in range(lights):
                mine = slice(i * len(read.at), (i + 1) * len(read.at))
                for j in set(self.light_of_others.tolist()):
                    rows[mine, self.first(i, "push") + j] = pushed[:, i, self.light_of_others == j].sum(axis=-1)
        return rows

    def _felt(self, met: Floats, shape: tuple[float, str]) -> Floats:
        width, kind = shape
        return pull(np.abs(met[..., None] - self.points) / np.maximum(width * self.reach, 1e-3), kind)

    def _felt_of_others(self, met: Floats, shape: tuple[float, str]) -> Floats:
        width, kind = shape
        return pull(np.abs(met[..., None] - self.at_others) / np.maximum(width * self.reach_of_others, 1e-3), kind)

    def weighed(self, rows: Floats, weight: Floats) -> tuple[Floats, Floats]:
        """Return the equations (m·r, size) of the readings, weighed by ``weight`` (r, 3), and their values."""
        weigh = np.concatenate([weight[:, c] for c in self.channels])
        values = np.concatenate([self.read.drives[:, c] for c in self.channels])
        return rows * weigh[:, None], values * weigh

    def wanted(self, astray: Floats) -> Floats:
        """Return the values (priors,) of what is taken before anything was read, about rows that are ``astray`` (2, m)."""
        wanted = self.prior_wanted.copy()
        # A place is doubted by how far it is from its level in all, not from where the fit is about.
        wanted[self.places] = -(astray / ASTRAY[:, None]).T.reshape(-1)
        return wanted
