"""What templates need: addresses of shipped files, numbers as the look asks for them."""

import hashlib
import math
import uuid
from functools import cache
from pathlib import Path

from django import template
from django.conf import settings
from django.urls import reverse
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

from fenvik.web.kit.once import FIELD, PLACEHOLDER, new_key
from fenvik.web.kit.words import WORDS, anchor

register = template.Library()
MODULES = "js"
CALLED = {
    "sdr": "SDR", "hdr10": "HDR10", "hlg": "HLG", "dynamic": "dynamic metadata", "lcd": "LCD", "oled": "OLED",
    "wrgb-oled": "WRGB OLED",
}  # fmt: skip
CSRF_PLACEHOLDER = "csrf-of-whoever-looks"


@cache
def _mark(name: str) -> str:
    # A template's text is a subclass of str, which pathlib does not take as a part: the f-string makes it plain.
    return hashlib.sha256(Path(f"{settings.STATIC_FOLDER}/{name}").read_bytes()).hexdigest()[:10]


@register.simple_tag
def asset(name: str) -> str:
    """Return the address of a shipped file; it changes with the file, so browsers may keep it for ever."""
    return f"{settings.STATIC_URL}{name}?v={_mark(name)}"


@cache
def _mark_of_modules() -> str:
    every = sorted(Path(f"{settings.STATIC_FOLDER}/{MODULES}").glob("*.js"))
    return hashlib.sha256(b"".join(file.read_bytes() for file in every)).hexdigest()[:10]


@register.simple_tag
def module(name: str) -> str:
    """Return the address of a script that imports others beside it: they share a mark of all of them, within the path."""
    return f"{settings.STATIC_URL}{MODULES}/{_mark_of_modules()}/{name}"


@register.simple_tag
def word(known: str, shown: str = "") -> SafeString:
    """Return a word of the trade with what it means at hand: on hovering, and by a mark that leads to it."""
    return format_html(
        '<span class="word" title="{}">{}<a href="{}#{}" aria-label="what {} means">?</a></span>',
        WORDS[known], shown or known, reverse("words"), anchor(known), known,
    )  # fmt: skip


@register.simple_tag(takes_context=True)
def once(context: template.Context) -> SafeString:
    """Return the key by which a form is done once; in what several browsers share, the place for it."""
    shared = context.get("csrf_token") == CSRF_PLACEHOLDER
    return format_html('<input type="hidden" name="{}" value="{}">', FIELD, PLACEHOLDER if shared else new_key())


def significant(value: float | None, digits: int = 3) -> str:
    """Return a number with so many significant digits, thousands apart, never as a power of ten."""
    if value is None or not math.isfinite(value):
        return "–"
    if value == 0:
        return "0"
    places = max(digits - 1 - math.floor(math.log10(abs(value))), 0)
    return f"{round(value, places):,.{places}f}"


@register.filter
def luminance(value: float | None) -> str:
    """Return cd/m² to three significant digits."""
    return significant(value)


@register.filter
def places(value: float | None, count: int = 1) -> str:
    """Return a number with so many decimals; a dash where there is none."""
    if value is None or not math.isfinite(value):
        return "–"
    return f"{value:.{count}f}"


@register.filter
def signed(value: float | None, count: int = 1) -> str:
    """Return a number with its sign, a true minus, and so many decimals."""
    if value is None or not math.isfinite(value):
        return "–"
    shown = f"{abs(value):.{count}f}"
    if float(shown) == 0:
        return shown
    return ("+" if value > 0 else "−") + shown


@register.filter
def setting(value: object) -> str:
    """Return a control's value as a menu shows it."""
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, int | float):
        return f"{value:g}".replace("-", "−")
    return "–" if value is None else str(value)


@register.filter
def called(value: object) -> str:
    """Return what people call a signal or a technology that the device link has a word for; other words as they are."""
    return CALLED.get(str(value), str(value))


@register.filter
def all_called(values: list[object]) -> str:
    """Return some of them in a row."""
    return ", ".join(called(value) for value in values)


@register.filter
def minutes(seconds: float | None) -> str:
    """Return a length of time as a person says it."""
    if seconds is None:
        return "–"
    if seconds < 90:
        return f"{max(round(seconds), 1)} s"
    return f"{round(seconds / 60)} min"


@register.filter
def figure(value: float | None, count: int) -> str:
    """Return a number with so many decimals; 0 means three significant digits, −1 a whole number."""
    if count == 0:
        return significant(value)
    if count < 0:
        return "–" if value is None else f"{value:,.0f}"
    return places(value, count)


@register.filter
def at(mapping: dict[str, object] | None, key: str) -> object:
    """Return what a dict has under a key; nothing where there is no dict."""
    return mapping.get(key) if isinstance(mapping, dict) else None


@register.filter
def times(value: float, factor: float) -> float:
    """Return a product."""
    return value * float(factor)


@register.filter
def size(value: float) -> str:
    """Return a number without its sign."""
    return f"{abs(value):g}"


@register.filter
def light(channel: int | None) -> str:
    """Return the name of a light by its number; nothing for what is not of one light."""
    return "" if channel is None else ("red", "green", "blue")[channel]


@register.filter
def stop_of(purpose: str) -> str:
    """Return the stop at which a pass belongs."""
    home = {"found": "found", "left": "left", "warm-up": "groundwork", "check": "arrival"}
    home |= dict.fromkeys(("correction", "aim", "try"), "instruments")
    home |= dict.fromkeys(("survey", "whites", "shift", "panel"), "groundwork")
    return home.get(purpose, "adjust")


@register.simple_tag
def new_group() -> str:
    """Return a mark that makes a form harmless when it is sent twice."""
    return str(uuid.uuid4())


@register.simple_tag
def form_fields(fields: object) -> SafeString:
    """Return fields of a form as ``kit/_field.html`` shows them: pages with many of them are made in half the time."""
    parts = []
    for field in fields:  # type: ignore[attr-defined]
        hint = format_html("<small>{}</small>", field.help_text) if field.help_text else ""
        errors = format_html_join("", '<p class="problem">{}</p>', ((error,) for error in field.errors))
        parts.append(
            format_html(
                '<div class="entry{}"><label for="{}">{}</label>{}{}{}</div>',
                " wrong" if field.errors else "", field.id_for_label, field.label, field.as_widget(), hint, errors,
            )
        )  # fmt: skip
    return SafeString("".join(parts))
