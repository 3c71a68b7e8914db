"""In which mode, signal and input a paired display stands, seen before anything is set or read: a clash stops it."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from fenvik.core.errors import FenvikError
from fenvik.core.groundwork import signal_clash
from fenvik.link.display import LinkedDisplay, PictureMode, find_mode, modes_told_apart
from fenvik.web.clients.models import Display
from fenvik.web.devices.displays import link_of, look, paired
from fenvik.web.devices.leases import see_free
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning


class WrongStateError(FenvikError):
    """The display stands otherwise than the tuning that is worked on. ``mend`` is the act that sets it right, or empty."""

    code = "wrong_state"

    def __init__(self, words: str, mend: str = "") -> None:
        super().__init__(words)
        self.mend = mend


def said_modes(said: dict[str, Any] | None) -> list[PictureMode]:
    """Return the modes that a display once said it has; none where it was never asked."""
    return [PictureMode(m["id"], m["label"], tuple(m.get("signals") or ())) for m in (said or {}).get("modes") or []]


def mode_of(tuning: Tuning, modes: Sequence[PictureMode]) -> str:
    """Return the display's own name of a tuning's mode: as it was read once, else of the mode that is called so; empty for none."""
    found = None if tuning.mode_id else find_mode(modes, tuning.picture_mode, tuning.signal)
    return tuning.mode_id if found is None else found.id


def clash_of(tuning: Tuning, said: dict[str, Any]) -> tuple[str, str]:
    """Return in a sentence what does not fit in what a display said of itself, and the act that mends it; empty where it fits.

    ``said``: mode, signal, input as told now, ``modes`` as told once, and ``input_before`` where readings were taken before.
    """
    modes = said_modes(said)
    wanted = mode_of(tuning, modes)
    playing = said.get("signal")
    if playing and playing != tuning.signal:
        return signal_clash(tuning.signal, playing) or f"The display shows another signal than {tuning.get_signal_display()}.", ""
    if wanted and said.get("mode") and said["mode"] != wanted:
        called = modes_told_apart(modes)
        shown, meant = called.get(said["mode"], said["mode"]), called.get(wanted, tuning.picture_mode)
        return f"The display is in {shown}; this tuning is for {meant}.", "choose-mode"
    before = said.get("input_before")
    if before and said.get("input") and said["input"] != before:
        return f"The display shows {said['input']}; this tuning was read on {before}.", "accept"
    return "", ""


def input_before(tuning: Tuning) -> str:
    """Return the input on which a tuning was read last; empty where it is not known."""
    told = tuning.passes.exclude(circumstance__display_input="").filter(circumstance__isnull=False)
    return told.order_by("-created_at").values_list("circumstance__display_input", flat=True).first() or ""


def see(tuning: Tuning, line: LinkedDisplay, *, before: str | None = None) -> dict[str, Any]:
    """Return how a display stands, asked over its line. Raises WrongStateError where that does not fit the tuning.

    ``before``: the input that it is to show; empty for any, None for the one on which the tuning was read last.
    """
    state = line.state()
    said = {"mode": state.mode, "signal": state.signal, "input": state.input}
    modes = (tuning.display.said or {}).get("modes") or [
        {"id": mode.id, "label": mode.label, "signals": list(mode.signals)} for mode in line.modes()
    ]
    told = said | {"modes": modes, "input_before": input_before(tuning) if before is None else before}
    words, mend = clash_of(tuning, told)
    if words:
        raise WrongStateError(words, mend)
    return said


@needs(Right.MEASURE, "chose a picture mode over the link")
def choose_mode(*, tuning_id: int, actor: User, now: datetime) -> Tuning:
    """Let a paired display show a tuning's mode, and look how it stands then. Raises WrongStateError and what ``paired`` raises."""
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("display__room__client", "display__link__pairing")
        .get(pk=tuning_id)
    )
    see_free(tuning, mends=True)
    with paired(tuning.display) as line:
        wanted = mode_of(tuning, line.modes())
        if not wanted:
            raise WrongStateError(f"{tuning.display.name} has no mode called {tuning.picture_mode}: choose one under Target.")
        line.choose(wanted)
    look(tuning=tuning, now=now)
    return tuning


def is_paired(display: Display) -> bool:
    """Whether a display can be asked how it stands."""
    device = link_of(display)
    return device is not None and bool(getattr(getattr(device, "pairing", None), "token", ""))
