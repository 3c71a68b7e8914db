"""At which levels the two ends of the white balance are worked: in HDR below the light from which the display rolls off."""

from fenvik.core.colour import curves
from fenvik.core.models.palette import SDR, Palette, palette_for
from fenvik.web.adjusting.models import Workplace
from fenvik.web.passes.sending import stage_of
from fenvik.web.visits.models import Place, Tuning

FOLLOWS = 0.5  # of the peak: up to there a display follows PQ, and a gain does what it does
HLG_TOP = 75.0  # percent of signal: HLG's own reference white


def placed(tuning: Tuning, person_id: int) -> Tuning:
    """Give a loaded tuning the place at which a person works at it, and return it."""
    kept = Workplace.objects.filter(tuning=tuning.pk, person=person_id).first()
    tuning.place = Place() if kept is None else Place(kept.high, kept.low, kept.end)
    return tuning


def highest(tuning: Tuning) -> float:
    """Return the highest level in percent that can be worked at: 100, in HDR what half of the peak is."""
    stage = stage_of(tuning)
    if stage is None:
        return 100.0
    if stage.target.curve == "hlg":
        return HLG_TOP
    return 100.0 * float(curves.pq_inverse(FOLLOWS * stage.peak))


def palette_of(tuning: Tuning) -> Palette:
    """Return by which patches greys and colours of a tuning are judged: in HDR for the peak and black that were read last."""
    stage = stage_of(tuning)
    if stage is None:
        return SDR
    told = tuning.passes.filter(summary__black__isnull=False, removed_at__isnull=True)
    black = told.order_by("-created_at").values_list("summary__black", flat=True).first()
    return palette_for(tuning.target, stage.peak, float(black or 0.0))


def ends_of(tuning: Tuning) -> tuple[float, float]:
    """Return the high and the low level in percent: as chosen, but never above ``highest``."""
    top = highest(tuning)
    high = tuning.place.high if tuning.place.high <= top else max(5.0 * (top // 5.0), 5.0)
    low = tuning.place.low if tuning.place.low < high else max(5.0 * (0.5 * high // 5.0), 2.0)
    return high, low


def working(tuning: Tuning) -> float:
    """Return the level in percent that is worked at now."""
    high, low = ends_of(tuning)
    return high if tuning.place.end == "high" else low
