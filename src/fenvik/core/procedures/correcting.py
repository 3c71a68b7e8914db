"""Correcting a quick meter by a reference: both read the same patches, and what comes of it is a matrix or a reason."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.measure.correction import PROPOSED, CorrectionError, additivity, make_correction, residuals
from fenvik.core.measure.correction_patches import AGAIN, rows_for
from fenvik.core.procedures.comparing import compare
from fenvik.core.procedures.steps import Procedure, Say
from fenvik.core.signal.patches import Patch
from fenvik.core.types import Floats

# What the method that is proposed is made of, and white once more. Black is known: a reference takes half a minute to read it.
NAMED = ("white", "red", "green", "blue", AGAIN)
AVERAGE = 4  # of each reading that a correction is made of
MOST_APART, MOST_LESS = 0.02, 0.04  # of white: between its two readings, and below the sum of its parts


@dataclass
class Corrected:
    """What came of it: ``matrix`` (3, 3) that makes the meter's XYZ the reference's, None where none could be made.

    ``sides``: by label what was shown and XYZ (2, 3) of the reference and of the meter, uncorrected, in cd/m².
    """

    method: str = PROPOSED
    average: int = AVERAGE  # of the reading that was averaged least
    matrix: Floats | None = None
    sides: dict[str, tuple[Patch, Floats]] = field(default_factory=dict)
    residuals: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)  # of them what is to be said wherever it is used


def _doubt(sides: Mapping[str, Floats], dark: float, *, by_sum: bool) -> str:
    """Return in a sentence why readings cannot be believed; empty where they can. ``dark``: black's luminance in cd/m².

    A white sub-pixel gives white *more* light than its parts, which the method holds; a white that is less, or that is not the same
    twice, is one that something works on.
    """
    luminance = {name: [float(xyz[1]) for xyz in both] for name, both in sides.items()}
    for name in ("white", "red", "green", "blue"):
        if min(luminance[name]) <= 0:
            which = "reference" if luminance[name][0] <= 0 else "meter"
            return f"the {which} saw no light where {name} was shown; something may be before it."
    if AGAIN in luminance:
        apart = max(abs(again / max(first, 1e-9) - 1.0) for first, again in zip(luminance["white"], luminance[AGAIN], strict=True))
        if apart > MOST_APART:
            return f"white was read twice and is {100 * apart:.0f} % apart, so something still works on the picture."
    if not by_sum:
        return ""
    parts = sum(luminance[name][0] - dark for name in ("red", "green", "blue"))
    white = luminance["white"][0] - dark
    if white > 0 and parts / white - 1.0 > MOST_LESS:
        return f"white is {100 * (1.0 - white / parts):.0f} % less than its parts together, so something dims it."
    return ""


def correct(
    patches: Sequence[Patch], dark: float = 0.0, *, is_installed: bool = False, just_read: Mapping[str, Floats] | None = None
) -> Procedure[Corrected]:
    """Read patches with both meters, the reference first, and make the correction; what stands against it is a note.

    What stands against it may be one reading that slipped: then all is read once more before it is refused.

    ``dark``: black's luminance in cd/m², as either meter has read it: it is in each of the three lights, and in white once.
    ``is_installed``: a cube may give colours more light than their share of white, so nothing is told from their sum.
    ``just_read``: by label what the meter, uncorrected, has given of the display as it stands, XYZ (3,) in cd/m².
    """
    yield Say("correction")
    made = yield from _made_of(patches, dark, is_installed=is_installed, just_read=just_read)
    if made.matrix is None:
        made = yield from _made_of(patches, dark, is_installed=is_installed)
    return made


def _made_of(
    patches: Sequence[Patch], dark: float, *, is_installed: bool, just_read: Mapping[str, Floats] | None = None
) -> Procedure[Corrected]:
    """Read patches, and return the correction that they make."""
    read = yield from compare(patches, just_read=just_read)
    made = Corrected(average=1 if just_read else AVERAGE, sides={patch.label: (patch, read[patch.label]) for patch in patches})
    doubt = _doubt(read, dark, by_sum=not is_installed)
    if doubt:
        made.notes.append(f"No correction was made: {doubt}")
        return made
    if AGAIN in read:  # everything that is read later hangs on white, so it is taken from both
        patch, _ = made.sides["white"]
        made.sides["white"] = patch, (read["white"] + read[AGAIN]) / 2.0
        read["white"] = made.sides["white"][1]
    try:
        four = [read[name][0] for name in ("red", "green", "blue", "white")]
        off, is_more = additivity(four, [dark * float(part) for part in four[3] / max(four[3][1], 1e-9)])
        if is_more:
            made.notes.append(f"White is {100 * off:.0f} % off the sum of the three; the correction holds white itself.")
        labels = [name for name, both in read.items() if name not in ("black", AGAIN) and both[0][1] > 0 and both[1][1] > 0]
        rows = rows_for(PROPOSED, labels)
        reference, meter_xyz = (np.array([read[labels[i]][side] for i in rows]) for side in (0, 1))
        found = make_correction(PROPOSED, meter_xyz, reference)
    except CorrectionError as problem:
        made.notes.append(f"No correction was made: {problem}")
        return made
    dxy, dy = residuals(found.matrix, meter_xyz, reference)
    made.matrix = found.matrix
    made.residuals = [
        {"label": labels[i], "dx": float(dxy[k, 0]), "dy": float(dxy[k, 1]), "dY_percent": float(dy[k])} for k, i in enumerate(rows)
    ]
    made.warnings = list(found.warnings)
    made.notes += found.warnings
    return made

