"""Sentences that a tired person understands: what, how much, which way. Safe HTML; figures are bold."""

import math

import numpy as np
from django.utils.html import format_html
from django.utils.safestring import SafeString

from fenvik.core.analysis import findings
from fenvik.core.analysis.analysis import Analysis
from fenvik.web.kit.templatetags.fenvik import significant

LIGHTS = ("Red", "Green", "Blue")
GAMMA_COUNTS = 0.05  # a mean that is off by less is told after the level that is farthest off
WAYS = {
    ("lightness", 1): "too bright",
    ("lightness", -1): "too dark",
    ("chroma", 1): "too saturated",
    ("chroma", -1): "too pale",
    ("hue", 1): "turned in hue, anticlockwise on the map",
    ("hue", -1): "turned in hue, clockwise on the map",
}
TRENDS = {
    "rises": "and more so the brighter the picture",
    "falls": "and less so the brighter the picture",
    "from-dark": "and less in the dark",
    "to-bright": "and less where it is bright",
    "level": "and about the same at every level",
    "uneven": "and up and down over the levels",
}


def balance(analysis: Analysis | None) -> SafeString:
    """Return what the greys say."""
    if analysis is None:
        return SafeString("Nothing has been read yet.")
    found = findings.cast(analysis)
    if found is None:
        return SafeString("No grey has been read yet.")
    worst = float(analysis.colour_only.value[findings.within_end(analysis)].max())
    apart = beyond_end(analysis)
    if worst <= analysis.target.tolerance:
        yes = "Yes: no level is off by more than <b>{}</b>, without luminance.{}"
        return format_html(yes, f"{worst:.1f}", apart)
    side = "high" if found.deviation > 0 else "low"
    sentence = format_html(
        "<b>{} is {} % {} at {} %</b> {}",
        LIGHTS[found.channel],
        f"{abs(found.deviation):.1f}",
        side,
        f"{found.level:.0f}",
        TRENDS[found.trend],
    )
    if found.unresolved_below is not None:
        sentence += format_html(
            "; at {} % and below the rest is within what this meter can tell", f"{found.unresolved_below:.0f}"
        )
    return format_html("{}.{}", sentence, apart)


def beyond_end(analysis: Analysis) -> str:
    """Return how far greys are off that ask for more than the display's peak; empty where there are none, or no others."""
    there = analysis.beyond_end & analysis.lit_grey
    if not there.any() or not analysis.graded.any():
        return ""
    from_level = 100.0 * float(analysis.readings.fraction[there, 0].min())
    off = float(analysis.colour_only.value[there].max())
    return f" From {from_level:.0f} % on more is asked for than its peak: up to {off:.1f} off there, counted apart."


def tone(analysis: Analysis | None) -> SafeString:
    """Return what the luminances say."""
    found = None if analysis is None else findings.tone(analysis)
    if analysis is None or found is None:
        return SafeString("No grey has been read yet.")
    side = "bright" if found.deviation > 0 else "dark"
    at = f"{abs(found.deviation):.1f} % too {side} at {found.level:.0f} %"
    if math.isfinite(found.gamma) and math.isfinite(found.target_gamma):
        gamma = f"gamma averages {found.gamma:.2f} where the target has {found.target_gamma:.2f}"
        # What holds for the whole picture comes before what holds for one level.
        whole = abs(found.gamma - found.target_gamma) >= GAMMA_COUNTS
        first, then = (gamma.capitalize(), at) if whole else (at, gamma)
        sentence = format_html("<b>{}</b>; {}", first, then)
    else:
        sentence = format_html("<b>{}</b>", at)
    if found.dark is not None:
        level, off = found.dark
        way = "bright" if off > 0 else "dark"
        sentence += format_html(". In the dark, {} % too {} at {} %", f"{abs(off):.0f}", way, f"{level:.0f}")
    if analysis.unread:
        sentence += format_html(
            ". Black is too dark for the meter and counts as none; with the usual {} cd/m², dark levels are meant to be brighter",
            significant(analysis.unread),
        )
    return sentence + format_html(". White is {} cd/m².", significant(float(analysis.white[1])))


def colours(analysis: Analysis | None) -> SafeString:
    """Return what the colours say."""
    found = None if analysis is None else findings.colour(analysis)
    if analysis is None or found is None:
        return SafeString("No colour has been read yet.")
    if found.inside == found.count:
        return format_html("Yes: the farthest is {}, <b>{}</b>.", found.label, f"{found.error:.1f}")
    return format_html(
        "{} of {} are within tolerance. The farthest is <b>{}, {}</b>: {}.",
        found.inside,
        found.count,
        found.label,
        f"{found.error:.1f}",
        WAYS[(found.way, found.sign)],
    )


def errors(analysis: Analysis | None) -> SafeString:
    """Return what the whole list says."""
    if analysis is None:
        return SafeString("Nothing has been read yet.")
    apart = analysis.out_of_reach | analysis.beyond_end
    rest = format_html(" {} patches are beyond what this display gives: counted apart.", int(apart.sum())) if apart.any() else ""
    value = np.where(apart, 0.0, analysis.whole.value)
    above, count = int((value > analysis.target.tolerance).sum()), int((~apart).sum())
    worst = int(value.argmax())
    if not above:
        return format_html("All {} patches are within {}.{}", count, f"{analysis.target.tolerance:g}", rest)
    return format_html(
        "<b>{} of {} patches</b> are above {}, luminance included; the worst is {}, {}.{}",
        above,
        count,
        f"{analysis.target.tolerance:g}",
        analysis.readings.labels[worst],
        f"{value[worst]:.1f}",
        rest,
    )
