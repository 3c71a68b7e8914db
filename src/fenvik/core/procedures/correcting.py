"""Correcting a quick meter by a reference: both read the same patches, and what comes of it is a matrix or a reason."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.measure.believed import (
    MOST_LESS,
    is_seen_alike,
    less_than_parts,
    lights_apart,
    speaks_against,
)
from fenvik.core.measure.correction import PROPOSED, CorrectionError, additivity, make_correction, residuals
from fenvik.core.measure.correction_patches import AGAIN, rows_for
from fenvik.core.procedures.comparing import OF_WHITE, compare
from fenvik.core.procedures.steps import Ask, AwayError, LeftOutError, Procedure, Read, Say
from fenvik.core.signal.patches import Patch
from fenvik.core.types import Floats

# What the method that is proposed is made of; white once more by the meter. Black is known: a reference reads it for half a minute.
NAMED = ("white", "red", "green", "blue", AGAIN)
AVERAGE = 4  # of each reading that a correction is made of
OTHERWISE = 0.05  # of white beside its parts, between both meters: the stand-ins' are within 0.013
LESS = "colour management makes these brighter, or something dims white."
HOLDS = "Both meters saw the same light of each, so the correction holds."
MOST_CALLS = 3  # times that somebody is called for a meter that sees nothing


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
    is_left_out: bool = False  # whether a person has said to go on without the reference
    blind: str = ""  # why one of both meters has told nothing at all: only a person can set that right


def _blind(sides: Mapping[str, Floats]) -> str:
    """Return in a sentence which meter saw no light where there was some; empty where both saw it."""
    for name in ("white", "red", "green", "blue"):
        reference, meter = (float(xyz[1]) for xyz in sides[name])
        if min(reference, meter) <= 0:
            which = "reference" if reference <= 0 else "meter"
            return f"the {which} saw no light where {name} was shown; something may be before it."
    return ""


def _lights_apart(made: Corrected) -> tuple[str, ...]:
    reference, meter = (np.array([made.sides[name][1][side] for name in OF_WHITE]) for side in (0, 1))
    return lights_apart(meter, reference)


def correct(
    patches: Sequence[Patch], dark: float = 0.0, *, is_installed: bool = False, just_read: Mapping[str, Floats] | None = None
) -> Procedure[Corrected]:
    """Read patches with both meters, the reference first, and make the correction; what stands against it is a note.

    What stands against it may be one reading that slipped: then all is read once more before it is refused, and so it is where both
    meters see white otherwise beside its parts. A meter that sees nothing is for a person to set right.

    ``dark``: black's luminance in cd/m², as either meter has read it: it is in each of the three lights, and in white once.
    ``is_installed``: a cube may give colours more light than their share of white, so nothing is told from their sum.
    ``just_read``: by label what the meter, uncorrected, has given of the display as it stands, XYZ (3,) in cd/m².
    """
    yield Say("correction")
    made = yield from _made_of(patches, dark, is_installed=is_installed, just_read=just_read)
    if made.sides and (made.matrix is None or seen_otherwise(made.sides) > OTHERWISE):
        made = yield from _made_of(patches, dark, is_installed=is_installed)
    for _ in range(MOST_CALLS):
        if not made.blind or not (yield Ask(f"No correction can be made: {made.blind} Set that right, then go on.")):
            break
        made = yield from _made_of(patches, dark, is_installed=is_installed)
    if made.matrix is not None and (apart := _lights_apart(made)) and (yield Ask(f"{apart[0]} Set right what is not, then go on.")):
        made = yield from _made_of(patches, dark, is_installed=is_installed)  # who goes on may mean it so
    return made


def seen_otherwise(sides: Mapping[str, tuple[Patch, Floats]]) -> float:
    """Return how far both meters are apart in white beside the sum of its three parts, as a share, in X, Y or Z where it is most.

    Both add light up, so what they make of it is nearly alike, unless one was bumped in between.
    """
    red, green, blue, white = (sides[name][1] for name in ("red", "green", "blue", "white"))
    beside = white / np.maximum(red + green + blue, 1e-9)
    return float(np.abs(beside[0] / np.maximum(beside[1], 1e-9) - 1.0).max())


def _made_of(
    patches: Sequence[Patch], dark: float, *, is_installed: bool, just_read: Mapping[str, Floats] | None = None
) -> Procedure[Corrected]:
    """Read patches, and return the correction that they make."""
    listed = [patch for patch in patches if patch.label != AGAIN]
    try:
        read = yield from compare(listed, just_read=just_read)
    except LeftOutError as problem:
        return Corrected(is_left_out=True, notes=[f"The meter was not corrected. {problem}"])
    except AwayError as problem:
        return Corrected(blind=str(problem), notes=[f"No correction was made: {problem}"])
    whites = [read["white"][1]]
    four = [read[name][0] for name in OF_WHITE]
    if len(listed) < len(patches):  # by the meter alone, which is quick: everything that is read later hangs on white
        _, again = yield Read(next(patch.percent for patch in patches if patch.label == AGAIN), "meter")
        whites.append(np.asarray(again, dtype=np.float64))
        read["white"] = np.array([read["white"][0], (whites[0] + whites[1]) / 2.0])
    sides = {patch.label: (patch, read[patch.label]) for patch in listed}
    made = Corrected(average=1 if just_read else AVERAGE, sides=sides)
    made.blind = _blind(read)
    twice = [float(whites[0][1]), float(whites[-1][1])]
    doubt = made.blind or speaks_against(four, twice, dark, most_less=np.inf)
    if doubt:
        made.notes.append(f"No correction was made: {doubt}")
        return made
    try:
        labels = [name for name, both in read.items() if name != "black" and both[0][1] > 0 and both[1][1] > 0]
        rows = rows_for(PROPOSED, labels)
        reference, meter_xyz = (np.array([read[labels[i]][side] for i in rows]) for side in (0, 1))
        found = make_correction(PROPOSED, meter_xyz, reference)
    except CorrectionError as problem:
        made.notes.append(f"No correction was made: {problem}")
        return made
    dxy, dy = residuals(found.matrix, meter_xyz, reference)
    less = 0.0 if is_installed else less_than_parts(four, dark)
    if less > MOST_LESS and not is_seen_alike(dy):
        made.notes.append(f"No correction was made: {speaks_against(four, twice, dark)}")
        return made
    off, is_more = additivity(four, [dark * float(part) for part in four[3] / max(four[3][1], 1e-9)])
    if less > MOST_LESS:
        made.notes.append(f"White is {100 * less:.0f} % less than red, green and blue together: {LESS} {HOLDS}")
    elif is_more:
        made.notes.append(f"White is {100 * off:.0f} % off the sum of the three; the correction holds white itself.")
    made.matrix = found.matrix
    made.residuals = [
        {"label": labels[i], "dx": float(dxy[k, 0]), "dy": float(dxy[k, 1]), "dY_percent": float(dy[k])} for k, i in enumerate(rows)
    ]
    made.warnings = list(found.warnings)
    made.notes += found.warnings
    return made

