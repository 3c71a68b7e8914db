"""Corrections: the matrix that makes a quick meter agree with a reference meter on one kind of display."""

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from fenvik.core.errors import FenvikError, ShapeError
from fenvik.core.measure.believed import lights_apart
from fenvik.core.types import Floats

Method = Literal["primaries", "four-colour", "weighted", "least-squares"]
LEAST = {"primaries": 3, "four-colour": 4, "weighted": 4, "least-squares": 3}
MOST_CONDITION = 1e4
STRAY_LIGHT = 0.003  # of white: a black reading above it is light that is not the display's
WHITE_ROUNDS = 40  # of doubling white's weight in the weighted fit


class CorrectionError(FenvikError, ValueError):
    """Readings of which no correction can be made."""

    code = "correction"


@dataclass(frozen=True)
class Correction:
    """``matrix`` (3, 3) with corrected = matrix · XYZ; residuals are corrected − reference.

    ``dxy`` (n, 2) and ``dy_percent`` (n,) are those of the patches it was made of; ``crossed`` the same, each patch
    corrected by what the others alone give, None where there are no more than four.
    """

    method: Method
    matrix: Floats
    dxy: Floats
    dy_percent: Floats
    condition: float
    crossed: tuple[Floats, Floats] | None = None
    warnings: tuple[str, ...] = field(default=())

    def apply(self, xyz: ArrayLike) -> Floats:
        """Return corrected XYZ of readings (..., 3)."""
        result: Floats = np.asarray(xyz, dtype=np.float64) @ self.matrix.T
        return result


def residuals(matrix: Floats, meter: Floats, reference: Floats) -> tuple[Floats, Floats]:
    """Return corrected − reference as Δx, Δy (n, 2) and ΔY in percent of the reference (n,); NaN without light."""
    corrected = meter @ matrix.T
    with np.errstate(divide="ignore", invalid="ignore"):
        dxy = corrected[:, :2] / corrected.sum(axis=1, keepdims=True) - reference[:, :2] / reference.sum(
            axis=1, keepdims=True
        )
        dy = 100.0 * (corrected[:, 1] / reference[:, 1] - 1.0)
    return dxy, dy


def _checked(meter: ArrayLike, reference: ArrayLike) -> tuple[Floats, Floats]:
    m, r = np.asarray(meter, dtype=np.float64), np.asarray(reference, dtype=np.float64)
    if m.ndim != 2 or m.shape[-1:] != (3,) or m.shape != r.shape:
        raise ShapeError(m.shape, "(n, 3), as that of the reference")
    return m, r


def _chromaticities(xyz: Floats, who: str) -> Floats:
    total = xyz.sum(axis=-1, keepdims=True)
    if (total <= 0).any():
        raise CorrectionError(f"A patch that {who} reads without any light has no chromaticity.")
    result: Floats = xyz / total
    return result


def condition_of(xyz: Floats) -> float:
    """Return the condition number of readings (n, 3) as chromaticities x, y, z: how nearly they lie on one line."""
    values = np.linalg.svd(_chromaticities(xyz, "a meter"), compute_uv=False)
    return float(values[0] / values[-1]) if values[-1] > 0 else float("inf")


def _primaries(meter: Floats, reference: Floats) -> Floats:
    solved, *_ = np.linalg.lstsq(meter[:3], reference[:3], rcond=None)
    return np.asarray(solved.T)


def _four_colour(meter: Floats, reference: Floats) -> Floats:
    """Ohno and Hardis (1997): red, green, blue and white by their chromaticities, then one factor for white's Y."""

    def device(xyz: Floats) -> Floats:
        shares = _chromaticities(xyz, "a meter")
        columns = shares[:3].T
        return np.asarray(columns * np.linalg.solve(columns, shares[3]))

    matrix = device(reference) @ np.linalg.inv(device(meter))
    factor = reference[3, 1] / float(matrix[1] @ meter[3])
    return np.asarray(matrix * factor)


def _least_squares(meter: Floats, reference: Floats, weight: Floats) -> Floats:
    solved, _, rank, _ = np.linalg.lstsq(meter * weight[:, None], reference * weight[:, None], rcond=None)
    if rank < 3:
        raise CorrectionError("The patches span fewer than three dimensions, so no matrix can be made of them.")
    return np.asarray(solved.T)


def _weighted(meter: Floats, reference: Floats, white: int, repeatability: float) -> Floats:
    """Weigh each patch by one over X + Y + Z; then white more and more until it is hit within the meter's repeatability.

    One over the luminance would give the noise of blue, whose Z is many times its Y, most of the say: see docs/colour.md.
    """
    weight = 1.0 / reference.sum(axis=1)
    matrix = _least_squares(meter, reference, weight)
    for _ in range(WHITE_ROUNDS):
        off = np.abs(meter[white] @ matrix.T / reference[white] - 1.0).max()
        if off <= repeatability:
            break
        weight[white] *= 1.5
        matrix = _least_squares(meter, reference, weight)
    return matrix


def _solve(method: Method, meter: Floats, reference: Floats, white: int | None, repeatability: float) -> Floats:
    match method:
        case "primaries":
            return _primaries(meter, reference)
        case "four-colour":
            return _four_colour(meter, reference)
        case "least-squares":
            lit = reference.sum(axis=1) > 0
            return _least_squares(meter[lit], reference[lit], 1.0 / reference[lit].sum(axis=1))
    if white is None:
        raise CorrectionError("The weighted fit needs white among its patches.")
    return _weighted(meter, reference, white, repeatability)


def make_correction(
    method: Method,
    meter: ArrayLike,
    reference: ArrayLike,
    *,
    white: int | None = None,
    repeatability: float = 0.001,
    black: tuple[float, float] | None = None,
    repeats_apart: float | None = None,
) -> Correction:
    """Return the correction of a field meter by a reference, both reading the same patches, (n, 3) in cd/m².

    "primaries" takes red, green, blue; "four-colour" those and white, in this order; "weighted" and "least-squares" any
    patches with light, the weighted fit with the index of ``white``. ``repeatability``: relative, of the field meter at
    white; ``black``: luminances of black and white as the field meter read them; ``repeats_apart``: how far
    repeats of one patch disagree, relative. Raises CorrectionError for fewer patches than the method needs, collinear
    primaries, or a condition number above 10⁴.
    Source: docs/colour.md; Ohno and Hardis, Proc. AIC Color 97.
    """
    m, r = _checked(meter, reference)
    if len(m) < LEAST[method]:
        raise CorrectionError(f"This method needs {LEAST[method]} patches; there are {len(m)}.")
    if method != "least-squares" and ((m[:, 1] <= 0).any() or (r[:, 1] <= 0).any()):
        raise CorrectionError("Every patch of a correction must have light; leave black out.")
    core = slice(0, 3) if method in ("primaries", "four-colour") else slice(None)
    lit = (r.sum(axis=1) > 0) & (m.sum(axis=1) > 0)
    if lit.sum() < 3:
        raise CorrectionError("Fewer than three patches have light.")
    condition = max(condition_of(m[core][lit[core]]), condition_of(r[core][lit[core]]))
    if not condition <= MOST_CONDITION:
        raise CorrectionError(
            f"The patches lie nearly on one line of colours: their condition number is {condition:.2g}, above {MOST_CONDITION:.0g}."
        )
    matrix = _solve(method, m, r, white, repeatability)
    if not np.isfinite(matrix).all():
        raise CorrectionError("No finite matrix can be made of these readings.")
    dxy, dy = residuals(matrix, m, r)
    return Correction(
        method,
        matrix,
        dxy,
        dy,
        condition,
        _crossed(method, m, r, white, repeatability),
        (*_warnings(black, repeats_apart, repeatability), *lights_apart(m[lit], r[lit])),
    )


def _crossed(
    method: Method, meter: Floats, reference: Floats, white: int | None, repeatability: float
) -> tuple[Floats, Floats] | None:
    """Return each patch's residuals by the fit to the others; white is not left out of the weighted fit, which needs it."""
    if method not in ("weighted", "least-squares") or len(meter) <= 4:
        return None
    dxy, dy = np.full((len(meter), 2), np.nan), np.full(len(meter), np.nan)
    for i in range(len(meter)):
        if method == "weighted" and i == white:
            continue
        others = np.arange(len(meter)) != i
        moved = None if white is None else white - int(i < white)
        try:
            matrix = _solve(method, meter[others], reference[others], moved, repeatability)
        except CorrectionError:
            continue  # this patch alone spans its direction: nothing else can judge it
        left = slice(i, i + 1)
        dxy[left], dy[left] = residuals(matrix, meter[left], reference[left])
    return dxy, dy


def _warnings(black: tuple[float, float] | None, repeats_apart: float | None, repeatability: float) -> tuple[str, ...]:
    said = []
    if black is not None and black[1] > 0 and black[0] > STRAY_LIGHT * black[1]:
        said.append(
            f"Black reads {100 * black[0] / black[1]:.1f} % of white: stray light is in every reading of both meters."
        )
    if repeats_apart is not None and repeats_apart > 3.0 * repeatability:
        said.append(
            f"Repeats disagree by {100 * repeats_apart:.2f} %, more than three times the meter's repeatability: "
            "something moved or warmed up."
        )
    return tuple(said)


PROPOSED: Method = "four-colour"
"""The method for every display: `./fenvik bench corrections` tells by what. Where white has a sub-pixel of its own, greys are its
light, which the four-colour method holds exactly; a fit over mixtures spreads the filters' error over all of them instead."""


def additivity(
    xyz: ArrayLike, black: ArrayLike | None = None, *, limit: float = 0.02, covariance: ArrayLike | None = None
) -> tuple[float, bool]:
    """Return how far a display's white is from the sum of red, green and blue, and whether that is more than noise.

    ``xyz``: red, green, blue, white, (4, 3), with their ``covariance`` (4, 3, 3) where it is known. Beyond 2 % in X, Y or Z,
    and beyond what two standard deviations of the readings explain, white is not the sum of the three.
    """
    four = np.asarray(xyz, dtype=np.float64)
    if four.shape != (4, 3):
        raise ShapeError(four.shape, "(4, 3)")
    dark = np.zeros(3) if black is None else np.asarray(black, dtype=np.float64)
    # Additivity as docs/colour.md has it: black is in each of the three and in white once.
    ratio = (four[:3].sum(axis=0) - 3.0 * dark) / (four[3] - dark)
    apart = np.abs(ratio - 1.0)
    noise = np.zeros(3)
    if covariance is not None:
        variances = np.diagonal(np.asarray(covariance, dtype=np.float64), axis1=1, axis2=2)
        noise = np.sqrt(variances.sum(axis=0)) / np.maximum(four[3] - dark, 1e-9)
    return float(apart.max()), bool((apart - 2.0 * noise > limit).any())
