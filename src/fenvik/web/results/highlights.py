"""What a choice of how PQ ends does to highlights, drawn beside what the display was read to do."""

from dataclasses import replace
from typing import Any

import numpy as np
from django.utils.safestring import SafeString, mark_safe

from fenvik.charts import ending as chart
from fenvik.core.analysis.analysis import Analysis
from fenvik.core.analysis.highlights import greys, lost, paling, three_points
from fenvik.core.colour import curves
from fenvik.core.colour.target import DIFFUSE_CD_M2, Target
from fenvik.core.types import Floats
from fenvik.web.passes.models import PICTURES, Pass, PassPurpose
from fenvik.web.passes.sending import TAKEN_PEAK, stage_of
from fenvik.web.results.assemble import analysis_of, core_readings, newest_of_each
from fenvik.web.visits.aimed import ROLL_OFFS, ROLLED_BY, ending
from fenvik.web.visits.endform import typed_points
from fenvik.web.visits.models import Tuning

LIGHTS = (100, 203, 600, 1000, 4000)  # cd/m² in the film
SAME = 0.02  # of a luminance: less is no difference
PALES = 0.004  # of u′v′: less is not seen
SCALES = (0.1, 1.0, 10.0, 50.0, 100.0, 203.0, 400.0, 1000.0, 2000.0, 4000.0, 10_000.0)  # cd/m², of the axes
DEEP, FINE = 30.0, 120  # of the peak: how far down is drawn; points of a curve
READS = ("panel", "panel-grey")  # the parts of a pass over what a display can do that are greys of the usual window


def _words(shown: list[float]) -> str:
    """Return in a sentence what is kept and what is lost."""
    kept = [light for light, s in zip(LIGHTS, shown, strict=True) if abs(s / light - 1.0) <= SAME]
    ends = [light for light, s in zip(LIGHTS, shown, strict=True) if s >= shown[-1] * (1.0 - SAME)]
    exact = f"true up to {kept[-1]:,} cd/m²" if kept else "darker everywhere"
    alike = ends if len(ends) > 1 else []
    dimmed = [f"{light:,}" for light in LIGHTS if light not in kept and light not in alike]
    said = [exact, *([f"{', '.join(dimmed)} are dimmed and keep their detail"] if dimmed else [])]
    return "; ".join([*said, *([f"all from {alike[0]:,} on look alike: their detail is lost"] if alike else [])])


def _read(tuning: Tuning) -> tuple[Floats, Floats, Pass] | None:
    """Return PQ signals (n,) and XYZ (n, 3) of the greys that were read last, and the pass; None where there are none."""
    told = tuning.passes.filter(purpose__in=[*PICTURES, PassPurpose.PANEL], removed_at__isnull=True).order_by("-id")
    for pass_ in told.select_related("correction", "tuning")[:3]:
        if pass_.purpose == PassPurpose.PANEL:
            rows = [r for r in newest_of_each(pass_.readings.order_by("id")) if pass_.patches[r.index].get("part") in READS]
            readings = core_readings(pass_, rows) if rows else None
        else:
            analysis: Analysis | None = analysis_of(pass_, tuning)
            readings = None if analysis is None else analysis.readings
        if readings is None or not readings.neutral.any():
            continue
        order = np.argsort(readings.fraction[readings.neutral, 0])
        return readings.fraction[readings.neutral, 0][order], readings.xyz[readings.neutral][order], pass_
    return None


def read_ends(tuning: Tuning) -> tuple[float, float] | None:
    """Return the luminance in cd/m² of white and black of the greys that were read last; None where there are none."""
    read = _read(tuning)
    return None if read is None else (float(read[1][:, 1].max()), float(read[1][:, 1].min()))


def _off(target: Target, signal: Floats, xyz: Floats) -> float:
    """Return the average error in ΔE ITP of greys that were read against a target, black apart."""
    lit = signal > 0.0
    white, black = float(xyz[:, 1].max()), float(xyz[:, 1].min())
    wanted = target.xyz(np.repeat(signal[lit][:, None], 3, axis=1), white, black)
    return float(target.metric.whole(wanted, xyz[lit], target.white * white).mean())


def highlights_of(tuning: Tuning, facts: dict[str, Any] | None = None) -> dict[str, Any] | None:
    """Return what each way to end makes of highlights on this display; None for targets without PQ.

    ``facts``: an end that is being typed, as ``EndForm`` gives it, in place of the tuning's own.
    """
    stage = stage_of(tuning)
    if stage is None or stage.target.curve != "pq":
        return None
    own = stage.target if facts is None else ending(stage.target, facts)
    chosen = tuning.roll_off if facts is None else facts["roll_off"]
    read = _read(tuning)
    peak = stage.peak if read is None else float(read[1][:, 1].max())
    start = tuple((round(x, 3), round(y, 3)) for x, y in three_points(replace(own, rolled_by="light"), peak, 0.0))
    knees = own.knees or (start if chosen == "points" else ())
    plain = replace(own, rolls_off=False, knees=())
    ways: dict[str, Target] = {"clip": plain, "bt2390": replace(plain, rolls_off=True)}
    if knees:
        ways["points"] = replace(plain, knees=knees)
    film, top = np.array(LIGHTS, dtype=np.float64), own.mastered[0]
    rows = []
    for name, target in ways.items():
        shown = greys(target, film, peak).tolist()
        rows.append({
            "name": ROLL_OFFS[name], "shown": shown, "chosen": chosen == name, "words": _words(shown),
            "lost": 100.0 * lost(target, peak, top), "pales": paling(target, peak, top) > PALES,
            "off": None if read is None else _off(target, read[0], read[1]),
        })  # fmt: skip
    shown_by = None if read is None else np.interp(curves.pq_inverse(film), read[0], read[1][:, 1]).tolist()
    return {
        "lights": [f"{light:,}" for light in LIGHTS], "rows": rows, "peak": peak, "read": read is not None or peak != TAKEN_PEAK,
        "top": top, "display": shown_by, "start": typed_points(start), "reference": DIFFUSE_CD_M2,
        "by": ROLLED_BY[own.rolled_by] if chosen == "bt2390" else "",
        "white": None if own.diffuse is None else float(greys(ways.get(chosen, plain), [DIFFUSE_CD_M2], peak)[0]),
        "chart": _chart(ways, chosen, read, knees if chosen == "points" else (), peak, top),
    }  # fmt: skip


def _chart(
    ways: dict[str, Target], chosen: str, read: tuple[Floats, Floats, Pass] | None, knees: tuple[tuple[float, float], ...],
    peak: float, top: float,
) -> SafeString:  # fmt: skip
    span = float(curves.pq_inverse(peak / DEEP)), float(curves.pq_inverse(max(1.25 * top, 1.25 * peak)))
    s = np.linspace(*span, FINE)

    def line(target: Target) -> list[tuple[float, float]]:
        shown = curves.pq_inverse(greys(target, curves.pq(s), peak))
        there = shown >= span[0]  # a reference white of its own takes the dark end out of the picture
        return list(zip(s[there].tolist(), shown[there].tolist(), strict=True))

    dots = [] if read is None else list(zip(read[0].tolist(), curves.pq_inverse(read[1][:, 1]).tolist(), strict=True))
    return mark_safe(
        chart.draw(
            line(ways.get(chosen) or ways["clip"]),
            [line(t) for name, t in ways.items() if name != chosen],
            dots,
            knees,
            peak=chart.Scale(peak, float(curves.pq_inverse(peak))),
            span=span,
            scales=[chart.Scale(v, float(curves.pq_inverse(v))) for v in SCALES],
            title="How the target ends on this display",
        )
    )
