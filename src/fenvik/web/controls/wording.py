"""A menu as a text in the television's own order: a heading a group, a line a control."""

import re
from dataclasses import dataclass
from typing import Any

from fenvik.web.controls.blocks import (
    MOST_CONTROLS,
    BlockError,
    block,
    choice_of,
    id_of,
    number_of,
    range_of,
    switch_of,
)  # fmt: skip
from fenvik.web.controls.roles import ATTRIBUTES, guess

MOST_TEXT = 40_000
_NUMBER = r"[-+−]?\d+(?:[.,]\d+)?"
_RANGE = re.compile(
    rf"^(?P<name>.*?)[\s:,]*(?:(?P<low>{_NUMBER})\s*(?:to|\.\.\.?|…|–|—|-|/)\s*(?P<high>{_NUMBER})|(?:±|\+/?-)\s*(?P<both>\d+(?:[.,]\d+)?))"
    rf"(?:\s*(?:,|in|by)?\s*(?:step|steps|by)(?:\s+of)?\s*(?P<step>\d+(?:[.,]\d+)?))?\s*$",
    re.IGNORECASE,
)
_POINTS = re.compile(
    r"^(?P<levels>\d+(?:[.,]\d+)?(?:[ ;%]+\d+(?:[.,]\d+)?)*)\s*%?\s*(?:points?|levels?)\b(?P<luminance>.*\blumin.*)?",
    re.IGNORECASE,
)
_TWO = re.compile(r"^(?P<what>two[- ]point|gains?)$", re.IGNORECASE)
_SIX = re.compile(r"^six colou?rs\b[\s:,]*(?P<what>.*)$", re.IGNORECASE)


@dataclass(frozen=True)
class Line:
    """A line of the text that is a control: its number from 1, its group, its name and the rest."""

    number: int
    group: str
    text: str


def read(text: str) -> list[dict[str, Any]]:
    """Return the controls that a text describes; ``guessed`` on those whose role was told by their name alone.

    Raises BlockError with the line's number and words.
    """
    if len(text) > MOST_TEXT:
        raise BlockError(f"A menu typed in words has at most {MOST_TEXT:,} characters.", "words")
    made: list[dict[str, Any]] = []
    group = "Picture"
    for number, raw in enumerate(text.splitlines(), 1):
        line = " ".join(raw.split())
        if not line:
            continue
        try:
            controls = _controls(line, group)
        except BlockError as problem:
            raise BlockError(f"Line {number}, “{line[:40]}”: {problem}", "words") from None
        if controls is None:
            group = line.rstrip(":").strip()[:60]
            continue
        made += controls
        if len(made) > MOST_CONTROLS:
            raise BlockError(f"A menu map has at most {MOST_CONTROLS} controls.", "words")
    if not made:
        raise BlockError(
            "No line has a range or options. A control is a name and its range, such as “Contrast 0 to 100”.", "words"
        )
    return _apart(made)


def _controls(line: str, group: str) -> list[dict[str, Any]] | None:
    """Return the controls of a line; None where it is a heading. Raises BlockError."""
    ranged = _RANGE.match(line)
    if ranged:
        return _ranged(ranged, group)
    name, colon, rest = line.partition(":")
    options = [o.strip() for o in re.split(r"[,;]|\s/\s", rest) if o.strip()]
    if colon and not options:
        return None
    if not colon:
        found = re.fullmatch(r"(.+?)\s+(on\s*/\s*off|off\s*/\s*on|on,\s*off|off,\s*on)", line, re.IGNORECASE)
        if not found:
            return None
        name, options = found[1], re.split(r"\s*[/,]\s*", found[2])
    label = name.strip()[:80]
    base = {"id": id_of(label), "label": label, "group": group}
    if len(options) == 1:
        options = [o.strip() for o in options[0].split("/")]
    return [_with_role(base, switch_of(options) or choice_of(options))]


def _ranged(found: re.Match[str], group: str) -> list[dict[str, Any]]:
    both = found["both"]
    low = number_of(f"-{both}" if both else found["low"], "words", "The lowest value")
    high = number_of(both or found["high"], "words", "The highest value")
    step = number_of(found["step"] or "1", "words", "The step")
    name = found["name"].strip(" :,")
    typed = {"low": str(low), "high": str(high), "step": str(step), "group": group}
    points, two, six = _POINTS.match(name), _TWO.match(name), _SIX.match(name)
    if points:
        return block("levels", typed | {"levels": points["levels"], "luminance": "1" if points["luminance"] else ""})
    if two:
        return [
            c | {"group": group}
            for c in block("gains" if two["what"].lower().startswith("gain") else "two-point", typed)
        ]
    if six:
        return _six(six["what"].lower(), typed, group)
    if not name:
        raise BlockError("a control needs the name that the menu gives it.", "words")
    return [_with_role({"id": id_of(name), "label": name[:80], "group": group}, range_of(low, high, step))]


def _six(what: str, typed: dict[str, str], group: str) -> list[dict[str, Any]]:
    """Return a block of six colours: hue, saturation, luminance, those of them that are named, or red, green, blue."""
    mixing = re.search(r"\b(red|green|blue|mix)", what) is not None
    made = block("mixing" if mixing else "attribute", typed)
    named = [a for a in ATTRIBUTES if a[:5] in what or (a == "luminance" and "bright" in what)]
    return [c | {"group": group} for c in made if mixing or not named or c["role"].rpartition(".")[2] in named]


def _with_role(base: dict[str, Any], kind: dict[str, Any]) -> dict[str, Any]:
    role = guess(base["label"], base["group"])
    made = base | {"role": role} | kind
    if role is None:
        return made
    if role.startswith("process.") and kind["kind"] == "switch":
        made["off"] = False
    return made | {"guessed": True}


def _apart(controls: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return controls with ids of their own; of two whose names speak for one role, the first has it and the other none."""
    ids: set[str] = set()
    roles: set[str] = set()
    made = []
    for control in controls:
        fresh, number = dict(control), 2
        while fresh["id"] in ids:
            fresh["id"] = f"{control['id']}-{number}"
            number += 1
        ids.add(fresh["id"])
        if fresh["role"] in roles:
            fresh = {k: v for k, v in fresh.items() if k not in ("guessed", "off")} | {"role": None}
        roles.add(fresh["role"] or "")
        made.append(fresh)
    return made


def write(controls: list[dict[str, Any]]) -> str:
    """Return a menu as the text that ``read`` takes: groups in the order in which they come."""
    lines: list[str] = []
    group = None
    for control in controls:
        if control["group"] != group:
            group = control["group"]
            lines += ["", group] if lines else [group]
        lines.append(_line(control))
    return "\n".join(lines)


def _line(control: dict[str, Any]) -> str:
    label = control["label"]
    if control["kind"] == "switch":
        return f"{label}: on, off"
    if control["kind"] == "choice":
        return f"{label}: {', '.join(control['options'])}"
    low, high, step = (f"{control[key]:g}".replace("-", "−") for key in ("min", "max", "step"))
    return f"{label}: {low} to {high}" + (f" step {step}" if step != "1" else "")


def merged(controls: list[dict[str, Any]], told: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return what was typed with what is known of those controls: what bears the name and group of a control is that control."""
    known = {(c["group"].lower(), c["label"].lower()): c for c in controls}
    taken: set[str] = {
        c["role"] for c in controls if c["role"] and (c["group"].lower(), c["label"].lower()) in _keys(told)
    }
    ids = {c["id"] for c in controls}
    made = []
    for control in told:
        mine = known.get((control["group"].lower(), control["label"].lower()))
        if mine is not None:
            keep = {k: mine[k] for k in ("id", "role", "off", "guessed") if k in mine}
            same = mine["kind"] == control["kind"] and all(
                mine.get(k) == control.get(k) for k in ("min", "max", "step", "options")
            )
            made.append(
                {k: v for k, v in control.items() if k not in ("off", "guessed")}
                | keep
                | ({"default": mine.get("default")} if same else {})
            )
            continue
        fresh = dict(control)
        if fresh["role"] in taken:
            fresh = {k: v for k, v in fresh.items() if k not in ("guessed", "off")} | {"role": None}
        while fresh["id"] in ids:
            fresh["id"] += "-new"
        ids.add(fresh["id"])
        made.append(fresh)
    return made


def _keys(controls: list[dict[str, Any]]) -> set[tuple[str, str]]:
    return {(c["group"].lower(), c["label"].lower()) for c in controls}
