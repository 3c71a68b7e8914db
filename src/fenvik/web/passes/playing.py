"""Letting a source send the signal that a tuning is for, before anything is measured."""

from datetime import datetime

from fenvik.link.devices import Source
from fenvik.link.faults import DeviceError
from fenvik.web.devices.displays import link_of, look
from fenvik.web.devices.leases import see_free
from fenvik.web.devices.services import locate
from fenvik.web.passes.refusals import NotMeasurableError
from fenvik.web.passes.sending import fine_enough, signal_of
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning


@needs(Right.MEASURE, "let a source play a signal")
def play_signal(*, tuning_id: int, actor: User, now: datetime) -> str:
    """Let the source send a tuning's signal with a black picture, and look how the display stands then; return what is sent.

    Raises NotMeasurableError without a source that can, and what its line raises.
    """
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("display__room__client", "display__link__pairing", "source")
        .get(pk=tuning_id)
    )
    source = tuning.source
    if source is None or source.is_keyed or "screen" in source.facts:
        raise NotMeasurableError("Only a source on the link can be told what to send. Play it by hand, and say so below.")
    see_free(tuning)
    sent = signal_of(tuning)
    fine_enough(tuning)
    with locate(source) as connection:
        line = Source(connection)
        try:
            line.signal(
                format_=sent.format, colorimetry=sent.colorimetry, bits=tuning.bits, range_=tuning.range,
                frame_rate=tuning.frame_rate or source.facts["frame_rates"][-1], mastering=sent.mastering,
            )  # fmt: skip
        except DeviceError as refusal:
            if refusal.number != DeviceError.SIGNAL:
                raise
            raise NotMeasurableError(f"{source.name} does not send {tuning.get_signal_display()} like that: {refusal}") from refusal
        line.blank()
    device = link_of(tuning.display)
    if device is not None and hasattr(device, "pairing"):
        look(tuning=tuning, now=now)
    return f"{source.name} sends {tuning.get_signal_display()}, {sent.colorimetry.upper().replace('BT', 'BT.')}, {tuning.bits} bit."
