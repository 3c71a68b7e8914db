"""What colours should give once the greys have been adjusted, from how they were found: three lights, each by its own curve.

Each light follows what the greys say of it, and the colours say where each light lies. So the first look at colours, after the
greys, need not be read: it is known to 0.2 to 0.4 of a difference, and the move that follows from it is looked at anyway.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fenvik.core.types import Floats

Course = Callable[[Floats], Floats]  # XYZ (n, 3) in cd/m² of greys at fractions of signal (n,)
SAME = 0.002  # of signal
MOST_ADDED, MOST_ASTRAY = 0.05, 0.05  # of their sum: what white may have beside three lights; of a colour, what they do not explain
TURNS = 8  # by which the light of a white sub-pixel and those of the three settle
LIT = ((0,), (1,), (2,), (1, 2), (0, 2), (0, 1))  # which lights each hue has: secondaries by the one that they are without
LEAST_STRENGTH = 0.05  # of the luminance that a light should have: less is a reading that slipped, or was too dark


@dataclass(frozen=True)
class Lights:
    """``primaries`` (3, 3): XYZ of each light as columns, where it is driven by 1; ``extra`` (3,): what is added to their sum, as
    much as the weakest of them gives; ``strength`` (3,): how much each gives at 1 of what it has in white.
    """

    primaries: Floats
    extra: Floats
    strength: Floats
    black: Floats

    def driven(self, fraction: Floats, course: Course) -> Floats:
        """Return how far each light is driven (n, 3) in patches (n, 3) of signal, as the greys of these signals tell."""
        inverse = np.linalg.inv(self.primaries).T
        made = np.zeros_like(fraction)
        for c in range(3):
            greys = course(fraction[:, c]) - self.black
            lit: Floats = greys @ inverse
            for _ in range(TURNS):
                lit = (greys - self._added(lit)) @ inverse
            made[:, c] = np.where(fraction[:, c] > 0.0, lit[:, c], 0.0)
        return made

    def shown(self, fraction: Floats, course: Course) -> Floats:
        """Return XYZ (n, 3) of patches (n, 3) on a display whose greys follow a course."""
        driven = self.driven(fraction, course)
        result: Floats = self.black + driven @ self.primaries.T + self._added(driven)
        return result

    def _added(self, driven: Floats) -> Floats:
        return np.outer((driven * self.strength).min(axis=1), self.extra)


def lights_of(fraction: Floats, xyz: Floats, black: Floats, course: Course, shares: Floats) -> Lights:
    """Return the lights that colours XYZ (n, 3) of patches (n, 3) are made of, on a display whose greys follow a course.

    ``shares`` (3,): of white's luminance that each light should have. Raises numpy's LinAlgError where the colours do not tell
    three lights.
    """
    white = course(np.array([float(fraction.max())]))[0] - black
    weight = 1.0 / np.maximum(xyz[:, 1:2], 1e-6)
    driven = np.stack([(course(fraction[:, c])[:, 1] - black[1]) / white[1] for c in range(3)], axis=-1)
    driven, beside = np.where(fraction > 0.0, driven, 0.0), xyz - black
    for _ in range(TURNS):
        primaries: Floats = np.linalg.lstsq(driven * weight, beside * weight, rcond=None)[0].T.astype(np.float64)
        strength = primaries[1] / shares / primaries[1].sum()
        if strength.min() < LEAST_STRENGTH:
            raise np.linalg.LinAlgError("A light without luminance is none: what was read slipped, or was too dark.")
        made = Lights(primaries, (white - primaries.sum(axis=1)) / strength.min(), strength, black)
        driven = made.driven(fraction, course)
        beside = xyz - black - np.outer((driven * strength).min(axis=1), made.extra)
    return made


@dataclass(frozen=True)
class Foresight:
    """What colours should give now, by the three lights that ``read`` tells of: patches (m, 3) and XYZ (m, 3) of colours *then*."""

    read: tuple[Floats, Floats]
    lights: Lights
    then: Course
    now: Course

    @classmethod
    def of(cls, fraction: Floats, xyz: Floats, black: Floats, courses: tuple[Course, Course], shares: Floats) -> "Foresight":
        """Return what colours XYZ (m, 3) of patches (m, 3) tell; ``courses`` of greys then and now, others as of ``lights_of``."""
        return cls((fraction, xyz), lights_of(fraction, xyz, black, courses[0], shares), *courses)

    @property
    def is_sure(self) -> bool:
        """Whether the colours, and white beside them, are the sum of three lights; else it may hold or not."""
        made, lights = self.lights.shown(self.read[0], self.then)[:, 1], self.lights
        added = float(lights.strength.min() * lights.extra[1] / lights.primaries[1].sum())
        return abs(added) < MOST_ADDED and float(np.abs(made / np.maximum(self.read[1][:, 1], 1e-6) - 1.0).max()) < MOST_ASTRAY

    def xyz(self, fraction: Floats) -> Floats:
        """Return XYZ (n, 3) of patches (n, 3). What the three lights do not explain of a colour is in all that has some of it, and
        a patch that was read keeps what is left then.
        """
        unexplained = self.read[1] - self.lights.shown(self.read[0], self.then)
        driven = [self.lights.driven(*seen) for seen in ((self.read[0], self.then), (fraction, self.now))]
        of_each = np.array([_of_its_hue(self.read[0], driven[0], unexplained, lit) for lit in LIT])
        made = self.lights.shown(fraction, self.now) + _parts(driven[1]) @ of_each
        left = unexplained - _parts(driven[0]) @ of_each
        for i, patch in enumerate(fraction):
            same = np.flatnonzero(np.abs(self.read[0] - patch).max(axis=1) < SAME)
            if len(same):
                made[i] += left[same[-1]]
        result: Floats = np.maximum(made, 0.0)
        return result


def _parts(driven: Floats) -> Floats:
    """Return how much of each hue (n, 6), in the order of LIT, is in lights (n, 3), beside the grey that all three share."""
    made = np.zeros((len(driven), len(LIT)))
    order = np.sort(driven, axis=1)
    rows = np.arange(len(driven))
    made[rows, np.argmax(driven, axis=1)] = order[:, 2] - order[:, 1]
    made[rows, 3 + np.argmin(driven, axis=1)] = order[:, 1] - order[:, 0]
    return made


def _of_its_hue(fraction: Floats, driven: Floats, unexplained: Floats, lit: tuple[int, ...]) -> Floats:
    """Return XYZ (3,) that is not explained of a full hue that was read, at a drive of 1; nothing where it was not."""
    for i in reversed(range(len(fraction))):
        on = tuple(np.flatnonzero(fraction[i] > 0.0))
        if on == lit and np.ptp(fraction[i][[*lit]]) < SAME:
            made: Floats = unexplained[i] / max(float(driven[i][[*lit]].min()), LEAST_STRENGTH)
            return made
    return np.zeros(3)
