"""What a choice of how PQ ends does to highlights: for the page on which it is chosen."""

from dataclasses import replace
from typing import Any

import numpy as np

from fenvik.core.colour import curves
from fenvik.core.colour.target import Target
from fenvik.web.passes.services import TAKEN_PEAK, stage_of
from fenvik.web.visits.models import ROLL_OFFS, Tuning

LIGHTS = (100, 203, 600, 1000, 4000)  # cd/m² in the film
SAME = 0.02  # of a luminance: less is no difference


def _words(shown: list[float]) -> str:
    """Return in a sentence what is kept and what is lost."""
    kept = [light for light, s in zip(LIGHTS, shown, strict=True) if abs(s / light - 1.0) <= SAME]
    ends = [light for light, s in zip(LIGHTS, shown, strict=True) if s >= shown[-1] * (1.0 - SAME)]
    exact = f"true up to {kept[-1]:,} cd/m²" if kept else "darker everywhere"
    alike = ends if len(ends) > 1 else []
    dimmed = [f"{light:,}" for light in LIGHTS if light not in kept and light not in alike]
    said = [exact, *([f"{', '.join(dimmed)} are dimmed and keep their detail"] if dimmed else [])]
    return "; ".join([*said, *([f"all from {alike[0]:,} on look alike: their detail is lost"] if alike else [])])


def highlights_of(tuning: Tuning) -> dict[str, Any] | None:
    """Return what each way to end makes of highlights on this display; None for targets without PQ."""
    stage = stage_of(tuning)
    if stage is None or stage.target.curve != "pq":
        return None
    ways: list[tuple[str, Target]] = [
        ("clip", stage.target.unrolled), ("bt2390", replace(stage.target.unrolled, rolls_off=True)),
    ]  # fmt: skip
    if tuning.knees:
        ways.append(("points", replace(stage.target.unrolled, knees=tuple((float(x), float(y)) for x, y in tuning.knees))))
    signal = curves.pq_inverse(np.array(LIGHTS, dtype=np.float64))
    rows = []
    for name, target in ways:
        shown = target.xyz(np.repeat(signal[:, None], 3, axis=1), stage.peak, 0.0)[:, 1].tolist()
        rows.append({"name": ROLL_OFFS[name], "shown": shown, "chosen": tuning.roll_off == name, "words": _words(shown)})
    return {"lights": [f"{light:,}" for light in LIGHTS], "rows": rows, "peak": stage.peak, "read": stage.peak != TAKEN_PEAK}
