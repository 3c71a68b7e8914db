"""Several passes beside each other: their figures, and what differs in how the display stood."""

from dataclasses import dataclass
from typing import Any

from fenvik.web.controls.values import values_of
from fenvik.web.kit.templatetags.fenvik import figure, places, setting, signed, significant
from fenvik.web.passes.models import Pass, Reading

MOST = 8


@dataclass(frozen=True)
class Row:
    """One line: what it is, and its text for each pass."""

    name: str
    cells: list[str]
    group: str = ""


def _percent(value: float | None) -> str:
    return "–" if value is None else f"{100 * value:.0f} %"


FIGURES = (
    ("grey, average", "grey_mean", lambda v: places(v, 2)), ("grey, worst", "grey_max", lambda v: places(v, 2)),
    ("colours, average", "colour_mean", lambda v: places(v, 2)), ("colours, worst", "colour_max", lambda v: places(v, 2)),
    ("white, cd/m²", "white", significant), ("black, cd/m²", "black", significant), ("contrast", "contrast", significant),
    ("white, kelvin", "cct", lambda v: figure(v, -1)), ("white, Duv", "duv", lambda v: signed(v, 4)),
    ("gamma, average", "gamma", lambda v: places(v, 2)), ("light, of what is wanted", "tracking", _percent),
    ("follows PQ to, cd/m²", "follows_to", significant),
)  # fmt: skip


def figures_of(passes: list[Pass]) -> list[Row]:
    """Return the figures that any of the passes has, a line each."""
    made = []
    for name, key, words in FIGURES:
        told = [(p.summary or {}).get(key) for p in passes]
        if any(value is not None for value in told) and not (key == "gamma" and all((p.summary or {}).get("hdr") for p in passes)):
            bound = f"{key}_bound"
            sign = {"black": "< ", "contrast": "> "}.get(key, "")
            cells = [(sign if (p.summary or {}).get(bound) else "") + words(v) for p, v in zip(passes, told, strict=True)]
            made.append(Row(name, cells))
    return made


def stood_at(pass_: Pass) -> dict[str, Any]:
    """Return what every control stood at when a pass began to read; empty where nothing had been noted."""
    values = values_of(pass_.tuning)
    first = Reading.objects.filter(pass_of=pass_).order_by("id").first()
    return {} if first is None or values.found is None else values.history.states[values.history.epoch_of(first)]


def settings_of(passes: list[Pass]) -> list[Row]:
    """Return the controls that did not stand alike, a line each; only of passes over displays with one menu map."""
    maps = {p.tuning.display.menu_map_id for p in passes}
    if len(passes) < 2 or len(maps) != 1 or None in maps:
        return []
    states = [stood_at(p) for p in passes]
    if not all(states):
        return []
    menu = passes[0].tuning.display.menu_map
    return [
        Row(c["label"], [setting(state.get(c["id"])) for state in states], c.get("group") or "")
        for c in (menu.controls if menu else [])
        if len({str(state.get(c["id"])) for state in states}) > 1
    ]
