"""What is wrong, in sentences with numbers, and what to do about each: in the order in which it hurts."""

from collections.abc import Iterable
from typing import Any

from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

from fenvik.core.analysis.judgement import Fault
from fenvik.web.kit.templatetags.fenvik import significant
from fenvik.web.results.words import LIGHTS, TRENDS, WAYS


def _n(value: float, places: int = 1) -> str:
    return f"{value:.{places}f}"


def _cast(f: dict[str, Any], unit: str) -> tuple[str, str]:
    side = "high" if f["deviation"] > 0 else "low"
    says = (
        f"{LIGHTS[f['channel']]} is {_n(abs(f['deviation']))} % {side} at {f['level']:.0f} % {TRENDS[f['trend']]}; "
        f"greys are off by {_n(f['mean'])} on average without luminance, {_n(f['worst'])} at worst."
    )
    return says, "Two-point white balance at Adjust; where single levels stay off, the many-point one."


def _tone(f: dict[str, Any], unit: str) -> tuple[str, str]:
    side = "bright" if f["deviation"] > 0 else "dark"
    known = unit == "CIEDE2000" and f["gamma"] == f["gamma"] and f["target_gamma"] == f["target_gamma"]
    gamma = f"; the effective gamma averages {_n(f['gamma'], 2)} where the target has {_n(f['target_gamma'], 2)}" if known else ""
    says = f"Greys are {_n(abs(f['deviation']))} % too {side} at {f['level']:.0f} %{gamma}."
    return says, "Choose the nearest gamma first, then its points where the menu has them."


def _saturation(f: dict[str, Any], unit: str) -> tuple[str, str]:
    side = "too saturated" if f["chroma"] > 0 else "too pale"
    says = f"Colours are {side} by {_n(abs(f['chroma']))} on average; the worst is {f['label']}, {_n(f['worst'])}."
    if f.get("beyond"):
        return says, f"{f['label'].capitalize()} lies beyond what this panel gives. Look whether a colour space setting narrows it; if none does, leave it, and see to the paler ones."
    return says, "Look at the colour space setting and at saturation before any single colour."


def _colour_light(f: dict[str, Any], unit: str) -> tuple[str, str]:
    side = "brighter" if f["light"] > 0 else "darker"
    says = f"Colours are in place and {side} than they should be, by {_n(abs(f['light']))} on average; the worst is {f['label']}, {_n(f['worst'])}."
    if f["light"] < 0:
        return says, "Look at the tone of the greys first; beside a white with a light of its own no control gives colours more."
    return says, "Look at the tone of the greys first, then at the luminance of single colours."


def _colours(f: dict[str, Any], unit: str) -> tuple[str, str]:
    says = f"Colours are off by {_n(f['mean'])} on average; the worst is {f['label']}, {_n(f['worst'])}: {WAYS[(f['way'], f['sign'])]}."
    if f.get("beyond"):
        return says, f"{f['label'].capitalize()} lies beyond what this panel gives: no hue or tint brings it there. Leave it, and see to the paler ones."
    return says, "Colour space first, then tint; single colours last, and checked where they are pale."


def _simple(says: str, todo: str) -> Any:
    return lambda f, unit: (says.format(**f), todo)


def _bright(f: dict[str, Any], unit: str) -> tuple[str, str]:
    side = "darker" if f["off"] < 0 else "brighter"
    says = f"White is {significant(f['white'])} cd/m², {_n(abs(f['off']), 0)} % {side} than the {f['wanted']:.0f} that this tuning wants."
    return says, f"Turn {f['control']}: it is the light, and scales everything alike." if f.get("control") else "Turn the light, backlight, lamp or iris: it scales everything alike. Labels mislead; a control called contrast is seldom it."


SENTENCES: dict[str, Any] = {
    "cast": _cast, "tone": _tone, "saturation": _saturation, "colour-light": _colour_light, "colours": _colours, "dim": _bright, "bright": _bright,
    "clipped": _simple("Whites are clipped from {level:.0f} %: greys above it look the same.", "Lower the white level until the last steps can be told apart, then see that no light clips alone."),
    "crushed": _simple("Shadows are crushed up to {level:.0f} %: {count} steps have less than half the light they should.", "Raise the black level by single steps, and turn black stretch and dynamic contrast off."),
    "raised": _simple("Shadows are raised up to {level:.0f} %: they have more than twice the light they should.", "Lower the black level; look for light in the room and for a shadow enhancement that is on."),
    "contrast": _simple("Contrast is {contrast:.0f} to 1, which is low.", "Look at the black level, at an iris, at light from the room; otherwise it is what this panel has."),
    "reach": _simple("The panel covers {coverage:.0f} % of the target’s gamut.", "No control widens a panel, but a colour space setting may narrow it: look there."),
    "loaded": _simple("Light falls by 5 % from a window of {area:.0f} % on, and passes use {window:.0f} %.", "Measure with a smaller window, or the curve will bend with the patch."),
    "uneven": _simple("The screen is uneven: its darkest place has {share:.0f} % of the middle’s light, its most tinted is {duv:.4f} off in u′v′.", "Nothing in the menu mends it; a projector’s lens shift and a screen’s angle may."),
    "drift": _simple("Light drifted by {drift:.1f} % during the pass.", "Let it warm up longer; meanwhile the whites in between take the drift out."),
}  # fmt: skip


def sentence(fault: Fault, unit: str = "CIEDE2000") -> tuple[str, str]:
    """Return what is wrong and what to do about it."""
    says, todo = SENTENCES[fault.kind](fault.facts, unit)
    return str(says), str(todo)


def listed(faults: Iterable[Fault], unit: str = "CIEDE2000") -> SafeString:
    """Return the faults as a list, the worst first."""
    rows = [sentence(fault, unit) for fault in faults]
    return format_html('<ol class="wrong">{}</ol>', format_html_join("", "<li><b>{}</b><span>{}</span></li>", rows))
