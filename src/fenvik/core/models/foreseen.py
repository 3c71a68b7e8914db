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
        """Return XYZ (n, 3) of patches (n, 3). One that was read keeps what the three lights did not explain of it."""
        made = self.lights.shown(fraction, self.now)
        unexplained = self.read[1] - self.lights.shown(self.read[0], self.then)
        for i, patch in enumerate(fraction):
            same = np.flatnonzero(np.abs(self.read[0] - patch).max(axis=1) < SAME)
            if len(same):
                made[i] += unexplained[same[-1]]
        return np.maximum(made, 0.0)
