"""Which modes of a display share a setting: found out by turning one and looking in the others."""

from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.link.display import LinkedDisplay
from fenvik.web.clients.models import Display
from fenvik.web.controls.values import NoModeError
from fenvik.web.devices.displays import paired
from fenvik.web.devices.leases import hold
from fenvik.web.kit.notify import notify
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

WANTED = ("white.", "gamma", "light", "white-level", "black-level", "saturation", "tint", "gamut", "white-preset", "process.")
ONE_OF = 3  # of many controls of one kind, such as points: what holds for the first of them holds for all


class SharingError(FenvikError):
    """Sharing that cannot be found out."""

    code = "sharing"


def _other(control: dict[str, Any]) -> Any:
    """Return another value that a control may have, as near as can be; None where it has one alone."""
    value = control["value"]
    if control["kind"] == "switch":
        return not value
    if control["kind"] == "choice":
        return next((option for option in control["options"] if option != value), None)
    step = float(control["step"])
    return value + step if value + step <= float(control["max"]) else value - step


def _probed(controls: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return the controls that are turned for it: of each kind the first few."""
    made: list[dict[str, Any]] = []
    kinds: dict[str, int] = {}
    for control in controls:
        role = control.get("role") or ""
        if not role.startswith(WANTED):
            continue
        kind = ".".join(role.split(".")[:2])
        kinds[kind] = kinds.get(kind, 0) + 1
        if kinds[kind] <= ONE_OF:
            made.append(control)
    return made


def _look(line: LinkedDisplay, modes: list[str]) -> dict[str, dict[str, Any]]:
    return {mode: {c["id"]: c["value"] for c in line.controls(mode)} for mode in modes}


@needs(Right.MEASURE, "found out which modes share settings")
def find_shared(*, tuning_id: int, actor: User, now: datetime) -> dict[str, list[str]]:
    """Turn controls of a tuning's mode by a step, look into every other mode, and turn them back; return the modes by control.

    What is found is kept with the display. Raises NoModeError, and what ``paired`` and ``hold`` raise; what was turned is turned
    back whatever ends it.
    """
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("display__menu_map", "display__room__client", "display__link__pairing")
        .get(pk=tuning_id)
    )
    if not tuning.mode_id:
        raise NoModeError("Read the menu from the display first, so that its own name of this mode is known.")
    found: dict[str, list[str]] = {}
    with hold(tuning, actor) as held, paired(tuning.display) as line:
        modes = {m.id: m.label for m in line.modes()}
        others = [mode for mode in modes if mode != tuning.mode_id]
        if not others:
            raise SharingError("This display has one mode alone.")
        for control in _probed(line.controls(tuning.mode_id)):
            other = _other(control)
            if other is None:
                continue
            with transaction.atomic():
                held.go_on()
            before = _look(line, others)
            try:
                line.set(tuning.mode_id, control["id"], other)
                after = _look(line, others)
            finally:
                line.set(tuning.mode_id, control["id"], control["value"])
            moved = [mode for mode in others if before[mode].get(control["id"]) != after[mode].get(control["id"])]
            for mode, values in (_look(line, moved) if moved else {}).items():
                if values.get(control["id"]) != before[mode].get(control["id"]):
                    line.set(mode, control["id"], before[mode][control["id"]])  # it followed there, and not back
            found[control["id"]] = [modes[mode] for mode in moved]
    kept = {"mode": tuning.picture_mode, "controls": found, "on": f"{now:%Y-%m-%d}"}
    Display.objects.filter(pk=tuning.display_id).update(shared=kept)
    notify(tuning.pk)
    return found


def words_of(display: Display) -> list[str]:
    """Return in sentences what is known of sharing: the controls that other modes share, by the modes."""
    told = display.shared or {}
    menu = display.menu_map
    labels = {c["id"]: c["label"] for c in (menu.controls if menu else [])}
    by_modes: dict[tuple[str, ...], list[str]] = {}
    for control, modes in (told.get("controls") or {}).items():
        by_modes.setdefault(tuple(modes), []).append(labels.get(control, control))
    made = []
    for modes, names in by_modes.items():
        listed = ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
        if modes:
            made.append(f"Turned in {told['mode']}, turned in {', '.join(modes)} too: {listed}.")
        else:
            made.append(f"{told['mode']} has values of its own for {listed}.")
    return made
