"""Colour volume: how much of an HDR target's colours a display reaches, by a model made of its primaries, white and black."""

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core import curves
from fenvik.core.errors import ShapeError
from fenvik.core.itp import delta_itp
from fenvik.core.target import Target
from fenvik.core.types import Floats

REACHED = 3.0  # ΔE ITP within which a colour counts as reached
STEPS = 13  # of each light of the target, even in PQ, so that dark colours count as the eye counts them


class Model:
    """Light of a display for linear drives: black, three primaries, and what white is more than their sum.

    ``three``: red, green, blue (3, 3), each with black in it; ``white``, ``black`` (3,), all XYZ in cd/m². The surplus comes with
    the part that all three drives have in common, as a white sub-pixel does.
    """

    def __init__(self, three: ArrayLike, white: ArrayLike, black: ArrayLike) -> None:
        rgb, w, self.black = (np.asarray(a, dtype=np.float64) for a in (three, white, black))
        if rgb.shape != (3, 3) or w.shape != (3,) or self.black.shape != (3,):
            raise ShapeError(rgb.shape, "(3, 3), with white and black (3,)")
        self.pure = rgb - self.black
        self.surplus = (w - self.black) - self.pure.sum(axis=0)

    def xyz(self, drives: ArrayLike) -> Floats:
        """Return XYZ (..., 3) of drives (..., 3)."""
        d = np.asarray(drives, dtype=np.float64)
        result: Floats = d @ self.pure + d.min(axis=-1, keepdims=True) * self.surplus + self.black
        return result

    def drives(self, xyz: ArrayLike) -> Floats:
        """Return the drives (n, 3), also beyond 0 and 1, that would give XYZ (n, 3): whichever light is least takes the surplus."""
        seen = np.asarray(xyz, dtype=np.float64) - self.black
        found, off = np.zeros_like(seen), np.full(len(seen), np.inf)
        for least in range(3):
            matrix = self.pure.copy()
            matrix[least] += self.surplus
            d = seen @ np.linalg.inv(matrix)
            wrong = d[:, least] - d.min(axis=1)  # 0 where this light is the least indeed
            better = wrong < off
            found[better], off[better] = d[better], wrong[better]
        return found


def share(three: ArrayLike, white: ArrayLike, black: ArrayLike, target: Target, peak: float) -> float:
    """Return the share, 0 to 1, of the target's colours up to ``peak`` cd/m² that a display comes within 3 ΔE ITP of.

    A colour beyond its drives is held against the one whose drives are cut off at 0 and 1.
    """
    made = Model(three, white, black)
    top = float(curves.pq_inverse(peak))
    levels = np.asarray(curves.pq(np.linspace(0.0, 1.0, STEPS) * top))
    grid = np.stack(np.meshgrid(levels, levels, levels, indexing="ij"), axis=-1).reshape(-1, 3)
    wanted = grid @ target.matrix.T
    reached = made.xyz(np.clip(made.drives(wanted), 0.0, 1.0))
    return float((delta_itp(wanted, reached) <= REACHED).mean())
