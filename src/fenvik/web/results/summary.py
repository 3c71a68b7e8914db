"""The few figures of a pass that lists and trails show, computed once when it ends."""

import math
from dataclasses import asdict
from typing import Any

import numpy as np

from fenvik.core.analysis.analysis import Analysis
from fenvik.core.colour.science import cct_and_duv
from fenvik.core.colour.space import xy_to_xyz
from fenvik.core.measure.darkness import judge_dark
from fenvik.core.measure.tryout import judge
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.models.rolloff import roll_off_of
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.results.assemble import analysis_of

FINE = 0.055  # of signal: levels no farther apart tell where a display ends
TRACKED_FROM, TRACKED_TO = 0.1, 0.9  # cd/m², of the peak: where neither black nor the roll-off speaks


def _number(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def figures(analysis: Analysis) -> dict[str, Any]:
    """Return the figures of an analysis; None where there is nothing to say."""
    coloured, beyond = analysis.judged, analysis.out_of_reach
    colour_only = analysis.colour_only.value
    lit, grey, above = analysis.graded, analysis.graded_whole, analysis.beyond_end & analysis.lit_grey & analysis.counted
    cct, duv, cct_std, duv_std = analysis.white_cct_and_duv
    wanted, wanted_duv = cct_and_duv(xy_to_xyz(np.array(analysis.target.white_xy)))
    contrast = analysis.contrast
    return {
        "grey_mean": _number(colour_only[lit].mean()) if lit.any() else None,
        "grey_max": _number(colour_only[lit].max()) if lit.any() else None,
        "grey_whole_mean": _number(analysis.whole.value[grey].mean()) if grey.any() else None,
        "grey_whole_max": _number(analysis.whole.value[grey].max()) if grey.any() else None,
        "colour_mean": _number(analysis.whole.value[coloured].mean()) if coloured.any() else None,
        "colour_max": _number(analysis.whole.value[coloured].max()) if coloured.any() else None,
        "out_of_reach": int(beyond.sum()),
        "out_of_reach_mean": _number(analysis.whole.value[beyond].mean()) if beyond.any() else None,
        "beyond_end": int(above.sum()),
        "beyond_end_mean": _number(colour_only[above].mean()) if above.any() else None,
        "white": _number(analysis.white[1]),
        "black": _black(analysis),
        "black_bound": analysis.black_is_bound,
        "unread": _number(analysis.unread) or None,
        "contrast": None if contrast is None else _number(contrast[0]),
        "contrast_bound": contrast is not None and contrast[1],
        "gamma": _number(analysis.mean_gamma),
        "contrast_std": _number(analysis.contrast_std),
        "cct": _number(cct),
        "cct_std": _number(cct_std),
        "duv": _number(duv),
        "duv_std": _number(duv_std),
        "target_cct": _number(float(wanted)),
        "target_duv": _number(float(wanted_duv)),
        "tracking": _tracking(analysis),
        "follows_to": _follows_to(analysis),
        "readings": len(analysis.readings.labels),
        "hdr": analysis.target.is_hdr,
    }


def _tracking(analysis: Analysis) -> float | None:
    """Return how much light greys give of what is wanted, on average, below nine tenths of the peak; None for relative targets."""
    if not analysis.target.is_hdr:
        return None
    wanted = analysis.target_xyz[:, 1]
    there = analysis.graded_whole & (wanted > TRACKED_FROM) & (wanted < TRACKED_TO * analysis.white[1])
    return _number(np.exp(np.log(analysis.readings.xyz[there, 1] / wanted[there]).mean())) if there.any() else None


def _follows_to(analysis: Analysis) -> float | None:
    """Return the luminance up to which a display follows PQ before it rolls off; None where that is not told."""
    if analysis.target.curve != "pq":
        return None
    greys = analysis.grey & analysis.counted & (analysis.readings.fraction[:, 0] > 0)
    black = 0.0 if analysis.black is None else float(analysis.black[1])
    levels, light = analysis.readings.fraction[greys, 0], analysis.readings.xyz[greys, 1]
    roll = roll_off_of(levels.tolist(), light.tolist(), black)
    # Between two levels that lie far apart it may end anywhere: then nothing is said.
    return None if roll is None or roll.gap > FINE else _number(roll.follows_to)


def _black(analysis: Analysis) -> float | None:
    """Return black's luminance, or what it is less than."""
    if analysis.black is None:
        return None
    black = float(analysis.black[1])
    return max(black, analysis.readings.floor) if analysis.black_is_bound else _number(black)


def summarise_anew() -> int:
    """Tell the figures again that an earlier version told otherwise, greys above the peak apart; return how many."""
    told = Pass.objects.filter(summary__hdr=True, summary__beyond_end__isnull=True).values_list("pk", flat=True)
    for pk in told:
        summarise(pk)
    return len(told)


def summarise(pass_id: int) -> None:
    """Store the figures of a pass that ends, and whether it is complete."""
    pass_ = Pass.objects.select_related("tuning", "correction").get(pk=pass_id)
    read = pass_.readings.values("index").distinct().count()
    complete = not pass_.repeat and 0 < len(pass_.patches) <= read
    if complete != pass_.complete:
        Pass.objects.filter(pk=pass_id).update(complete=complete)
    if pass_.repeat or pass_.purpose in (PassPurpose.CORRECTION, PassPurpose.HANDS_FREE):
        return
    if pass_.purpose == PassPurpose.TRY:
        dark = bool(pass_.patches) and bool(pass_.patches[0].get("dark"))
        rows = {row.index: None if row.too_dark else row.seen for row in pass_.readings.select_related("pass_of__correction")}
        if dark:
            found = judge_dark(
                [None if xyz is None else float(xyz[1]) for xyz in rows.values()], float(pass_.meter_facts["floor"]),
                Repeatability.of(pass_.meter_facts["repeatability"]),
            )  # fmt: skip
            Pass.objects.filter(pk=pass_id).update(summary={"dark": asdict(found)})
            return
        told = judge(rows.get(0), rows.get(1), rows.get(2), Repeatability.of(pass_.meter_facts["repeatability"]))
        Pass.objects.filter(pk=pass_id).update(summary={"tried": asdict(told)})
        return
    analysis = analysis_of(pass_, pass_.tuning)
    Pass.objects.filter(pk=pass_id).update(summary=None if analysis is None else figures(analysis))
