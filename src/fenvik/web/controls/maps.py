"""Menu maps of displays: from a shape, from an earlier visit, typed in blocks, read over the link."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.core.labels import told_apart
from fenvik.link.display import find_mode
from fenvik.web.clients.models import Display
from fenvik.web.controls.blocks import BlockError, block, joined, number_of
from fenvik.web.controls.models import MenuMap, Moment, Origin, SettingsSheet
from fenvik.web.controls.modes import hear_modes
from fenvik.web.controls.roles import role_of
from fenvik.web.controls.services import record_changes
from fenvik.web.controls.values import NoModeError, values_of
from fenvik.web.controls.wording import merged, read
from fenvik.web.devices.displays import paired
from fenvik.web.devices.leases import see_free
from fenvik.web.kit.notify import notify
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import WHOLE, Tuning


class MapMovedError(FenvikError):
    """Somebody else changed the map since this page was made."""

    code = "map_moved"


def _plain(controls: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return controls without what differs from mode to mode, named as they are over the link, whenever a map was kept."""
    return [{k: v for k, v in c.items() if k not in ("value", "default")} for c in told_apart(controls)]


def same_model(display: Display) -> list[MenuMap]:
    """Return the maps of other displays of the same maker and model, newest first."""
    return list(
        MenuMap.objects.of_firm(display.room.client.firm_id)
        .filter(maker__iexact=display.maker, model__iexact=display.model)
        .exclude(pk=display.menu_map_id or 0)
        .order_by("-changed_at")[:5]
    )


def _own_map(display: Display, firm_id: int, origin: str) -> MenuMap:
    """Return the map to change: the display's, or a new one where it has none."""
    if display.menu_map_id is None:
        display.menu_map = MenuMap.objects.create(
            firm_id=firm_id, maker=display.maker, model=display.model, controls=[], origin=origin
        )
        display.save(update_fields=["menu_map"])
    return MenuMap.objects.select_for_update().get(pk=display.menu_map_id or 0)


def _check_seen(menu: MenuMap, seen: str) -> None:
    if seen and seen != menu.changed_at.isoformat():
        raise MapMovedError(
            "Somebody has changed this menu map since the page was made. "
            "What you typed is still here: look at it once more and keep it again."
        )


@needs(Right.MEASURE)
@transaction.atomic
def add_block(*, display_id: int, actor: User, kind: str, typed: Mapping[str, str]) -> MenuMap:
    """Add a block of controls to a display's map. Raises BlockError."""
    display = Display.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=display_id)
    made = block(kind, typed)
    menu = _own_map(display, actor.firm_id, Origin.TYPED)
    menu.controls = joined(menu.controls, made)
    menu.save(update_fields=["controls", "changed_at"])
    return menu


@needs(Right.MEASURE, "typed a menu")
@transaction.atomic
def type_menu(*, display_id: int, actor: User, text: str, seen: str) -> MenuMap:
    """Let a display's map be what a text says, in its order; controls that stay keep what is known of them.

    Raises BlockError with the line that cannot be read, and MapMovedError.
    """
    display = Display.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=display_id)
    told = read(text)
    menu = _own_map(display, actor.firm_id, Origin.TYPED)
    if menu.controls:
        _check_seen(menu, seen)
    menu.controls = merged(menu.controls, told)
    menu.save(update_fields=["controls", "changed_at"])
    return menu


@needs(Right.MEASURE)
@transaction.atomic
def use_map(*, display_id: int, actor: User, map_id: int) -> MenuMap:
    """Let a display have the map of an earlier one."""
    display = Display.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=display_id)
    menu = MenuMap.objects.of_firm(actor.firm_id).get(pk=map_id)
    display.menu_map = menu
    display.save(update_fields=["menu_map"])
    return menu


def _changed(control: dict[str, Any], typed: Mapping[str, str], row: int) -> dict[str, Any]:
    def text(name: str) -> str:
        return str(typed.get(f"{name}-{row}", "")).strip()

    label = text("label")[:80]
    if not label:
        raise BlockError("A control needs the name that the menu gives it.", f"label-{row}")
    told = text("role")
    role = role_of(told)
    if told and role is None:
        raise BlockError(
            f"{label}: {told[:40]} is nothing that a control does. Choose one of the list, or leave it empty.",
            f"role-{row}",
        )
    made = {k: v for k, v in control.items() if k != "guessed"}  # somebody has looked at it now
    made |= {"label": label, "group": text("group")[:60] or control["group"], "role": role}
    if control["kind"] == "range":
        low, high, step = (
            number_of(text(name), f"{name}-{row}", f"{label}: {words}")
            for name, words in (("low", "the lowest"), ("high", "the highest"), ("step", "the step"))
        )
        if not low < high or not 0 < step <= high - low:
            raise BlockError(
                f"{label}: the highest value must be above the lowest, and the step fit into the range.", f"high-{row}"
            )
        made |= {"min": low, "max": high, "step": step}
        default = number_of(text("default"), f"default-{row}", f"{label}: the usual value") if text("default") else None
        made["default"] = default if default is None else min(max(default, low), high)
    elif control["kind"] == "choice":
        options = [o.strip() for o in text("options").split(",") if o.strip()]
        if len(options) < 2 or len({o.lower() for o in options}) != len(options):
            raise BlockError(
                f"{label}: a choice needs two or more different options, with commas between them.", f"options-{row}"
            )
        made["options"] = options
        made["default"] = control.get("default") if control.get("default") in options else None
    if (role or "").startswith("process."):
        off = text("off")
        if not off and control["kind"] != "switch":
            made.pop("off", None)  # which value means off is not known, and is not made up
        elif control["kind"] == "choice":
            if off not in made["options"]:
                raise BlockError(f"{label}: the value that means off is one of its options, or empty.", f"off-{row}")
            made["off"] = off
        elif control["kind"] == "switch":
            made["off"] = off.lower() in ("on", "true")
        else:
            made["off"] = number_of(off, f"off-{row}", f"{label}: the value that means off")
    else:
        made.pop("off", None)
    return made


@needs(Right.MEASURE, "changed a menu map")
@transaction.atomic
def change_map(*, display_id: int, actor: User, typed: Mapping[str, str], seen: str) -> MenuMap:
    """Change a whole map in one go; rows whose ``drop`` is set are left out. Raises BlockError, MapMovedError."""
    display = Display.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=display_id)
    menu = _own_map(display, actor.firm_id, Origin.TYPED)
    _check_seen(menu, seen)
    made = [_changed(c, typed, i) for i, c in enumerate(menu.controls) if not typed.get(f"drop-{i}")]
    roles = [c["role"] for c in made if c["role"]]
    twice = next((role for role in roles if roles.count(role) > 1), None)
    if twice:
        raise BlockError(f"Two controls have the role {twice}; only one can do what it says.", "role")
    menu.controls = made
    menu.save(update_fields=["controls", "changed_at"])
    return menu


@needs(Right.MEASURE, "read a menu over the link")
def read_over_link(*, tuning_id: int, actor: User, now: datetime) -> tuple[int, int]:
    """Read the menu and the settings of a tuning's mode from its display; return the number of controls and of differences.

    The first time it is the sheet as found; later, what differs from what Fenvik knows is logged as turned.
    Raises what ``paired`` raises, and NoModeError.
    """
    tuning = (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("display__room__client", "display__menu_map", "display__link")
        .get(pk=tuning_id)
    )
    see_free(tuning, by_hand=True)
    with paired(tuning.display) as line:
        modes, moved = hear_modes(tuning.display, line)
        mode_id = moved.get(tuning.mode_id, tuning.mode_id)
        chosen = read = next((m for m in modes if m.id == mode_id), None)
        if read is None or tuning.signal not in read.signals:  # the tuning may have been for another signal then
            chosen = find_mode(modes, tuning.picture_mode, tuning.signal) or read
        if chosen is None:
            raise NoModeError(
                f"{tuning.display.name} has no mode called {tuning.picture_mode}. "
                f"It has {', '.join(dict.fromkeys(m.label for m in modes))}: choose one under Target."
            )
        controls = line.controls(chosen.id)
    values = {c["id"]: c["value"] for c in controls}
    with transaction.atomic():
        display = Display.objects.select_for_update(of=("self",)).select_related("menu_map").get(pk=tuning.display_id)
        _keep_map(display, actor.firm_id, controls)
        locked = Tuning.objects.select_for_update(of=WHOLE).select_related("display__menu_map").get(pk=tuning_id)
        if locked.mode_id != chosen.id:
            locked.mode_id = chosen.id
            locked.save(update_fields=["mode_id"])
        known = values_of(locked)
        if known.found is None:
            SettingsSheet.objects.create(
                tuning=locked, moment=Moment.FOUND, values=values, origin=Origin.LINK, at=now, by=actor
            )
            notify(tuning_id)
            return len(controls), 0
        different = {k: v for k, v in values.items() if known.now.get(k) != v}
        record_changes(locked, known, different, actor=actor, now=now)
        notify(tuning_id)
    return len(controls), len(different)


def _keep_map(display: Display, firm_id: int, controls: list[dict[str, Any]]) -> None:
    """Give a display the map of these controls: its own, the one of the same model, or a new one."""
    plain = _plain(controls)
    if display.menu_map is not None and _plain(display.menu_map.controls) == plain:
        return
    menu = next((m for m in same_model(display) if _plain(m.controls) == plain), None)
    if menu is None:
        kept = [{k: v for k, v in c.items() if k != "value"} for c in controls]
        menu = MenuMap.objects.create(
            firm_id=firm_id, maker=display.maker, model=display.model, controls=kept, origin=Origin.LINK
        )
    display.menu_map = menu
    display.save(update_fields=["menu_map"])
