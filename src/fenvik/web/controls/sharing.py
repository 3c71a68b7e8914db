"""Which modes and inputs share a setting: found out by turning one and looking in the other modes, and by reading at each input."""

from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.link.display import LinkedDisplay, modes_told_apart
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
        modes = modes_told_apart(line.modes())
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
    with transaction.atomic():
        display = Display.objects.select_for_update(of=("self",)).get(pk=tuning.display_id)
        display.shared = (display.shared or {}) | kept
        display.save(update_fields=["shared"])
    notify(tuning.pk)
    return found


@needs(Right.MEASURE, "read a display's settings at an input")
def look_at_input(*, tuning_id: int, actor: User, now: datetime) -> str:
    """Read the settings of a tuning's mode at the input that is watched, keep them beside those of others; return its name.

    The link chooses no input: a person switches, and this is asked again. Raises NoModeError, SharingError, and as ``paired``.
    """
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("display__menu_map", "display__room__client", "display__link__pairing")
        .get(pk=tuning_id)
    )
    if not tuning.mode_id:
        raise NoModeError("Read the menu from the display first, so that its own name of this mode is known.")
    with paired(tuning.display) as line:
        watched = line.state().input
        controls = line.controls(tuning.mode_id)
    if not watched:
        raise SharingError("The display does not say which input is watched.")
    told = {c["id"]: {"is": c["value"], "usual": c.get("default")} for c in controls}
    with transaction.atomic():
        display = Display.objects.select_for_update(of=("self",)).get(pk=tuning.display_id)
        kept = display.shared or {}
        inputs = {name: values for name, values in (kept.get("inputs") or {}).items() if name != watched}
        display.shared = kept | {"inputs": inputs | {watched: told}, "inputs_on": f"{now:%Y-%m-%d}"}
        display.save(update_fields=["shared"])
        notify(tuning.pk)
    return str(watched)


def inputs_of(display: Display) -> list[str]:
    """Return in sentences which settings inputs share: told where a value is not the maker's, or not the same at both."""
    told = display.shared or {}
    inputs = list((told.get("inputs") or {}).items())
    if len(inputs) < 2:
        return [f"Settings read at {name}. Switch to another input and read them there." for name, _ in inputs]
    menu = display.menu_map
    labels = {c["id"]: c["label"] for c in (menu.controls if menu else [])}
    (one, first), (other, second) = inputs[-2:]
    both = [name for name in first if name in second]
    apart = [name for name in both if first[name]["is"] != second[name]["is"]]
    shared = [name for name in both if name not in apart and first[name]["is"] != first[name]["usual"]]
    rest = len(both) - len(apart) - len(shared)
    made = []
    if apart:
        made.append(f"{one} and {other} keep apart: {_listed([labels.get(n, n) for n in apart])}.")
    if shared:
        made.append(f"They share: {_listed([labels.get(n, n) for n in shared])}.")
    if rest:
        made.append(f"{rest} more stand at the maker’s values at both, so nothing is told of them.")
    return made


def _listed(names: list[str]) -> str:
    return ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")


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
        listed = _listed(names)
        if modes:
            made.append(f"Turned in {told['mode']}, turned in {', '.join(modes)} too: {listed}.")
        else:
            made.append(f"{told['mode']} has values of its own for {listed}.")
    return made
