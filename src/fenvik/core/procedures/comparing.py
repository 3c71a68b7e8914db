"""Two meters read the same patches: what every correction is made of, by hand and hands-free."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from fenvik.core.measure.correction import additivity
from fenvik.core.measure.correction_patches import AGAIN
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.procedures.steps import Ask, Keep, Procedure, Read
from fenvik.core.signal.patches import Patch
from fenvik.core.types import Floats

METERS = ("reference", "meter")
OF_WHITE = ("red", "green", "blue", "white")


@dataclass(frozen=True)
class Sum:
    """White beside the sum of red, green and blue: how far it is ``off``, and whether that ``is_more`` than noise."""

    off: float
    is_more: bool


def compare(
    patches: Sequence[Patch], *, change_over: str = "", reference: Repeatability | None = None, average: int = 1,
    just_read: Mapping[str, Floats] | None = None,
) -> Procedure[dict[str, Floats]]:  # fmt: skip
    """Read patches with the reference and with the meter; return by label XYZ (2, 3) of both, uncorrected, in cd/m².

    Both stand before the screen and read each patch in turn, unless ``change_over`` says what a person is asked when the
    reference has read all of them; then the meter reads, which stays for the work that follows. Before white is read again by
    the reference, whose noise and ``average`` are given where they are known, a ``Sum`` is kept. ``just_read``: by label what
    the meter, uncorrected, has given of the display as it stands, XYZ (3,) in cd/m²; it is not asked again.
    """
    read: dict[str, dict[str, Floats]] = {"reference": {}, "meter": dict(just_read or {})}
    turns = [(patch, by) for patch in patches for by in METERS if patch.label not in read[by]]
    if change_over:
        turns.sort(key=lambda turn: METERS.index(turn[1]))
    before = METERS[0]
    for patch, by in turns:
        if change_over and by != before:
            yield Ask(change_over)
        if by == "reference" and patch.label == AGAIN and read[by].get("white", np.zeros(3))[1] > 0:
            yield Keep(_sum(read[by], reference, average))
        _, xyz = yield Read(patch.percent, by)
        read[by][patch.label], before = np.asarray(xyz, dtype=np.float64), by
    return {patch.label: np.array([read[by][patch.label] for by in METERS]) for patch in patches}


def _sum(read: dict[str, Floats], reference: Repeatability | None, average: int) -> Sum:
    lights = [read[name] for name in OF_WHITE]
    black = read.get("black", np.zeros(3))  # where a hands-free run has not asked for it, it has read it before
    noise = None if reference is None else reference.covariance(np.array(lights), np.full(len(lights), float(average)))
    return Sum(*additivity(lights, black, covariance=noise))
