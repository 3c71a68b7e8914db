"""A display that takes light away from a picture that stands still: something is turned and turned back, and it wakes."""

from fenvik.core.procedures.stand import Stand
from fenvik.core.procedures.steps import Procedure

AWAKE_FOR = 8  # readings after something was turned; it fades before anybody has seen that it does
HARMLESS = ("white.gain", "white.offset", "white.at", "light", "colour")  # roles, by what they begin with: what is turned for it


def stir(stand: Stand) -> Procedure[bool]:
    """Turn a control by one step and back again; return whether there was one that let that be done."""
    for start in HARMLESS:
        for control in stand.controls:
            if control["kind"] != "range" or not str(control.get("role")).startswith(start):
                continue
            stands, step = control["value"], control["step"]
            other = stands + step if stands + step <= control["max"] else stands - step
            if control["id"] in stand.refused or (yield from stand.set(control, other)) == stands:
                continue
            yield from stand.set(control, stands)
            stand.still = 0
            return True
    return False


def kept_awake(stand: Stand) -> Procedure[None]:
    """Count a reading; wake a display that is known to fade, where nothing was turned for some of them."""
    now = [control["value"] for control in stand.controls]
    stand.still, stand.stood = stand.still + 1 if stand.stood == now else 0, now
    if stand.is_drowsy and stand.still >= AWAKE_FOR:
        yield from stir(stand)
