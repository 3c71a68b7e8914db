"""How a tuning's display is driven to other whites: four readings, and what is sent for each."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np

from fenvik.core.colour.curves import pq, pq_inverse
from fenvik.core.colour.space import XY
from fenvik.core.errors import FenvikError
from fenvik.core.models.whitedrive import WEAKER, WhiteDrive, drive_of
from fenvik.core.signal.decoding import decode
from fenvik.core.signal.patches import patch
from fenvik.core.types import Floats
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.sending import fine_enough
from fenvik.web.passes.services import How, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.results.assemble import core_readings
from fenvik.web.visits.models import Tuning
from fenvik.web.visits.white import WhitePart, aim_of, parts_of

LEVEL, LEVEL_CD_M2 = 80.0, 100.0  # percent of signal; of a PQ signal the light that it asks for
GAMMA = 2.4
GOOD_FOR = timedelta(hours=12)
LIGHTS = ("red", "green", "blue")


class WhitesError(FenvikError):
    """Whites that cannot be shown, chosen or matched as was asked."""

    code = "whites"


@dataclass(frozen=True)
class Driving:
    """How a display is driven, from a pass; ``told`` are other whites that were read, with the gains that they were shown by."""

    drive: WhiteDrive
    told: list[tuple[Floats, Floats]]


def is_pq(tuning: Tuning) -> bool:
    """Whether a tuning's signal is PQ."""
    return tuning.signal in ("hdr10", "dynamic")


def level_of(tuning: Tuning) -> float:
    """Return the percentage of signal at which whites are shown on a tuning's display."""
    return round(100.0 * float(pq_inverse(LEVEL_CD_M2)), 2) if is_pq(tuning) else LEVEL


def sent_for(tuning: Tuning, gains: Floats, level: float | None = None) -> tuple[float, float, float]:
    """Return the percentages of signal that give gains of light (3,) at a level."""
    at = (level_of(tuning) if level is None else level) / 100.0
    red, green, blue = (
        100.0 * pq_inverse(pq(at) * gains) if is_pq(tuning) else 100.0 * at * np.maximum(gains, 0.0) ** (1.0 / GAMMA)
    )
    return float(red), float(green), float(blue)


def gains_sent(tuning: Tuning, codes: list[int]) -> Floats:
    """Return the gains of light that code values really are: codes are whole."""
    fraction = decode(codes, tuning.bits, tuning.range)
    at = level_of(tuning) / 100.0
    made: Floats = pq(fraction) / pq(at) if is_pq(tuning) else (np.maximum(fraction, 0.0) / at) ** GAMMA
    return made


def row_for(tuning: Tuning, label: str, gains: Floats, **more: Any) -> dict[str, Any]:
    """Return the row of a pass that shows white with gains of its lights."""
    shown = patch(label, sent_for(tuning, gains), tuning.bits, tuning.range)
    return dict(shown.as_json()) | {"part": "whites"} | more


@needs(Right.MEASURE, "read how white is made")
def read_drive(*, tuning_id: int, actor: User, now: datetime) -> Pass:
    """Read white, and white with each light a little weaker. Raises what ``start_pass`` raises."""
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("source", "meter").get(pk=tuning_id)
    fine_enough(tuning)  # before codes are made
    rows = [row_for(tuning, "white", np.ones(3))]
    rows += [
        row_for(tuning, f"white, less {name}", np.where(np.arange(3) == i, WEAKER, 1.0)) for i, name in enumerate(LIGHTS)
    ]
    how = How(rows=rows, average=max(tuning.average, 4))
    made: Pass = start_pass(tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.WHITES, patches=[], how=how)
    return made


def _read(pass_: Pass) -> dict[int, tuple[list[int], Floats]]:
    """Return the newest reading of each row: its codes, and XYZ through the pass's correction."""
    newest: dict[int, Reading] = {row.index: row for row in pass_.readings.order_by("id") if not row.too_dark}
    rows = list(newest.values())
    seen = core_readings(pass_, rows).xyz if rows else np.zeros((0, 3))
    return {row.index: ([row.r, row.g, row.b], seen[i]) for i, row in enumerate(rows)}


def passes_of(tuning: Tuning) -> list[Pass]:
    """Return a tuning's passes of whites, newest first."""
    return list(tuning.passes.filter(purpose=PassPurpose.WHITES).select_related("correction", "tuning").order_by("-id")[:8])


def driving_of(tuning: Tuning, now: datetime) -> Driving | None:
    """Return how a display is driven by what was read last; None where nothing was, not lately, or before something was turned.

    Raises DriveError.
    """
    told: list[tuple[Floats, Floats]] = []
    turned = tuning.changes.order_by("-id").values_list("pk", flat=True).first() or 0
    for pass_ in passes_of(tuning):
        if now - pass_.created_at > GOOD_FOR or pass_.readings.filter(knew__lt=turned).exists():
            return None
        got = _read(pass_)
        if "candidate" in (pass_.patches[0] if pass_.patches else {}):
            told += [(gains_sent(tuning, codes), xyz) for codes, xyz in got.values()]
        elif len(got) >= 4:
            left = [float(gains_sent(tuning, got[i + 1][0])[i]) for i in range(3)]
            return Driving(drive_of(got[0][1], [got[i][1] for i in (1, 2, 3)], left), told)
    return None


def read_whites(pass_: Pass) -> dict[int, Floats]:
    """Return XYZ of each candidate that a pass has read."""
    return {int(pass_.patches[i]["candidate"]): xyz for i, (_, xyz) in _read(pass_).items() if "candidate" in pass_.patches[i]}


def wanted(tuning: Tuning, uv: tuple[float, float]) -> XY:
    """Return the x, y of a candidate: its offset on the standard's white, beside what makes this display look like another."""
    kept = [part for part in parts_of(tuning.white_parts) if part.kind == "display"]
    return aim_of(tuning.standard_white, [*kept, WhitePart("client", uv[0], uv[1], "")])
