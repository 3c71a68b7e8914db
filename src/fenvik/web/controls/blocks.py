"""Whole blocks of a menu typed at once: a twenty-point balance is one line and not sixty."""

import re
from collections.abc import Mapping
from typing import Any

from fenvik.core.errors import FenvikError
from fenvik.formats.numbers import whole

LIGHTS = ("red", "green", "blue")
COLOURS = ("red", "green", "blue", "cyan", "magenta", "yellow")
ATTRIBUTES = ("hue", "saturation", "luminance")
BLOCKS = {
    "two-point": "two-point balance: gains and offsets",
    "gains": "gains alone",
    "levels": "balance by level: ten, twenty or any points",
    "attribute": "six colours by hue, saturation, luminance",
    "mixing": "six colours by red, green, blue",
    "picture": "light, white level, black level, curve",
    "single": "one control",
}
ROLES = (
    "light", "white-level", "black-level", "gamma", "saturation", "tint", "gamut", "white-preset",
    *(f"white.{end}.{light}" for end in ("gain", "offset") for light in LIGHTS),
    *(f"colour.{colour}.{what}" for colour in COLOURS for what in ATTRIBUTES),
    *(f"colour.{colour}.mix.{light}" for colour in COLOURS for light in LIGHTS),
    *(f"process.{name}" for name in (
        "energy", "ambient", "dynamic-contrast", "black-stretch", "noise", "motion", "sharpness", "overscan", "dimming",
        "tone-mapping", "blue-light", "iris", "uniformity",
    )),
    "lens.focus", "convergence.red", "convergence.blue",
)  # fmt: skip
POINT = re.compile(r"(white|gamma)\.at\.(\d+(?:\.\d+)?)(?:\.(red|green|blue))?$")
MOST_CONTROLS = 400


class BlockError(FenvikError):
    """A block that cannot be made of what was typed."""

    code = "block"

    def __init__(self, message: str, field: str) -> None:
        super().__init__(message)
        self.field = field


def is_role(role: str) -> bool:
    """Whether a text is a role of the device link, a point of a balance, or processing of another name."""
    point = POINT.match(role)
    if point:
        return 0 < float(point[2]) <= 100 and (point[1] == "gamma") == (point[3] is None)
    return role in ROLES or bool(re.fullmatch(r"process\.[a-z][a-z-]{1,40}", role))


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


def _range(
    id_: str, label: str, group: str, role: str | None, low: float, high: float, step: float, default: float
) -> dict[str, Any]:
    return {
        "id": id_, "label": label, "group": group, "kind": "range", "role": role, "min": low, "max": high, "step": step,
        "default": default,
    }  # fmt: skip


def block(kind: str, typed: Mapping[str, str]) -> list[dict[str, Any]]:
    """Return the controls of a block; ``typed`` has low, high, step, levels, luminance, group. Raises BlockError."""
    if kind not in BLOCKS:
        raise BlockError("There is no such block.", "block")
    if kind == "single":
        return [_single(typed)]
    low = number_of(typed.get("low") or ("0" if kind == "picture" else "-50"), "low", "The lowest value")
    high = number_of(typed.get("high") or ("100" if kind == "picture" else "50"), "high", "The highest value")
    step = number_of(typed.get("step") or "1", "step", "The step")
    if not low < high:
        raise BlockError("The highest value must be above the lowest.", "high")
    if not 0 < step <= high - low:
        raise BlockError("The step must be above 0 and fit into the range.", "step")
    middle = low + round((high - low) / 2 / step) * step
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
            group = typed.get("group") or "White balance by level"
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
    return [_range(role.replace(".", "-"), label, group, role, low, high, step, middle) for label, role, group in made]


def _single(typed: Mapping[str, str]) -> dict[str, Any]:
    label = typed.get("label", "").strip()[:80]
    if not label:
        raise BlockError("A control needs the name that the menu gives it.", "label")
    role = typed.get("role", "").strip() or None
    if role is not None and not is_role(role):
        raise BlockError(f"{role[:40]} is no role: choose one of the list, or leave it empty.", "role")
    id_ = re.sub(r"[^a-z0-9]+", "-", label.lower()).strip("-")[:60] or "control"
    base: dict[str, Any] = {
        "id": id_,
        "label": label,
        "group": typed.get("group", "").strip()[:60] or "Picture",
        "role": role,
    }
    options = [o.strip() for o in typed.get("options", "").split(",") if o.strip()]
    if options and [o.lower() for o in options] in (["on", "off"], ["off", "on"]):
        base |= {"kind": "switch", "default": options[0].lower() == "on"}
    elif options:
        if len(options) < 2 or len({o.lower() for o in options}) != len(options):
            raise BlockError("A choice needs two or more different options, with commas between them.", "options")
        base |= {"kind": "choice", "options": options, "default": options[0]}
    else:
        low = number_of(typed.get("low") or "0", "low", "The lowest value")
        high = number_of(typed.get("high") or "100", "high", "The highest value")
        step = number_of(typed.get("step") or "1", "step", "The step")
        if not low < high or not 0 < step <= high - low:
            raise BlockError("A range needs a highest value above the lowest, and a step that fits into it.", "high")
        base |= {
            "kind": "range",
            "min": low,
            "max": high,
            "step": step,
            "default": low + round((high - low) / 2 / step) * step,
        }
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
