"""The stop Arrival: settings, sheets and their comparison, the display, its menu map, the target."""

from typing import Any

from fenvik.core.measure.screen import CINEMA_CD_M2, Screen, foot_lamberts
from fenvik.core.proposals import Room as RoomLight
from fenvik.core.proposals import propose
from fenvik.web.adjusting import trial
from fenvik.web.clients.forms import DisplayForm, RoomForm
from fenvik.web.controls.blocks import BLOCKS
from fenvik.web.controls.exchange import differences
from fenvik.web.controls.maps import same_model
from fenvik.web.controls.models import Moment, Origin, SettingsSheet
from fenvik.web.controls.roles import WORDS, words_of
from fenvik.web.controls.sharing import inputs_of
from fenvik.web.controls.sharing import words_of as shared_words
from fenvik.web.controls.wording import write
from fenvik.web.devices.displays import link_of
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.kit.templatetags.fenvik import setting
from fenvik.web.results.highlights import highlights_of
from fenvik.web.stops.registry import Page, pages
from fenvik.web.stops.scenes import Scene
from fenvik.web.visits.forms import TargetForm
from fenvik.web.visits.models import Tuning, WhiteCandidate
from fenvik.web.visits.white import KINDS as WHITE_KINDS

KEPT_OF_A_BLOCK = ("block", "group", "low", "high")  # what the next one begins with, in this order between tildes


def fill(scene: Scene) -> None:
    """Add what the asked part of Arrival shows."""
    part = scene.options.part("arrival")
    scene.extra["part"] = part
    _FILL[part](scene)


def grouped(rows: list[dict[str, Any]]) -> dict[str, list[dict[str, Any]]]:
    """Return the rows of a menu by group, in the menu's own order."""
    groups: dict[str, list[dict[str, Any]]] = {}
    for row in rows:
        groups.setdefault(row["group"], []).append(row)
    return groups


def _settings(scene: Scene) -> None:
    typed, problems = scene.extra.get("typed"), scene.extra.get("problems") or {}
    starts, scene.extra["start_words"] = _starts(scene)
    rows = [_field(row, typed, problems if isinstance(problems, dict) else {}, starts) for row in scene.values.rows]
    scene.extra["groups"] = grouped(rows)
    scene.extra["seen"] = scene.tuning.found_sheets[0].pk if scene.tuning.found_sheets else 0
    scene.extra["link"] = _link(scene)


def _starts(scene: Scene) -> tuple[dict[str, Any], str]:
    """Return what the fields of a sheet begin with before it is noted, and where that comes from.

    It is a start, and nobody's word for it. What was left empty when the sheet was noted is not filled in by itself afterwards.
    """
    values = scene.values
    if values.found is not None:
        return {}, ""
    usual = {c["id"]: c["default"] for c in values.controls if c.get("default") is not None}
    copied = SettingsSheet.objects.filter(tuning=scene.tuning, origin=Origin.COPY).order_by("-at", "-id").first()
    if copied is not None:
        return usual | copied.values, f"The copy {copied.note} is filled in, as a start"
    menu = scene.tuning.display.menu_map
    if menu is None or not usual:
        return {}, ""
    if all(value == 0 for value in usual.values()):
        return usual, "Controls that go as far down as up are filled in at 0, as a start"
    return usual, "What this model’s menu usually stands at is filled in, as a start"


def _field(row: dict[str, Any], typed: Any, problems: dict[str, str], starts: dict[str, Any]) -> dict[str, Any]:
    """Return a control as its field in a sheet: a sheet has hundreds, so the template is left little to work out."""
    name, kind = row["id"], row["kind"]
    start = row["found"] if row["found"] is not None else starts.get(name)
    text = setting(start) if start is not None else ""
    if typed is not None:
        text = typed.get(f"value-{name}", "")
    made = {**row, "shown": text, "problem": problems.get(name, ""), "hint": "", "choices": None}
    if kind == "range":
        made["hint"] = f"{setting(row['min'])} to {setting(row['max'])}"
    else:
        options = row["options"] if kind == "choice" else ("on", "off")
        made["choices"] = [(option, option == text) for option in options]
    if row["changed"]:
        made["hint"] += f" now {setting(row['now'])}"
    return made


def _link(scene: Scene) -> dict[str, Any] | None:
    """Return a display's network control; ``first``: nothing else is to be done before its menu is known."""
    device = link_of(scene.tuning.display)
    if device is None:
        return None
    first = scene.extra["part"] in ("settings", "menu") and not scene.values.rows
    return {"device": device, "paired": hasattr(device, "pairing"), "first": first, "shown": scene.options.get("about") == "code"}


def _sheet_row(sheet: SettingsSheet, own: int, *, here: bool) -> dict[str, Any]:
    who = "" if sheet.by is None else (sheet.by.first_name or sheet.by.username)
    values = f"{sheet.get_moment_display() if sheet.note else sheet.get_origin_display()}, {len(sheet.values)} values"
    other = "" if sheet.tuning.display_id == own else "another sample of this model: "
    elsewhere = "" if here else f"{other}{sheet.tuning.visit.client.name}, {sheet.get_moment_display()}"
    return {
        "id": str(sheet.pk), "sheet": sheet, "here": here, "who": who, "values": sheet.values,
        "title": (sheet.note or sheet.get_moment_display()) if here else sheet.tuning.name, "whose": elsewhere or values,
    }  # fmt: skip


def _sheets(scene: Scene) -> None:
    tuning = scene.tuning
    own = list(
        SettingsSheet.objects.filter(tuning=tuning).select_related("by", "tuning__visit").order_by("-at", "-id")[:40]
    )
    elsewhere = list(
        SettingsSheet.objects.filter(tuning__display__menu_map_id=tuning.display.menu_map_id)
        .exclude(tuning=tuning)
        .filter(tuning__visit__firm_id=tuning.visit.firm_id)
        .select_related("by", "tuning__visit__client")
        .order_by("-at", "-id")[:20]
    ) if tuning.display.menu_map_id else []  # fmt: skip
    rows = [_sheet_row(s, tuning.display_id, here=s in own) for s in (*own, *elsewhere)]
    known = {row["id"]: row for row in rows}
    # How it was found is what most people come to look at: what has been changed since, and the way back.
    found = next((row for row in rows if row["here"] and row["sheet"].moment == Moment.FOUND), None)
    one = known.get(scene.options.get("sheet")) or found or (rows[0] if rows else None)
    other = known.get(scene.options.get("other"))
    now = {"id": "now", "values": scene.values.now, "here": True}
    shown: dict[str, Any] = other or now
    scene.extra |= {
        "trial": trial.told(tuning),
        "carried": trial.may_carry(tuning),
        "sheets": rows,
        "one": one,
        "other": shown,
        "resets": scene.values.found is not None,
        "differences": [] if one is None else differences(scene.values.controls, one["values"], shown["values"]),
        "others": list(
            Tuning.objects.filter(visit_id=tuning.visit_id).exclude(pk=tuning.pk).order_by("pk").values("pk", "name")
        ),
    }  # fmt: skip
    # In reverse, so that what was turned last is turned back first.
    turned = {change.control: i for i, change in enumerate(scene.values.changes)}
    if one is not None:
        back = differences(scene.values.controls, scene.values.now, one["values"])
        back = [d for d in back if d.other is not None]
        back.sort(key=lambda d: -turned.get(d.id, -1))
        scene.extra |= {"restore": back, "together": [d for d in back if d.group == back[0].group]}


def _display(scene: Scene) -> None:
    tuning = scene.tuning
    scene.extra |= {
        "display_form": scene.extra.get("display_form")
        or DisplayForm(instance=tuning.display, firm_id=tuning.visit.firm_id),
        "room_form": scene.extra.get("room_form") or RoomForm(instance=tuning.display.room, prefix="room"),
        "feeds": list(tuning.display.feeds.all()),
        "link": _link(scene),
        "links": list(Device.objects.of_firm(tuning.visit.firm_id).filter(role=DeviceRole.DISPLAY).order_by("name")),
        "said": tuning.display.said,
        "screen_says": _screen_words(tuning),
    }


def _screen_words(tuning: Tuning) -> list[str]:
    """Return what a projector's screen needs and gives, in sentences; nothing for other displays, or without its size."""
    display = tuning.display
    if display.technology != "projector" or not display.size_in:
        return []
    screen = Screen(display.size_in, display.screen_gain or 1.0)
    wanted = tuning.luminance or CINEMA_CD_M2
    return [
        f"{screen.width_m:.2f} m wide, {screen.area_m2:.1f} m², gain {screen.gain:g}"
        + ("." if display.screen_gain else ", taken for a white matt screen until its gain is typed."),
        f"{wanted:g} cd/m² are {foot_lamberts(wanted):.1f} foot-lamberts and need {screen.lumens(wanted):,.0f} lumens on it.",
        f"A meter that faces the lens reads {screen.lux(wanted):,.0f} lux for that; one that faces the screen reads the "
        "luminance itself.",
    ]


def _menu(scene: Scene) -> None:
    display, controls = scene.tuning.display, scene.values.controls
    scene.extra["link"] = _link(scene)
    typed = scene.extra.get("typed") or dict(zip(KEPT_OF_A_BLOCK, scene.options.get("began").split("~"), strict=False))
    scene.extra |= {
        "blocks": BLOCKS,
        "typed": typed if any(typed.values()) else {},
        "roles": WORDS.values(),
        "rows": [{**c, "does": words_of(c.get("role"))} for c in controls],
        "guessed": sum(1 for c in controls if c.get("guessed")),
        "words": typed.get("words") or write(controls),
        "menu": display.menu_map,
        "shared": shared_words(display),
        "inputs": inputs_of(display),
        "shared_on": (display.shared or {}).get("on", ""),
        "earlier": same_model(display),
        "seen": display.menu_map.changed_at.isoformat() if display.menu_map else "",
    }


def _target(scene: Scene) -> None:
    tuning = scene.tuning
    room = RoomLight(tuning.display.room.lux_day, tuning.display.room.lux_night)
    scene.extra |= {
        "target_form": scene.extra.get("target_form") or TargetForm(tuning=tuning),
        "white_chain": tuning.white_chain,
        "white_parts": [(part.kind, part) for part in tuning.whites],
        "white_kinds": WHITE_KINDS,
        "candidates": list(WhiteCandidate.objects.of_firm(tuning.visit.firm_id).order_by("name")),
        "highlights": highlights_of(tuning),
        "is_pq": tuning.signal in ("hdr10", "dynamic"),
        "trial": trial.told(tuning),
        "takes_tone": trial.takes_tone(tuning) and tuning.target.curve == "pq",
        "given": trial.given(tuning),
        "proposal": propose(tuning.purpose, tuning.signal, technology=tuning.display.technology, room=room),
    }


_FILL = {"settings": _settings, "sheets": _sheets, "display": _display, "menu": _menu, "target": _target}


pages["arrival"] = Page(fill, "arrival/field.html", "arrival/hand.html")
