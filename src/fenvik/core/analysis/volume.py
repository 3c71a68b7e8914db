"""Colour volume: how much of an HDR target's colours a display reaches, by a model made of its primaries, white and black."""

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.colour import curves
from fenvik.core.colour.itp import ITP, delta_itp, ictcp, xyz_of
from fenvik.core.colour.target import Target
from fenvik.core.errors import ShapeError
from fenvik.core.types import Bools, Floats

REACHED = 3.0  # ΔE ITP within which a colour counts as reached
STEP = 14.0  # ΔE ITP between neighbours of the grid
BEYOND = 0.02  # of full drive
NEARER = 8  # rounds of going nearer


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


    def out_of_reach(self, xyz: ArrayLike) -> Bools:
        """Return which XYZ (n, 3) lie beyond what full drives give, by more than a reading is off."""
        d = self.drives(xyz)
        result: Bools = (d.min(axis=1) < -BEYOND) | (d.max(axis=1) > 1.0 + BEYOND)
        return result

    def nearest(self, wanted: Floats) -> Floats:
        """Return the XYZ (n, 3) within reach that is nearest to those wanted, by ΔE ITP: Gauss-Newton held within the drives."""
        d = np.clip(self.drives(wanted), 0.0, 1.0)
        aim = itp_of(wanted)
        for _ in range(NEARER):
            step = 1e-4 * np.where(d > 0.5, -1.0, 1.0)
            here = itp_of(self.xyz(d))
            slope = np.stack(
                [
                    (itp_of(self.xyz(d + np.where(np.arange(3) == i, step, 0.0))) - here) / step[:, i : i + 1]
                    for i in range(3)
                ],
                axis=-1,
            )  # (n, 3, 3)
            # A light that rests at its end and wants to go on is left there.
            pull = np.einsum("nij,ni->nj", slope, aim - here)
            held = ((d <= 0.0) & (pull < 0.0)) | ((d >= 1.0) & (pull > 0.0))
            slope = np.where(held[:, None, :], 0.0, slope)
            normal = np.einsum("nij,nik->njk", slope, slope)
            normal += (1e-9 + 1e-6 * np.trace(normal, axis1=1, axis2=2))[:, None, None] * np.eye(3)
            move = np.linalg.solve(normal, np.einsum("nij,ni->nj", slope, aim - here)[..., None])[..., 0]
            for share in (1.0, 0.2):  # only what brings it nearer is taken
                tried = np.clip(d + share * move, 0.0, 1.0)
                better = ((itp_of(self.xyz(tried)) - aim) ** 2).sum(axis=1) < ((itp_of(self.xyz(d)) - aim) ** 2).sum(axis=1)
                d = np.where(better[:, None], tried, d)
        return self.xyz(d)


def itp_of(xyz: Floats) -> Floats:
    """Return coordinates (..., 3) in which distance is ΔE ITP. Source: BT.2124."""
    return ictcp(xyz) * ITP


def lattice(target: Target, peak: float) -> Floats:
    """Return the XYZ (n, 3) of a target's colours up to ``peak`` cd/m² on a grid that is uniform in ICtCp."""
    top = float(curves.pq_inverse(peak))
    edge = np.linspace(0.0, 1.0, 9) * top
    shell = curves.pq(np.stack(np.meshgrid(edge, edge, edge, indexing="ij"), axis=-1).reshape(-1, 3)) @ target.matrix.T
    ends = itp_of(shell)
    axes = [np.arange(low, high + STEP, STEP) for low, high in zip(ends.min(axis=0), ends.max(axis=0), strict=True)]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    xyz = xyz_of(grid / ITP)
    linear = xyz @ target.inverse_matrix.T
    inside = (linear >= -1e-6 * peak).all(axis=1) & (linear <= peak * (1.0 + 1e-6)).all(axis=1)
    return np.asarray(xyz[inside])


def share(three: ArrayLike, white: ArrayLike, black: ArrayLike, target: Target, peak: float) -> float:
    """Return the share, 0 to 1, of the target's colours up to ``peak`` cd/m² that a display comes within 3 ΔE ITP of.

    The colours are counted on a grid uniform in ICtCp, each against the nearest colour that the display's drives give.
    """
    made, wanted = Model(three, white, black), lattice(target, peak)
    reached = delta_itp(wanted, made.xyz(np.clip(made.drives(wanted), 0.0, 1.0))) <= REACHED
    left = ~reached
    reached[left] = delta_itp(wanted[left], made.nearest(wanted[left])) <= REACHED
    return float(reached.mean())
