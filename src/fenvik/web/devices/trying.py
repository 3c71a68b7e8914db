"""Trying a device out by itself: does it answer, and what does it say."""

from datetime import datetime
from typing import Any

from django.conf import settings

from fenvik.core.errors import FenvikError
from fenvik.core.measure.modulation import words
from fenvik.link.devices import Device as Linked
from fenvik.link.devices import Meter, Source
from fenvik.link.faults import DeviceError
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.devices.services import facts_of, locate

WINDOW = 10.0


def try_out(*, device: Device, now: datetime) -> dict[str, Any]:
    """Ask a device for one thing that it is for, and remember what it said; what is wrong is said in words.

    A meter reads once, a source shows a white window, a display says what it is. Nothing is raised: not answering is a result.
    """
    try:
        said = _ask(device)
        told = {"right": True, "says": said}
    except FenvikError as problem:
        told = {"right": False, "says": str(problem)}
    told["at"] = now.isoformat()
    device.tried = told
    if told["right"]:
        device.seen_at = now
    device.save(update_fields=["tried", "seen_at", "facts"])
    return told


def _ask(device: Device) -> str:
    if device.is_keyed:
        return "A person does what this one does: there is nothing to try."
    with locate(device) as connection:
        described = Linked(connection).describe()
        device.facts = facts_of(described)
        if device.role == DeviceRole.SOURCE:
            top = {8: 235, 10: 940, 12: 3760}
            bits = min(device.facts["bits"])
            source = Source(connection)
            source.signal(
                format_="sdr",
                colorimetry="bt709",
                bits=bits,
                range_="limited",
                frame_rate=device.facts["frame_rates"][-1],
            )
            source.patch([top[bits]] * 3, window=WINDOW)
            return f"It shows a white window of {WINDOW:g} % of the screen, {bits} bit: look whether the display does."
        if device.role == DeviceRole.METER:
            expected = max(seconds for _, seconds in device.facts["typical"])
            try:
                got = Meter(connection).read(expected_s=expected, slack_s=settings.LINK_SLACK_S)
            except DeviceError as refusal:
                if refusal.number == DeviceError.TOO_DARK:
                    return f"It answers, and says that it is too dark to read: below {device.facts['floor']:g} cd/m²."
                raise
            total = sum(got.xyz)
            place = f", x {got.xyz[0] / total:.4f} y {got.xyz[1] / total:.4f}" if total > 0 else ""
            return f"It reads {got.xyz[1]:.3g} cd/m²{place}, in {got.seconds:.2g} s."
        installs = ", ".join(sorted(device.facts["installs"])) or "nothing"
        return f"It answers: {device.facts['technology']}, firmware {described.firmware or 'not told'}; it can be given {installs}."


def read_refresh(*, device: Device) -> str:
    """Read a light's own frequency with a meter that can, and return what it means. Raises what the meter refuses."""
    if "refresh" not in device.facts.get("features", []):
        raise NoFeatureError(f"{device.name} cannot tell how often the light comes and goes.")
    with locate(device) as connection:
        return words(Meter(connection).refresh())


class NoFeatureError(FenvikError):
    """Something that a device has no feature for."""

    code = "no_feature"
