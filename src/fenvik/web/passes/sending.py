"""What a tuning's next pass sends and reads: its signal, its patches, the light that they are placed for."""

from dataclasses import dataclass

from fenvik.core.colour.space import P3D65
from fenvik.core.signal.lists import Plan, put_together
from fenvik.core.signal.shown import Shown
from fenvik.core.signal.stage import Stage
from fenvik.web.devices.models import Device
from fenvik.web.passes.models import PICTURES, Pass, PatchList
from fenvik.web.passes.refusals import NotMeasurableError
from fenvik.web.visits.models import Tuning


@dataclass(frozen=True)
class SignalSent:
    """What a source is asked to send: the format and colorimetry by the device link's names, HDR's mastering in cd/m²."""

    format: str = "sdr"
    colorimetry: str = "bt709"
    mastering: dict[str, float] | None = None


def signal_of(tuning: Tuning) -> SignalSent:
    """Return the signal that a tuning is measured with. Raises NotMeasurableError where its source does not send it."""
    source = tuning.source
    if source is not None and tuning.signal not in source.facts.get("formats", ["sdr"]):
        raise NotMeasurableError(
            f"{source.name} does not send {tuning.get_signal_display()}. Choose a source that does under Instruments; "
            "nothing was started."
        )
    if tuning.signal == "sdr":
        return SignalSent(colorimetry="p3d65" if tuning.target.primaries == P3D65 else "bt709")
    if tuning.signal == "hlg":
        return SignalSent(tuning.signal, "bt2020")
    most = tuning.max_cll or tuning.mastered
    mastering = {
        "max": tuning.mastered, "min": tuning.mastered_least, "max_cll": most, "max_fall": min(400.0, most),
    }  # fmt: skip
    return SignalSent(tuning.signal, "bt2020", mastering)


def fine_enough(tuning: Tuning) -> None:
    """Give an HDR tuning the ten bits that PQ and HLG want, where its source has them; eight would show steps."""
    bits = [] if tuning.source is None else tuning.source.facts.get("bits", [])
    if tuning.signal != "sdr" and tuning.bits == 8 and 10 in bits:
        tuning.bits = 10
        tuning.save(update_fields=["bits"])


def can_draw(source: Device | None, chart: str) -> bool:
    """Whether a source can show a chart of the library."""
    return source is not None and (source.is_keyed or "screen" in source.facts or chart in source.facts.get("charts", []))


def planned(tuning: Tuning) -> list[Shown]:
    """Return what a tuning's next pass reads."""
    told = tuning.lists
    own: list[tuple[str, tuple[float, float, float]]] = []
    for kept in PatchList.objects.of_firm(tuning.visit.firm_id).filter(pk__in=told.get("own", [])).order_by("name"):
        own += [(row["label"], tuple(row["percent"])) for row in kept.patches]
    plan = Plan(tuple(told.get("chosen", [])), tuple(own), int(told.get("drift_every", 0)), told.get("options", {}))
    return put_together(plan, tuning.bits, "full" if tuning.range == "full" else "limited", stage_of(tuning))


TAKEN_PEAK = 500.0  # cd/m², of a display in HDR while nothing of it has been read


def stage_of(tuning: Tuning) -> Stage | None:
    """Return what the colours of an HDR tuning are placed for: the peak that was read last; None for SDR."""
    target = tuning.target
    if not target.is_hdr:
        return None
    told = tuning.passes.filter(purpose__in=PICTURES, summary__white__isnull=False, removed_at__isnull=True)
    newest = told.order_by("-created_at").values_list("summary", flat=True)[:3]
    read = [s["white"] for s in newest if s is not None and s.get("hdr")]
    return Stage(target, float(read[0] if read else tuning.luminance or TAKEN_PEAK))


def read_already(pass_: Pass) -> set[int]:
    """Return the patches that need no reading: those that have one, but for those that are wanted once more since."""
    newest: dict[int, int] = {}
    for index, pk in pass_.readings.order_by("id").values_list("index", "id"):
        newest[index] = pk
    again = dict(pass_.marks.filter(again_after__isnull=False).values_list("index", "again_after"))
    return {index for index, pk in newest.items() if pk > (again.get(index) or -1)}
