"""Colours put in place by a cube or a matrix that is installed, from what is read of them through it."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.models.installed import Curves, Split, Wheel, cube_data, matrix_towards
from fenvik.core.procedures.givenlights import GivenLights
from fenvik.core.procedures.steps import Procedure
from fenvik.core.types import Floats

AGAIN = 13  # greys that curves are made better from when a cube stands behind them
COLOUR_ROUNDS = 3
USUAL_CUBE, FINE_CUBE = 33, 65
NEARLY = 0.998  # of the peak: where a target counts as having reached it
OVER = 0.015  # of signal, above the peak: from there on nothing is told apart


@dataclass
class Cube(GivenLights):
    """The colours of what is installed."""

    wheel: Wheel = field(default_factory=Wheel.none)
    split: Split | None = None
    turned: Floats | None = None  # lights (n, 3) of colours that the cube was made for
    behind: Curves | None = None  # the curves that were in that cube then, where it has them in it
    holds_curves: bool = False  # whether the cube stands alone, and does what curves before it would

    @property
    def sizes(self) -> list[int]:
        """The sizes of cube that the display takes."""
        return (self.takes.get("cube") or {}).get("sizes") or []

    @property
    def is_bent(self) -> bool:
        """Whether its greys go through curves that are installed."""
        return "curves" in self.installed or (self.holds_curves and "cube" in self.installed)

    @property
    def _cube_size(self) -> int:
        # Where it has the curves in it, the corner at which they end in HDR is cut by as much as its points are apart.
        most = FINE_CUBE if self.holds_curves and self.target.is_hdr else USUAL_CUBE
        return max((s for s in self.sizes if s <= most), default=min(self.sizes))

    def colours(self) -> Procedure[None]:
        """Put colours in place by a cube, or by a matrix where there is none."""
        sizes = self.sizes
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
        # Curves for a reference white of its own make less of each light than it gave alone.
        share = self.target.share if self.is_bent else 1.0
        # What was sent through the wheel is what comes of it; what is needed is learned from what is still off.
        now, best, kept = sent.copy(), self._error(read), None
        needed, looked = now.copy(), np.arange(len(patches))
        for left in reversed(range(COLOUR_ROUNDS)):
            off = np.array([t.xyz for t in read]) - self._wanted_of(read)
            for i, o in zip(looked, off, strict=True):
                needed[i] = np.maximum(now[i] - np.linalg.solve(share * gives(now[i]), o), 0.0)
            before = self.wheel
            yield from self._turn(sent, needed)
            now = self.wheel.turned(sent) if sizes else sent @ np.array(self.installed["matrix"]["rows"]).T
            if left < COLOUR_ROUNDS - 1:  # pale colours have come right by then, and what moves the full ones hardly moves them
                looked, best = full, self._error([read[i] for i in full] if len(read) > len(full) else read)
            # A second look at colours pays more than a second one at greys, a third one less. The proof reads them too.
            greys = AGAIN if left == COLOUR_ROUNDS - 1 else 2 * AGAIN
            if not left or self.desk.budget - self.desk.spent < len(looked) + greys:
                break
            again = [patches[i] for i in looked]
            aims = self.target.xyz(np.array(again) / 100.0, self.white, self.black)[:, 1]
            read = yield from self.desk.reads(again, dict(zip(again, aims.tolist(), strict=True)))
            error = self._error(read)
            if error >= best:
                self.wheel = before
                yield from self._put(kept, "cube" if sizes else "matrix")
                break
            best, kept = error, self.installed["cube" if sizes else "matrix"]

    def _put(self, kept: dict[str, Any] | None, what: str) -> Procedure[None]:
        if kept is not None:
            yield from self.desk.install(what, kept)
        elif self.split is not None:
            yield from self._cube()  # it has to do with greys too
        else:
            yield from self.desk.uninstall(what)

    def _turn(self, sent: Floats, needed: Floats) -> Procedure[None]:
        if not self.sizes:
            rows = matrix_towards(sent, needed)
            yield from self.desk.install("matrix", {"rows": np.round(rows, 6).tolist()})
            return
        self.wheel = self.wheel.towards(sent, needed)
        self.turned, self.behind = sent, self.curves if self.holds_curves else None
        if self.split is None:
            # Above the peak, not above the last grey: else the peak itself would be cut off.
            reached = float(self.target.fraction(NEARLY * self.white, self.white, self.black))
            ends = reached + OVER if self.palette.is_shortened else 1.0
            self.split = Split.of(self.curves, min(ends, 1.0))
            if "curves" in self.installed:
                self.curves = self.split.curves()
                yield from self.desk.install("curves", self.curves.data())
        yield from self._cube()

    def _cube(self) -> Procedure[None]:
        assert self.split is not None
        values = self.split.cube(self._cube_size, self.wheel, self._light, self._signal)
        yield from self.desk.install("cube", cube_data(self._cube_size, values))

    def hold_colours(self) -> Procedure[None]:
        """Let colours be as they were before the curves of their cube, or before it, were made better: no reading is needed."""
        if "cube" not in self.installed or self.split is None or self.turned is None:
            return
        if self.behind is not None:
            left = self.behind.bent(self._signal(self.wheel.turned(self.turned)))
            self.wheel = self.wheel.towards(self.turned, self._light(self.curves.unbent(left)))
        else:
            reaching = self._light(self.split.before(self.curves.bent(self._signal(self.turned))))
            self.wheel = self.wheel.towards(reaching, self.wheel.turned(self.turned))
        yield from self._cube()
