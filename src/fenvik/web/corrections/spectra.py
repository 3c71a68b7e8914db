"""Spectra of a display's lights by a meter that gives them: read once a visit, drawn, and what other observers make of them."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from django.conf import settings
from django.db import transaction

from fenvik.core.colour.observers import Peak, SpectrumError, offset_for, on_grid, peak_of, white_for
from fenvik.core.colour.science import OBSERVERS
from fenvik.core.errors import FenvikError
from fenvik.core.signal.decoding import encode
from fenvik.core.signal.patches import full_colours, grey
from fenvik.core.types import Floats
from fenvik.link.devices import Meter, Source
from fenvik.web.corrections.models import Spectra
from fenvik.web.devices.leases import see_free
from fenvik.web.devices.services import locate
from fenvik.web.kit.notify import notify
from fenvik.web.passes.models import Pass
from fenvik.web.passes.sending import fine_enough, signal_of
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

LIGHTS = ("red", "green", "blue")


class NoSpectraError(FenvikError):
    """A meter or source that cannot do it, or that is in use."""

    code = "no_spectra"


@dataclass(frozen=True)
class Look:
    """Spectra as they are shown: white and the three lights at WAVELENGTHS_NM, their peaks, and the whites of other observers.

    ``whites``: observer, the x y of 1931 that the display must stand at for them, and that as an offset in u′v′ from D65.
    """

    curves: dict[str, Floats]
    peaks: list[tuple[str, Peak]]
    whites: list[tuple[str, tuple[float, float], tuple[float, float]]]


def gives_spectra(tuning: Tuning) -> bool:
    """Whether the tuning's meter gives spectra."""
    meter = tuning.meter
    return meter is not None and not meter.is_keyed and "spectrum" in meter.facts.get("features", [])


def _seen_free(tuning: Tuning) -> None:
    see_free(tuning)
    meter, source = tuning.meter, tuning.source
    if not gives_spectra(tuning) or meter is None:
        raise NoSpectraError("Choose a meter that gives spectra under Instruments first.")
    if source is None or source.is_keyed or "screen" in source.facts:
        raise NoSpectraError("Spectra are read with a source on the link: it shows white, red, green and blue by itself.")
    busy = Pass.objects.filter(finished_at__isnull=True)
    if busy.filter(meter=meter).exists() or busy.filter(source=source).exists():
        raise NoSpectraError("A pass is using these instruments. Stop it or let it end first.")


@needs(Right.MEASURE, "read spectra")
def read_spectra(*, tuning_id: int, actor: User, now: datetime) -> Spectra:
    """Read the spectra of white, red, green and blue. Raises NoSpectraError, SpectrumError, and what the lines raise."""
    related = ("meter__firm", "source__firm", "display__link__pairing")
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related(*related).get(pk=tuning_id)
    _seen_free(tuning)
    signal, range_ = signal_of(tuning), "full" if tuning.range == "full" else "limited"
    fine_enough(tuning)
    assert tuning.meter is not None
    assert tuning.source is not None
    patches = [grey(100.0, tuning.bits, range_), *full_colours(100.0, tuning.bits, range_)[:3]]  # type: ignore[arg-type]
    surround = [int(code) for code in encode([tuning.surround] * 3, tuning.bits, range_)]  # type: ignore[arg-type]
    expected = max(seconds for _, seconds in tuning.meter.facts["typical"])
    rows: list[dict[str, Any]] = []
    with locate(tuning.source) as shown, locate(tuning.meter) as seen:
        source, meter = Source(shown), Meter(seen)
        source.signal(
            format_=signal.format, colorimetry=signal.colorimetry, bits=tuning.bits, range_=tuning.range,
            frame_rate=tuning.frame_rate or tuning.source.facts["frame_rates"][-1], mastering=signal.mastering,
        )  # fmt: skip
        for name, patch in zip(("white", *LIGHTS), patches, strict=True):
            source.patch(patch.rgb, window=tuning.window, surround=surround)
            read = meter.read(expected_s=expected, slack_s=settings.LINK_SLACK_S, spectrum=True)
            assert read.spectrum is not None
            start, step, values = read.spectrum
            on_grid(start, step, values)
            rows.append({"label": name, "start_nm": start, "step_nm": step, "values": list(values), "xyz": list(read.xyz)})
        source.blank()
    with transaction.atomic():
        made = Spectra.objects.create(tuning=tuning, meter=tuning.meter, rows=rows, at=now, by=actor)
        notify(tuning.pk)
    return made


def newest_of(tuning: Tuning) -> Spectra | None:
    """Return the newest spectra of a tuning's display in its mode."""
    found: Spectra | None = Spectra.objects.filter(tuning=tuning).select_related("meter").order_by("-at", "-id").first()
    return found


def _curves(spectra: Spectra) -> dict[str, Floats]:
    return {row["label"]: on_grid(row["start_nm"], row["step_nm"], row["values"]) for row in spectra.rows}


def lights_of(spectra: Spectra) -> Floats:
    """Return the spectra of red, green and blue, shape (3, 401)."""
    curves = _curves(spectra)
    return np.array([curves[name] for name in LIGHTS])


def look_at(spectra: Spectra) -> Look:
    """Return what spectra show."""
    curves, lights = _curves(spectra), lights_of(spectra)
    whites = []
    for name in OBSERVERS:
        try:
            whites.append((name, white_for(lights, name), offset_for(lights, name)))
        except SpectrumError:
            continue
    return Look(curves, [(name, peak_of(curves[name])) for name in LIGHTS], whites)
