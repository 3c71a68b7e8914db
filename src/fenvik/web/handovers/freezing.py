"""What a handover keeps: copies of targets, readings and figures that stay as they are, and what is made of them again.

Version 2 keeps the readings as the analysis takes them (corrected, with the drift out, ladders apart) and the whole target, so that
whatever As left shows comes out of it once more. Version 1 kept all readings of a pass in one list and the target's name.
"""

from dataclasses import asdict, replace
from typing import Any

import numpy as np

from fenvik.core.analysis.analysis import Analysis, Readings, analyse
from fenvik.core.colour.space import Primaries
from fenvik.core.colour.target import TARGETS, Target
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.web.passes.models import Circumstance, Pass
from fenvik.web.results.assemble import analysis_of
from fenvik.web.results.files import rows_of
from fenvik.web.results.proof import short_of
from fenvik.web.results.special import Special, special_of
from fenvik.web.visits.models import Tuning

VERSION = 2
# By these labels version 1's ladders, boards and whites for drift are told from the picture.
APART = ("white, for drift", " window", "white field", "black field", "white after ", "upper ", "middle ", "lower ")


def frozen_target(target: Target) -> dict[str, Any]:
    """Return a target as it is kept."""
    return asdict(target) | {"metric": target.metric.name}


def target_of(kept: dict[str, Any]) -> Target:
    """Return a target that was kept."""
    three = kept["primaries"]
    white, mastered = kept["white_xy"], kept["mastered"]
    return Target(
        name=kept["name"],
        primaries=Primaries(*(tuple(three[light]) for light in ("red", "green", "blue"))),
        white_xy=(white[0], white[1]),
        knees=tuple((float(x), float(y)) for x, y in kept.get("knees", [])),
        curve=kept["curve"],
        gamma=kept["gamma"],
        tolerance=kept["tolerance"],
        rolls_off=kept["rolls_off"],
        mastered=(mastered[0], mastered[1]),
        rolled_by=kept.get("rolled_by", "light"),
        diffuse=kept.get("diffuse"),
    )


def frozen_readings(readings: Readings) -> dict[str, Any]:
    """Return readings as they are kept: everything that the core's type has."""
    kept = {
        name: getattr(readings, name)
        for name in ("codes", "xyz", "bits", "range", "labels", "average", "floor", "systematic", "dark", "beside", "shared")
    }
    kept = {name: value.tolist() if isinstance(value, np.ndarray) else value for name, value in kept.items()}
    return kept | {"repeatability": None if readings.repeatability is None else readings.repeatability.rows}


def readings_of(kept: dict[str, Any]) -> Readings:
    """Return readings that were kept."""
    systematic, shared = kept["systematic"], kept["shared"]
    return Readings(
        codes=np.array(kept["codes"], dtype=np.int64).reshape(-1, 3),
        xyz=np.array(kept["xyz"], dtype=np.float64).reshape(-1, 3),
        bits=kept["bits"],
        range=kept["range"],
        labels=tuple(kept["labels"]),
        average=np.array(kept["average"], dtype=np.float64),
        repeatability=None if kept["repeatability"] is None else Repeatability.of(kept["repeatability"]),
        floor=kept["floor"],
        systematic=None if systematic is None else (systematic[0], systematic[1], systematic[2]),
        dark=None if kept["dark"] is None else np.array(kept["dark"], dtype=bool),
        beside=None if kept["beside"] is None else np.array(kept["beside"], dtype=bool),
        shared=None if shared is None else np.array(shared, dtype=np.float64),
    )


def _frozen_correction(pass_: Pass) -> dict[str, Any] | None:
    """Return what the readings were looked at through: they are frozen as they were seen."""
    made = pass_.correction
    if made is None:
        return None
    return {
        "reference": made.reference_name, "reference_serial": made.reference_serial, "made_at": made.made_at.isoformat(),
        "method": made.method, "matrix": made.matrix, "systematic": list(made.systematic),
    }  # fmt: skip


def frozen_special(special: Special | None) -> dict[str, Any] | None:
    """Return what a pass says beside its picture, as it is kept."""
    if special is None:
        return None
    kept = asdict(special)
    kept.pop("faults")  # told anew from the rest
    return dict(_plain(kept))


def _plain(value: Any) -> Any:
    if isinstance(value, np.ndarray):
        return value.tolist()
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    return [_plain(one) for one in value] if isinstance(value, list | tuple) else value


def frozen_pass(pass_: Any, tuning: Tuning) -> dict[str, Any] | None:
    """Return a pass as it is kept; None where it has nothing to show."""
    analysis = analysis_of(pass_, tuning, pass_.last_reading)
    if analysis is None:
        return None
    rows = rows_of(pass_)
    return {
        "version": VERSION,
        "pass": pass_.pk,
        "at": max(row["at"] for row in rows),
        "began": min(row["at"] for row in rows),
        "window": pass_.window,
        "meter": {key: pass_.meter_facts.get(key) for key in ("maker", "model", "serial", "kind", "floor", "repeatability")},
        "correction": _frozen_correction(pass_),
        "lacks": short_of(pass_),
        "warm_up": frozen_warmth(getattr(pass_, "circumstance", None)),
        "analysed": frozen_readings(analysis.readings),
        "unread": list(tuning.read_by(pass_.meter_facts).unread),
        "special": frozen_special(special_of(pass_, analysis, luminance=tuning.luminance)),
        "rows": rows,
    }


def frozen_warmth(known: Circumstance | None) -> dict[str, Any] | None:
    """Return how warm the display was, as plain data; None where nothing is remembered."""
    if known is None or known.warm_up_watched is None:
        return None
    settled = known.settled_at.isoformat() if known.settled_at else None
    left, share = known.minutes_left, known.remaining_y
    return {"watched": known.warm_up_watched, "settled_at": settled, "minutes_left": left, "remaining_y": share}


def frozen_analysis(tuning: dict[str, Any], which: str) -> Analysis:
    """Return the analysis of a frozen pass, ``found`` or ``left``."""
    kept = tuning[which]
    if kept.get("version", 1) >= VERSION:
        unread = kept.get("unread", (0.0, 0.0))
        return analyse(readings_of(kept["analysed"]), replace(target_of(tuning["aim"]), unread=(unread[0], unread[1])))
    return analyse(_first_version(kept), _first_target(tuning))


def _first_version(kept: dict[str, Any]) -> Readings:
    rows = [row for row in kept["readings"] if not any(word in row["label"] for word in APART)] or kept["readings"]
    systematic = (kept.get("correction") or {}).get("systematic")
    return Readings(
        codes=np.array([row["rgb"] for row in rows], dtype=np.int64).reshape(-1, 3),
        xyz=np.array([row["xyz"] for row in rows], dtype=np.float64).reshape(-1, 3),
        bits=kept["bits"],
        range=kept["range"],
        labels=tuple(row["label"] for row in rows),
        average=np.array([float(row.get("average", kept["average"])) for row in rows]),
        repeatability=Repeatability.of(kept["meter"]["repeatability"]),
        floor=float(kept["meter"]["floor"]),
        systematic=None if systematic is None else (systematic[0], systematic[1], systematic[2]),
    )


def _first_target(tuning: dict[str, Any]) -> Target:
    """Return the target of a copy that kept its name alone: a free one's facts are only with the tuning."""
    named = TARGETS.get(tuning["target"])
    if named is None:
        now = Tuning.objects.filter(pk=tuning["id"]).first()
        named = TARGETS["bt709-bt1886"] if now is None else now.target
    return replace(named, tolerance=tuning["tolerance"])
