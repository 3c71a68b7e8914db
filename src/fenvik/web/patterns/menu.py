"""The library of patterns as it is offered: by groups, and as what the screen's own menu is made of."""

from typing import Any

from fenvik.core.signal.patterns import PATTERNS, Pattern

GROUPS = {
    "levels": "levels", "detail": "detail", "geometry": "place and shape", "gradients": "gradients", "colour": "colour",
    "light": "light", "motion": "motion", "free": "free",
}  # fmt: skip


def grouped() -> dict[str, list[Pattern]]:
    """Return the patterns by group, groups in words."""
    groups: dict[str, list[Pattern]] = {name: [] for name in GROUPS.values()}
    for each in PATTERNS.values():
        groups[GROUPS[each.group]].append(each)
    return groups


def menu() -> list[dict[str, Any]]:
    """Return the patterns with what can be chosen of them by taps and keys: choices and numbers; texts are typed at the desk."""
    return [
        {"group": group, "id": p.id, "name": p.name, "look": p.look_for, "options": [_option(o) for o in p.options if not o.text]}
        for group, patterns in grouped().items()
        for p in patterns
    ]


def _option(option: Any) -> dict[str, Any]:
    span = option.high - option.low
    return {
        "id": option.id, "label": option.label, "value": option.default, "choices": option.choices, "low": option.low,
        "high": option.high, "step": 1 if span > 12 else 0.5 if span > 3 else 0.1, "unit": option.unit,
    }  # fmt: skip
