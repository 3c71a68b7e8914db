"""Two files of the same patches, one of the reference and one of the field meter: matched by what was shown."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.measure.correction import Correction, CorrectionError, Method, make_correction, residuals
from fenvik.core.types import Floats

Shown = tuple[int, int, int, int, bool]  # code values, bits, whether the range is limited
FULL = {"red": (1.0, 0.0, 0.0), "green": (0.0, 1.0, 0.0), "blue": (0.0, 0.0, 1.0), "white": (1.0, 1.0, 1.0)}


@dataclass(frozen=True)
class Side:
    """One meter's readings: what was shown, XYZ (n, 3) in cd/m², labels, signal fractions (n, 3)."""

    shown: Sequence[Shown]
    xyz: Floats
    labels: Sequence[str | None]
    signal: Floats


@dataclass(frozen=True)
class Matched:
    """Patches that both have, repeats averaged, in the reference's order."""

    labels: list[str | None]
    signal: Floats
    reference: Floats
    meter: Floats

    def full(self, name: str) -> int:
        """Return the index of a full colour or of white. Raises CorrectionError."""
        at = np.flatnonzero((self.signal == np.array(FULL[name])).all(axis=1))
        if at.size == 0:
            raise CorrectionError(f"there is no 100 % {name} among the patches")
        return int(at[0])


def match(reference: Side, meter: Side) -> Matched:
    """Return the patches that both sides have. Raises CorrectionError where one of them has a patch alone."""

    def mean(side: Side) -> dict[Shown, Floats]:
        found: dict[Shown, list[int]] = {}
        for i, shown in enumerate(side.shown):
            found.setdefault(shown, []).append(i)
        return {shown: side.xyz[rows].mean(axis=0) for shown, rows in found.items()}

    ours, theirs = mean(reference), mean(meter)
    for one, other, who in ((ours, theirs, "reference"), (theirs, ours, "meter")):
        alone = next((shown for shown in one if shown not in other), None)
        if alone is not None:
            codes = ", ".join(str(c) for c in alone[:3])
            raise CorrectionError(
                f"the patch {codes} of {alone[3]} bits, {'limited' if alone[4] else 'full'} range, is in the {who} file alone"
            )
    first = {shown: i for i, shown in reversed(list(enumerate(reference.shown)))}
    order = sorted(ours, key=lambda shown: first[shown])
    return Matched(
        [reference.labels[first[shown]] for shown in order],
        np.array([reference.signal[first[shown]] for shown in order]),
        np.array([ours[shown] for shown in order]),
        np.array([theirs[shown] for shown in order]),
    )


def correct(matched: Matched, method: Method) -> Correction:
    """Return the correction of matched patches by a method; its residuals are those of every patch. Raises CorrectionError."""
    if method == "least-squares":
        rows = list(range(len(matched.labels)))
    else:
        names = ("red", "green", "blue") if method == "primaries" else ("red", "green", "blue", "white")
        rows = [matched.full(name) for name in names]
    made = make_correction(method, matched.meter[rows], matched.reference[rows])
    dxy, dy = residuals(made.matrix, matched.meter, matched.reference)
    return Correction(made.method, made.matrix, dxy, dy, made.condition, made.crossed, made.warnings)
