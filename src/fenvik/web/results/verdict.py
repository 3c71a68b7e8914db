"""The verdict of As left: against the tolerance, with its uncertainty, and what could not be reached."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from fenvik.core.analysis import findings
from fenvik.core.analysis.analysis import Analysis, Errors
from fenvik.core.measure.uncertainty import interval_95
from fenvik.core.types import Bools
from fenvik.web.controls.values import Values
from fenvik.web.results import words
from fenvik.web.results.summary import figures

LIGHT_TOLERANCE_PERCENT = 8.0  # less is hardly seen from one evening to the next


@dataclass(frozen=True)
class Row:
    """One line of found and left; ``places`` decimals or, with 0, three significant digits."""

    name: str
    found: float | None
    left: float | None
    places: int
    bounds: tuple[str, str] = ("", "")  # "> " or "< " where a figure is only known to be more or less


@dataclass(frozen=True)
class Verdict:
    """A sentence, the figures, and what could not be reached with its reason."""

    sentence: str
    rows: list[Row]
    unreached: list[str]
    better: bool


def _outside(errors: Errors, which: Bools, tolerance: float) -> tuple[int, int]:
    """Return how many are surely outside, and how many cannot be told."""
    low, high = interval_95(errors.value[which], errors.std[which])
    return int((low > tolerance).sum()), int(((low <= tolerance) & (high > tolerance)).sum())


def verdict_of(
    found: Analysis | None, left: Analysis | None, values: Values, luminance: float | None
) -> Verdict | None:
    """Return the verdict on a tuning; ``luminance`` in cd/m² is wanted. None while nothing was measured as left."""
    if left is None:
        return None
    tolerance = left.target.tolerance
    lit = left.graded
    outside, unsure = _outside(left.colour_only, lit, tolerance)
    count = int(lit.sum())
    if outside:
        sentence = f"{outside} of {count} greys are outside {tolerance:g}."
    elif unsure:
        are = "is" if unsure == 1 else "are"
        sentence = f"Grey is within {tolerance:g} as far as the meter can tell; {unsure} of {count} levels {are} too close to call."
    else:
        sentence = f"Every grey {'up to its peak ' if left.beyond_end.any() else ''}is within {tolerance:g}."
    before, after = ({} if found is None else figures(found)), figures(left)
    if after["follows_to"] is not None:
        sentence = f"{sentence} It follows the standard to {after['follows_to']:.0f} cd/m², then rolls off."
    hdr = (("follows PQ to, cd/m²", "follows_to", 0),) if after["follows_to"] or before.get("follows_to") else ()
    names = (
        ("grey, average", "grey_mean", 1),
        ("grey, worst", "grey_max", 1),
        ("colours, average", "colour_mean", 1),
        ("colours, worst", "colour_max", 1),
        *((("gamma, average", "gamma", 2),) if not after["hdr"] else hdr),
        ("white, kelvin", "cct", -1),
        ("white, cd/m²", "white", 0),
        ("black, cd/m²", "black", 0),
        ("contrast", "contrast", 0),
    )
    rows = [
        Row(name, before.get(key), after.get(key), places, (_bound(before, key), _bound(after, key))) for name, key, places in names
    ]
    above = words.beyond_end(left).strip()
    if after["out_of_reach"]:
        apart = f"{after['out_of_reach']} colours are beyond what this display was read to give, and counted apart: off by "
        beyond = [f"{apart}{after['out_of_reach_mean']:.1f} on average."]
    else:
        beyond = []
    wishes = [*([above] if above else []), *beyond, *_unreached(left, values), *light_words(left, luminance, values)]
    return Verdict(sentence, rows, wishes, _better(before.get("grey_mean"), after.get("grey_mean")))


def _bound(told: dict[str, Any], key: str) -> str:
    sign = {"contrast": "> ", "black": "< "}.get(key, "")
    return sign if told.get(f"{key}_bound") else ""


def _better(found: float | None, left: float | None) -> bool:
    return found is not None and left is not None and left < found


def light_words(analysis: Analysis, luminance: float | None, values: Values) -> list[str]:
    """Return what there is to say of the light, where the tuning wants a luminance that white does not have."""
    if luminance is None:
        return []
    white = float(analysis.white[1])
    off = 100.0 * (white / luminance - 1.0)
    if abs(off) <= LIGHT_TOLERANCE_PERCENT:
        return []
    control = next((c for c in values.controls if c.get("role") == "light"), None)
    side = "above" if off > 0 else "below"
    turn = "" if control is None else f" Turn {control['label']} {'down' if off > 0 else 'up'}: it is the light."
    return [f"White is {white:.0f} cd/m², {abs(off):.0f} % {side} the {luminance:.0f} that are wanted.{turn}"]


def _unreached(left: Analysis, values: Values) -> list[str]:
    tolerance = left.target.tolerance
    sentences = []
    roles = {(control.get("role") or "").split(".")[0] for control in values.controls}
    coloured = left.judged
    if coloured.any():
        low, _ = interval_95(left.whole.value[coloured], left.whole.std[coloured])
        names = [left.readings.labels[i] for i in np.flatnonzero(coloured)[low > tolerance]]
        if names and "colour" not in roles:
            sentences.append(
                f"Not reachable: {_listed(names)} above {tolerance:g}; this menu has no control for single colours."
            )
    grey = np.flatnonzero(findings.within_end(left))
    low, _ = interval_95(left.colour_only.value[grey], left.colour_only.std[grey])
    levels = [f"{left.readings.fraction[i, 0] * 100:.0f} %" for i in grey[low > tolerance]]
    multi = any((control.get("role") or "").startswith("white.at.") for control in values.controls)
    if levels and not multi:
        sentences.append(
            f"Not reachable: grey at {_listed(levels)} above {tolerance:g}; two-point cannot bend single levels."
        )
    return sentences


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
