"""A display that takes light away from a picture that stands still: something is turned and turned back, and it wakes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fenvik.core.procedures.samelight import gives_as_much, is_as_it_was, turned_back
from fenvik.core.procedures.steps import OtherLightError, Procedure

if TYPE_CHECKING:
    from fenvik.core.procedures.desk import Desk

AWAKE_FOR = 8  # readings after something was turned; it fades before anybody has seen that it does
HARMLESS = ("white.gain", "white.offset", "white.at", "light", "colour")  # roles, by what they begin with: what is turned for it


def stir(desk: Desk) -> Procedure[bool]:
    """Turn a control by one step and back again; return whether there was one that let that be done."""
    for start in HARMLESS:
        for control in desk.controls:
            if control["kind"] != "range" or not str(control.get("role")).startswith(start):
                continue
            stands, step = control["value"], control["step"]
            other = stands + step if stands + step <= control["max"] else stands - step
            if control["id"] in desk.refused or (yield from desk.set(control, other)) == stands:
                continue
            yield from desk.set(control, stands)
            desk.still = 0
            return True
    return False


def woken(desk: Desk, problem: OtherLightError) -> Procedure[bool]:
    """Return whether the light is as it was once something was turned; then that is done every few readings from now on."""
    if desk.by_hand or desk.drowsy or not (yield from stir(desk)):
        return False
    is_true, _ = yield from turned_back(desk, problem.was, is_as_it_was(desk, [problem.was], gives_as_much))
    if is_true:
        desk.drowsy = True
        how = "something is turned and turned back now and then"
        desk.notes.append(f"The display takes light from a picture that stands still, so {how}.")
    return is_true


def kept_awake(desk: Desk) -> Procedure[None]:
    """Count a reading; wake a display that is known to fade, where nothing was turned for some of them."""
    now = [control["value"] for control in desk.controls]
    desk.still, desk.stood = desk.still + 1 if desk.stood == now else 0, now
    if desk.drowsy and desk.still >= AWAKE_FOR:
        yield from stir(desk)
