"""Whole blocks of a menu typed at once: a twenty-point balance is one line and not sixty."""

import re
from collections.abc import Mapping
from typing import Any

from fenvik.core.errors import FenvikError
from fenvik.formats.numbers import whole
from fenvik.web.controls.roles import ATTRIBUTES, COLOURS, LIGHTS, role_of

BLOCKS = {
    "two-point": "two-point balance: gains and offsets",
    "gains": "gains alone",
    "levels": "balance by level: ten, twenty or any points",
    "attribute": "six colours by hue, saturation, luminance",
    "mixing": "six colours by red, green, blue",
    "picture": "light, white level, black level, curve",
    "single": "one control",
}
MOST_CONTROLS = 400


class BlockError(FenvikError):
    """A block that cannot be made of what was typed."""

    code = "block"

    def __init__(self, message: str, field: str) -> None:
        super().__init__(message)
        self.field = field


def number_of(text: str, field: str, words: str) -> float:
    """Return a typed number. Raises BlockError."""
    try:
        value = float(text.strip().replace("−", "-").replace(",", "."))
    except ValueError:
        raise BlockError(f"{words} is a number.", field) from None
    if not abs(value) < 1e6:
        raise BlockError(f"{words} is too large.", field)
    return int(value) if value.is_integer() else value


def levels_of(text: str) -> list[float]:
    """Return levels typed as a count ("20"), as "from-to:step" or as a list, in percent, rising. Raises BlockError."""
    text = text.strip().replace("%", "")
    if whole(text, 2, 100) is not None:
        return [round(100 * (i + 1) / int(text), 3) for i in range(int(text))]
    parts = [part for part in re.split(r"[\s;]+", text.replace(",", " ")) if part]
    levels = sorted({number_of(part, "levels", "A level") for part in parts})
    if not levels or not all(0 < level <= 100 for level in levels) or len(levels) > 100:
        raise BlockError("Levels are a count, such as 20, or a list of percentages above 0 and up to 100.", "levels")
    return [float(level) for level in levels]


def range_of(low: float, high: float, step: float) -> dict[str, Any]:
    """Return a range. What it usually stands at is only made up where it lies about a middle of zero, where such controls begin.

    Raises BlockError.
    """
    if not low < high:
        raise BlockError("The highest value must be above the lowest.", "high")
    if not 0 < step <= high - low:
        raise BlockError("The step must be above 0 and fit into the range.", "step")
    return {"kind": "range", "min": low, "max": high, "step": step, "default": 0 if low == -high else None}


def switch_of(options: list[str]) -> dict[str, Any] | None:
    """Return a switch where the options are on and off, else None."""
    return {"kind": "switch", "default": None} if sorted(o.lower() for o in options) == ["off", "on"] else None


def choice_of(options: list[str]) -> dict[str, Any]:
    """Return a choice. Raises BlockError."""
    if len(options) < 2 or len({o.lower() for o in options}) != len(options):
        raise BlockError("A choice needs two or more different options, with commas between them.", "options")
    return {"kind": "choice", "options": options, "default": None}


def id_of(label: str) -> str:
    """Return the id that a name makes."""
    return re.sub(r"[^a-z0-9]+", "-", label.lower()).strip("-")[:60] or "control"


def block(kind: str, typed: Mapping[str, str]) -> list[dict[str, Any]]:
    """Return the controls of a block; ``typed`` has low, high, step, levels, luminance, group. Raises BlockError."""
    if kind not in BLOCKS:
        raise BlockError("There is no such block.", "block")
    if kind == "single":
        return [_single(typed)]
    low = number_of(typed.get("low") or ("0" if kind == "picture" else "-50"), "low", "The lowest value")
    high = number_of(typed.get("high") or ("100" if kind == "picture" else "50"), "high", "The highest value")
    step = number_of(typed.get("step") or "1", "step", "The step")
    kind_of = range_of(low, high, step)
    made: list[tuple[str, str, str]] = []  # label, role, group
    match kind:
        case "two-point" | "gains":
            ends = ("gain", "offset") if kind == "two-point" else ("gain",)
            made = [
                (f"{light.capitalize()} {end}", f"white.{end}.{light}", "White balance")
                for end in ends
                for light in LIGHTS
            ]
        case "levels":
            group = "White balance by level"
            for level in levels_of(typed.get("levels") or "20"):
                made += [(f"{level:g} % {light}", f"white.at.{level:g}.{light}", group) for light in LIGHTS]
                if typed.get("luminance"):
                    made.append((f"{level:g} % luminance", f"gamma.at.{level:g}", group))
        case "attribute":
            made = [(f"{c.capitalize()} {a}", f"colour.{c}.{a}", "Colours") for c in COLOURS for a in ATTRIBUTES]
        case "mixing":
            made = [
                (f"{c.capitalize()}: {light}", f"colour.{c}.mix.{light}", "Colours")
                for c in COLOURS
                for light in LIGHTS
            ]
        case "picture":
            made = [
                ("Light", "light", "Picture"),
                ("White level", "white-level", "Picture"),
                ("Black level", "black-level", "Picture"),
            ]
    named = typed.get("group", "").strip()[:60]
    return [
        {"id": role.replace(".", "-"), "label": label, "group": named or group, "role": role, **kind_of}
        for label, role, group in made
    ]


def _single(typed: Mapping[str, str]) -> dict[str, Any]:
    label = typed.get("label", "").strip()[:80]
    if not label:
        raise BlockError("A control needs the name that the menu gives it.", "label")
    told = typed.get("role", "").strip()
    role = role_of(told)
    if told and role is None:
        raise BlockError(
            f"{told[:40]} is nothing that a control does: choose one of the list, or leave it empty.", "role"
        )
    base: dict[str, Any] = {
        "id": id_of(label),
        "label": label,
        "group": typed.get("group", "").strip()[:60] or "Picture",
        "role": role,
    }
    options = [o.strip() for o in typed.get("options", "").split(",") if o.strip()]
    if options:
        base |= switch_of(options) or choice_of(options)
    else:
        low = number_of(typed.get("low") or "0", "low", "The lowest value")
        high = number_of(typed.get("high") or "100", "high", "The highest value")
        base |= range_of(low, high, number_of(typed.get("step") or "1", "step", "The step"))
    off = _off(base) if (role or "").startswith("process.") else None
    if off is not None:
        base["off"] = off
    return base


def _off(control: dict[str, Any]) -> Any:
    """Return the value that means off where the control itself says so; None where only the person knows."""
    if control["kind"] == "switch":
        return False
    if control["kind"] == "choice":
        return next((o for o in control["options"] if o.lower() in ("off", "none", "no")), None)
    return None


def joined(controls: list[dict[str, Any]], more: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return a menu with a block added: controls of roles that are there already are not added twice. Raises BlockError."""
    roles = {c["role"] for c in controls if c["role"]}
    ids = {c["id"] for c in controls}
    made = list(controls)
    for control in more:
        if control["role"] in roles:
            continue
        fresh, number = dict(control), 2
        while fresh["id"] in ids:
            fresh["id"] = f"{control['id']}-{number}"
            number += 1
        ids.add(fresh["id"])
        made.append(fresh)
    if len(made) > MOST_CONTROLS:
        raise BlockError(f"A menu map has at most {MOST_CONTROLS} controls.", "block")
    if len(made) == len(controls):
        raise BlockError("The menu has all of these already; nothing was added.", "block")
    return made
