"""What the stop Instruments shows: how it is measured, whether the meter is aimed, and what it is corrected by."""

from datetime import timedelta
from typing import Any

import numpy as np
from django.conf import settings
from django.utils import timezone
from django.utils.safestring import mark_safe

from fenvik.charts import aim as aim_chart
from fenvik.charts import spectrum
from fenvik.core.colour.science import WAVELENGTHS_NM, observer
from fenvik.core.measure.averaging import usual
from fenvik.core.measure.correction_patches import rows_for
from fenvik.core.procedures.correcting import AVERAGE
from fenvik.web.corrections.choosing import fits
from fenvik.web.corrections.judging import misfit
from fenvik.web.corrections.making import Draft, draft_of, moving_controls
from fenvik.web.corrections.models import METHODS, Comparison, Correction
from fenvik.web.corrections.shown import beside, picture, sizes
from fenvik.web.corrections.sides import sides_of
from fenvik.web.corrections.spectra import gives_spectra, look_at, newest_of
from fenvik.web.devices.forms import KeyedMeterForm, KeyedSourceForm
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.stops.instruments.forms import MeasureForm
from fenvik.web.stops.registry import Page, pages
from fenvik.web.stops.scenes import Scene

AIM_KEPT, DRAFT_KEPT = timedelta(hours=2), timedelta(hours=12)
STEADY = 4  # readings that are averaged while a meter is aimed
AIMED = 0.995  # of the best reading so far counts as aimed
LED_AWAY = 0.985  # of it: by then the meter has been moved


def crossed_of(draft: Draft) -> dict[str, tuple[float, float, float]]:
    """Return the cross-validated residuals of a draft by label."""
    if draft.made is None or draft.made.crossed is None:
        return {}
    dxy, dy = draft.made.crossed
    labels = [draft.sides.labels[i] for i in rows_for(draft.method, draft.sides.labels)]  # type: ignore[arg-type]
    return {
        label: (float(dxy[k, 0]), float(dxy[k, 1]), float(dy[k]))
        for k, label in enumerate(labels)
        if np.isfinite(dy[k])
    }


def fill(scene: Scene) -> None:
    """Fill the scene of the stop."""
    scene.extra["part"] = scene.options.part("instruments")
    scene.extra["pages"] = settings.STANDIN_PAGES
    {"devices": _devices, "aim": _aim, "correction": _correction, "spectra": _spectra}[scene.extra["part"]](scene)


def _spectra(scene: Scene) -> None:
    kept = newest_of(scene.tuning)
    scene.extra |= {"gives": gives_spectra(scene.tuning), "kept": kept}
    if kept is None:
        return
    look = look_at(kept)
    peaks = dict(look.peaks)
    curves = [spectrum.Curve(name, values, peaks[name].at if name in peaks else None) for name, values in look.curves.items()]
    svg = spectrum.draw(curves, observer("CIE 1931 2°"), WAVELENGTHS_NM, title="Light by wavelength")
    scene.extra |= {"look": look, "spectrum_svg": mark_safe(svg)}
    # The observer of 1931 offers what the standard has already.
    scene.extra["offers"] = [(name, f"{du:.5f} {dv:.5f}") for name, _, (du, dv) in look.whites[1:]]


def _of_firm(scene: Scene, role: DeviceRole) -> list[Device]:
    mine = Device.objects.of_firm(scene.tuning.visit.firm_id).filter(role=role, removed_at__isnull=True)
    return list(mine.filter(screen__isnull=True).order_by("name"))


def _newest(scene: Scene, purpose: PassPurpose) -> Pass | None:
    return next((p for p in scene.tuning.main_passes if p.purpose == purpose), None)


def _devices(scene: Scene) -> None:
    tuning = scene.tuning
    scene.extra["meters"], scene.extra["sources"] = _of_firm(scene, DeviceRole.METER), _of_firm(scene, DeviceRole.SOURCE)
    scene.extra.setdefault("measure_form", MeasureForm(instance=tuning))
    scene.extra.setdefault("keyed_meter_form", KeyedMeterForm(prefix="km"))
    scene.extra.setdefault("keyed_source_form", KeyedSourceForm(prefix="ks"))
    suits = usual(tuning.display.technology)
    scene.extra["usual"] = suits
    scene.extra["is_usual"] = (
        tuning.window, tuning.surround, tuning.settle_s, tuning.average, tuning.low_below, tuning.low_average,
    ) == (suits.window, suits.surround, suits.settle_s, suits.average, suits.low_below, suits.low_average)  # fmt: skip
    tried = _newest(scene, PassPurpose.TRY)
    scene.extra["trying"] = tried is not None and tried.is_open
    if tried is not None and not tried.is_open and tried.summary and _same_instruments(tried, tuning):
        if "tried" in tried.summary:
            scene.extra["tried"] = tried.summary["tried"] | {"at": tried.finished_at}
        scene.extra["dark"] = tried.summary.get("dark")


def _same_instruments(pass_: Pass, tuning: Any) -> bool:
    return (pass_.meter_id, pass_.source_id) == (tuning.meter_id, tuning.source_id)


def _aim(scene: Scene) -> None:
    newest = scene.open_pass if scene.open_pass is not None and scene.open_pass.purpose == PassPurpose.AIM else None
    scene.extra |= {"aiming": newest is not None, "stop_words": "Stop reading"}
    scene.extra["reflects"] = scene.tuning.display.technology == "projector"
    if newest is None:
        last = scene.tuning.passes.filter(purpose=PassPurpose.AIM).select_related("correction").order_by("-created_at").first()
        if last is None or timezone.now() - last.created_at > AIM_KEPT:
            return
        newest = last
    rows = list(Reading.objects.filter(pass_of=newest).order_by("id").only("id", "x", "y", "z", "too_dark", "pass_of"))
    values = [0.0 if row.too_dark else row.y for row in rows]
    if not values:
        return
    # Single readings wander: the mean of the last few is held against the best such mean.
    means = np.convolve(values, np.full(STEADY, 1.0 / STEADY), mode="valid") if len(values) >= STEADY else np.array(values)
    best = float(means.max())
    share = float(means[-1]) / best if best > 0 else 0.0
    scene.extra |= {
        "now": values[-1],
        "best": best,
        "share": 100.0 * share,
        "aimed": share >= AIMED and _came_back(means, best),
        "moved": _came_back(means, best),
        "aim_count": len(values),
        "stop_words": "It is aimed: stop reading" if share >= AIMED and _came_back(means, best) else "Stop reading",
        "aim_svg": mark_safe(aim_chart.draw(values, best=best, close=AIMED, title="Luminance while the meter is aimed")),
    }


def _came_back(means: Any, best: float) -> bool:
    """Whether the meter was led away from where it reads best, and back: else nobody knows of a better place beside it."""
    gone = np.flatnonzero(means <= LED_AWAY * best)
    return bool(gone.size) and bool((means[: gone[-1]] >= AIMED * best).any())


def _correction(scene: Scene) -> None:
    tuning, now = scene.tuning, timezone.now()
    scene.extra |= {
        "fits": fits(tuning, now),
        "others": [d for d in _of_firm(scene, DeviceRole.METER) if d.pk != tuning.meter_id],
        "methods": METHODS,
        "average": AVERAGE,
        "moving": moving_controls(tuning),
        "is_reference": tuning.meter is not None and tuning.meter.facts.get("kind") == "spectroradiometer",
    }
    running = _newest(scene, PassPurpose.CORRECTION)
    if running is not None and (
        running.is_open or (running.readings.exists() and _fresh(running, now) and not _is_kept(scene, running))
    ):
        _draft(scene, running)
        return
    made = tuning.correction
    if made is not None:
        full = Correction.objects.get(pk=made.pk)
        sides = sides_of(full.rows)
        rows = beside(sides, full.matrix)
        scene.extra |= {
            "made": full, "rows": rows, "sizes": sizes(rows), "misfit": misfit(full, tuning, now),
            "svg": picture(rows, sides, full.bits, full.range),
        }  # fmt: skip


def _fresh(pass_: Pass, now: Any) -> bool:
    """Whether a pass of which nothing was kept is still of use: not one of another day, and not one that was set aside."""
    return now - pass_.created_at < DRAFT_KEPT and not Comparison.objects.filter(pass_of=pass_, set_aside=True).exists()


def _is_kept(scene: Scene, pass_: Pass) -> bool:
    """Whether it was kept: then what is in force is what is shown, unless another method for it is asked for."""
    return not scene.options.get("method") and Correction.objects.filter(from_pass=pass_).exists()


def _alone(row: Reading) -> dict[str, Any]:
    total = row.x + row.y + row.z or 1.0
    return {"label": row.label, "too_dark": row.too_dark, "y": row.y, "cx": row.x / total, "cy": row.y / total}


def _reader(pass_: Pass, scene: Scene) -> str:
    """Return which meter reads next."""
    at = scene.progress.done if scene.progress is not None else 0
    return str(pass_.patches[at].get("by", "meter")) if at < len(pass_.patches) else "meter"


def _draft(scene: Scene, pass_: Pass) -> None:
    pass_.tuning = scene.tuning
    readings = list(pass_.readings.order_by("id"))
    draft = draft_of(pass_, scene.options.get("method"), readings)
    rows = beside(draft.sides, None if draft.made is None else draft.made.matrix, crossed_of(draft))
    scene.extra |= {
        "draft": draft, "rows": rows, "sizes": sizes(rows),
        "svg": picture(rows, draft.sides, pass_.bits, pass_.range) if rows else "",
        "alone": [] if rows else [_alone(row) for row in readings],
        "can_mix": len(draft.sides.labels) > 6,
        "changing": bool(pass_.state == "paused" and pass_.reason and "in its place" in pass_.reason),
        "reader": (pass_.reference if pass_.reference is not None and _reader(pass_, scene) == "reference" else pass_.meter).name,
        "beside_white": _beside_white(draft, is_hdr=scene.tuning.target.is_hdr),
    }  # fmt: skip


def _beside_white(draft: Draft, *, is_hdr: bool) -> str:
    """Return what red, green and blue together are beside white, and what that means; nothing until it is known."""
    if draft.additivity is None:
        return ""
    off = f"Red, green and blue together are {100 * draft.additivity:.1f} % off white"
    if draft.less and is_hdr:
        return f"{off}: an HDR display ends at full drive. That says nothing against the correction."
    if draft.less:
        return f"{off}, which is less than they are: something dims it."
    return f"{off}: white has light of its own, which the four-colour method holds exactly." if draft.not_the_sum else f"{off}."


pages["instruments"] = Page(fill, "instruments/field.html", "instruments/hand.html")
