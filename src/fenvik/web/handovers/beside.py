"""The tunings of one display beside each other, as a client reads them."""

from dataclasses import dataclass
from typing import Any

from fenvik.web.kit.templatetags.fenvik import places, significant


@dataclass(frozen=True)
class Line:
    """One line: what it is, and its text for each tuning."""

    name: str
    cells: list[str]


def handed(tunings: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return tables for a handover: the tunings of each display that has several, with their figures now."""
    made: dict[tuple[str, str, str], list[dict[str, Any]]] = {}
    for told in tunings:
        made.setdefault((told["room"], told["display"], told["serial"]), []).append(told)
    return [
        {"room": room, "display": name, "tunings": rows, "rows": _figures(rows)}
        for (room, name, _), rows in made.items() if len(rows) > 1
    ]  # fmt: skip


def _figures(rows: list[dict[str, Any]]) -> list[Line]:
    after = [told["after"] for told in rows]
    hdr = [bool(told.get("hdr")) for told in after]
    return [
        Line("signal", [told["signal"] for told in rows]), Line("target", [told["target_label"] for told in rows]),
        Line("brightest white, cd/m²", [significant(told["white"]) for told in after]),
        Line("greys off, average", [places(told["grey_mean"], 1) for told in after]),
        Line("colours off, average", [places(told["colour_mean"], 1) for told in after]),
        Line("gamma", ["–" if is_hdr else places(told["gamma"], 2) for told, is_hdr in zip(after, hdr, strict=True)]),
        *([Line("follows the signal to, cd/m²", [significant(t.get("follows_to")) for t in after])] if any(hdr) else []),
    ]  # fmt: skip
