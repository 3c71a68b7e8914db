"""What a display shows while a run works at it: another signal is sent again, another input only a person can set right."""

import time
from collections.abc import Callable

from fenvik.core.groundwork import signal_clash
from fenvik.core.procedures.steps import Standing
from fenvik.link.display import LinkedDisplay

ARRIVES_S, AGAIN_S = 6.0, 0.5  # until a signal that was sent again is there; how often that is looked at


def standing(display: LinkedDisplay, mode: str, *, signal: str, on: str, send_again: Callable[[], None]) -> Standing:
    """Return how a display stands in a mode, which is chosen again where it was left. Raises LinkFault, DeviceError.

    ``signal``: the one that is sent, and is sent again where another is shown. ``on``: the input that is to be shown, empty
    for any.
    """
    state, sent_again = display.state(), False
    if _is_another(signal, state.signal):
        send_again()
        sent_again = True
        end = time.monotonic() + ARRIVES_S
        while _is_another(signal, (state := display.state()).signal) and time.monotonic() < end:
            time.sleep(AGAIN_S)
    clash = signal_clash(signal, state.signal) if _is_another(signal, state.signal) else ""
    if on and state.input and state.input != on:
        clash = f"The display shows {state.input}; what was read before was read on {on}."
    left = not clash and state.mode not in (None, mode)  # none while a signal is only arriving
    if left:
        display.choose(mode)
    return Standing({c["id"]: c["value"] for c in display.controls(mode)}, left, sent_again and not clash, clash)


def _is_another(wanted: str, shown: str | None) -> bool:
    return shown not in (None, "", wanted)
