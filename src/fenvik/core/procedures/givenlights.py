"""What is known of the three lights of a display that something is installed in: what each gives, and what greys ask of it."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.colour import curves as transfer
from fenvik.core.colour.target import Target
from fenvik.core.models.grey import drives_of
from fenvik.core.models.installed import Curves
from fenvik.core.models.palette import Palette
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import Procedure
from fenvik.core.procedures.taken import Taken
from fenvik.core.types import Floats

# Three lights and their white are read again where no display can be so: white in shares of their sum, and how far they are apart.
TRIES, LEAST_WHITE, MOST_WHITE, LEAST_APART = 3, 0.85, 2.5, 0.02
LEAST_BOOST = 0.05  # of the sum of the three lights


@dataclass
class GivenLights:
    """``takes`` is what the display says that it can be given, ``found`` the cd/m² of white as it was found."""

    desk: Desk
    target: Target
    palette: Palette
    white: float
    black: float
    takes: dict[str, Any]
    found: float = 0.0
    curves: Curves = field(default_factory=lambda: Curves.none(1024))
    pure: list[Taken] = field(default_factory=list)  # each light alone, and all three

    @property
    def installed(self) -> dict[str, dict[str, Any]]:
        """What is installed now."""
        return self.desk.given

    def _see_lights(self) -> Procedure[None]:
        """Read what each light gives alone, and all three: a white sub-pixel adds to them, with the least of the three."""
        for _ in range(TRIES):
            self.pure = yield from self.desk.reads(self._pure())
            each = np.array([t.xyz for t in self.pure])
            white, total = float(each[3, 1]), float(each[:3, 1].sum())
            shape = each[:3] / np.maximum(each[:3].sum(axis=1, keepdims=True), 1e-9)
            if LEAST_WHITE * total < white < MOST_WHITE * total and abs(np.linalg.det(shape)) > LEAST_APART:
                return

    def _pure(self) -> list[tuple[float, float, float]]:
        level = max(max(percent) for hue in self.palette.hues.values() for _, percent in hue[:1])
        return [(level * r, level * g, level * b) for r, g, b in (*np.eye(3).tolist(), (1.0, 1.0, 1.0))]

    def _as_light(self, read: list[Taken]) -> Floats:
        """Return the lights (n, 3) in cd/m² of white that readings' signals ask for."""
        return self._light(np.array([t.fraction for t in read]))

    def _light(self, fraction: Floats) -> Floats:
        target = self.target.plain
        most = transfer.PQ_PEAK_CD_M2 if target.curve == "pq" else self.white
        return np.asarray(target.light(fraction, most, 0.0 if target.curve == "pq" else self.black))

    def _signal(self, light: Floats) -> Floats:
        target = self.target.plain
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
