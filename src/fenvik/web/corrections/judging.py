"""How well a correction fits a tuning, and how far it is to be trusted: rules over rows, no queries."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.utils.timezone import localtime

from fenvik.core.measure.believed import MOST_APART_BY_HAND, MOST_LESS, is_seen_alike, less_than_parts, speaks_against
from fenvik.core.measure.correction import Correction as Made
from fenvik.core.measure.correction import make_correction
from fenvik.core.measure.correction_patches import AGAIN, rows_for
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.procedures.comparing import OF_WHITE
from fenvik.core.types import Floats
from fenvik.web.corrections.models import Correction
from fenvik.web.corrections.sides import Sides
from fenvik.web.visits.aimed import SIGNALS
from fenvik.web.visits.models import Tuning

OLD = timedelta(days=365)  # filters age; a reference is calibrated anew about so often
UNLIKE = 1.3  # times: of white and its three parts every display gives more than that apart


@dataclass(frozen=True)
class Fit:
    """``rank`` is 0 for the very display and mode, higher the less it fits; ``warnings`` say where it fits less."""

    correction: Correction
    rank: int
    warnings: tuple[str, ...]


def fit_of(correction: Correction, tuning: Tuning, now: datetime) -> Fit | None:
    """Return how a correction fits a tuning; None where it is of another meter or another kind of display."""
    display, meter = tuning.display, tuning.meter
    if meter is None or correction.meter_id != meter.pk or correction.withdrawn_at is not None:
        return None
    if correction.technology != display.technology:
        return None
    said, rank = [], 0
    if correction.display_id == display.pk:
        if correction.picture_mode and correction.picture_mode != tuning.picture_mode:
            said.append(f"It was made in another picture mode, {correction.picture_mode}.")
            rank = 1
        elif correction.signal and correction.signal != tuning.signal:  # many displays call their modes for both alike
            said.append(f"It was made with another signal, {SIGNALS.get(correction.signal, correction.signal)}.")
            rank = 1
    elif (correction.maker, correction.model) == (display.maker, display.model):
        said.append(f"It was made on another sample of this model, {correction.serial or 'without a serial'}.")
        rank = 2
    else:
        said.append(f"It was made on another model, {correction.display_name}, of the same technology.")
        rank = 3
    if now - correction.made_at > OLD:
        said.append(f"It is old: made on {localtime(correction.made_at):%-d %B %Y}.")
    if correction.effort and tuning.effort and correction.effort != tuning.effort and meter.facts.get("efforts"):
        efforts = meter.facts["efforts"]
        if (
            tuning.effort in efforts
            and correction.effort in efforts
            and efforts.index(tuning.effort) < efforts.index(correction.effort) - 1
        ):
            said.append(f"It was made at the effort “{correction.effort}”; this tuning reads at “{tuning.effort}”.")  # fmt: skip
    return Fit(correction, rank, (*said, *correction.warnings))


def misfit(correction: Correction, tuning: Tuning, now: datetime) -> tuple[str, ...]:
    """Return what is to be said of a correction that is in force: also of one that a person chose against the rules."""
    fit = fit_of(correction, tuning, now)
    if fit is not None:
        return fit.warnings
    if correction.withdrawn_at is not None:
        return ("It has been withdrawn since.",)
    if tuning.meter is not None and correction.meter_id != tuning.meter.pk:
        return (f"It is of another meter, {correction.meter_name} {correction.meter_serial}.",)
    return (
        f"It was made on another technology, {correction.display_name}: its errors there say nothing of this display.",
    )


def best_of(corrections: Sequence[Correction], tuning: Tuning, now: datetime) -> Fit | None:
    """Return the correction that fits best, the newest of several that fit alike; None where none fits."""
    fits = [fit for each in corrections if (fit := fit_of(each, tuning, now)) is not None]
    return min(fits, key=lambda fit: (fit.rank, -fit.correction.made_at.timestamp()), default=None)


def white_of(sides: Sides) -> Floats | None:
    """Return the field meter's white, or None without one."""
    return sides.meter[sides.labels.index("white")] if "white" in sides.labels else None


def blind_to(sides: Sides) -> str:
    """Return in a sentence which meter read white and its parts alike, which no display gives alike; empty where both see them."""
    if any(name not in sides.labels for name in OF_WHITE):
        return ""
    for name, side in (("the reference", sides.reference), ("the meter", sides.meter)):
        light = side[[sides.labels.index(patch) for patch in OF_WHITE], 1]
        if light.max() < UNLIKE * max(float(light.min()), 1e-9):
            return f"{name} read the same light of white, red, green and blue, so it does not see the picture."
    return ""


def make(method: str, sides: Sides, repeatability: float) -> Made:
    """Return the correction of these readings by a method, with its warnings. Raises CorrectionError."""
    rows = rows_for(method, sides.labels)  # type: ignore[arg-type]
    white = sides.labels.index("white") if "white" in sides.labels else None
    black = sides.labels.index("black") if "black" in sides.labels else None
    dark = None
    if white is not None and black is not None:
        dark = (float(sides.meter[black, 1]), float(sides.meter[white, 1]))
    return make_correction(
        method,  # type: ignore[arg-type]
        sides.meter[rows],
        sides.reference[rows],
        white=3 if method in ("weighted", "least-squares") and white is not None else None,
        repeatability=repeatability,
        black=dark,
        repeats_apart=repeats_apart(sides),
    )


def believed(sides: Sides, *, is_hdr: bool) -> tuple[float, str]:
    """Return by what share of its parts white has less light than they, 0 where it has not, and what speaks against these."""
    if any(name not in sides.labels for name in OF_WHITE):
        return 0.0, ""
    at = sides.labels.index
    four = sides.reference[[at(name) for name in OF_WHITE]]
    dark = float(sides.reference[at("black"), 1]) if "black" in sides.labels else 0.0
    less = less_than_parts(four, dark)
    whites = max(
        ([float(side[at(name), 1]) for name in ("white", AGAIN if AGAIN in sides.labels else "white")]
         for side in (sides.reference, sides.meter)),
        key=lambda pair: abs(pair[1] / max(pair[0], 1e-9) - 1.0),
    )  # fmt: skip
    # At full drive an HDR display ends, and colours that it cannot give are lighter: neither says that something dims white.
    return (less if less > MOST_LESS else 0.0), speaks_against(
        four, whites, dark, most_less=np.inf if is_hdr else MOST_LESS, most_apart=MOST_APART_BY_HAND
    )


def holds_although_less(sides: Sides, made: Made) -> bool:
    """Return whether a correction is right of its lights although white is less than its parts, which alone speaks against it.

    Colour management that makes colours brighter than white allows does that too, and then both meters see the same of each patch.
    """
    apart = repeats_apart(sides)
    return apart is not None and apart <= MOST_APART_BY_HAND and is_seen_alike(made.dy_percent)


def repeats_apart(sides: Sides) -> float | None:
    """Return how far the two readings of white disagree, relative, of the meter that disagrees more; None without two."""
    if "white" not in sides.labels or AGAIN not in sides.labels:
        return None
    first, again = sides.labels.index("white"), sides.labels.index(AGAIN)
    apart = [
        abs(float(side[again, 1] / side[first, 1]) - 1.0)
        for side in (sides.reference, sides.meter)
        if side[first, 1] > 0
    ]
    return max(apart, default=None)


def repeatability_at(facts: dict[str, Any], luminance: float, average: int) -> float:
    """Return the relative repeatability of a meter's mean of so many readings at a luminance."""
    return float(Repeatability.of(facts["repeatability"]).at(luminance)[0] / max(average, 1) ** 0.5)
