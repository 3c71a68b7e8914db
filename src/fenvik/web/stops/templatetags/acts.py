"""Forms of acts: drawn here and not by a template, since a stop has dozens and each live page draws them after every reading."""

from typing import Any

from django import template
from django.urls import reverse
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

from fenvik.web.kit.templatetags.fenvik import once

register = template.Library()
HIDDEN = '<input type="hidden" name="{}" value="{}">'
PUTS = SafeString(' x-target="trail field hand notices" x-target.error="trail field hand notices"')
KEYS = {"Enter": "enter", "Space": "space"}


@register.simple_tag(takes_context=True)
def whence(context: template.Context) -> SafeString:
    """Return where a form comes from, so that its answer leads back there. Needs ``scene`` and ``csrf_token``."""
    scene = context["scene"]
    own = ("csrfmiddlewaretoken", context["csrf_token"]), ("stop", scene.stop), ("view", scene.options.view)
    pairs = (*own, *scene.options.more)
    return once(context) + format_html_join("", HIDDEN, pairs)


def _face(words: str, look: str, key: str) -> SafeString:
    """Return what a button says: small ones have their key before the words, the others behind."""
    if not key:
        return format_html("{}", words)
    said = KEYS.get(key, key) if look == "small" or key == "Enter" else key
    return format_html("<kbd>{}</kbd>{}" if look == "small" else "{1} <kbd>{0}</kbd>", said, words)


@register.simple_tag(takes_context=True)
def do(context: template.Context, act: str, words: str, look: str, /, *, key: str = "", key_name: str = "", plain: bool = False,
       form: str = "", **sent: Any) -> SafeString:  # fmt: skip
    """Return the form of an act as a button. Needs ``scene`` and ``csrf_token``.

    ``look``: the button's class; ``key``: does the same, under ``key_name`` where that is not the button's words; ``plain``: the
    answer is a page of its own; ``form``: the form's class; everything else is sent with it.
    """
    keyed = format_html(' data-key="{}" data-key-name="{}"', key, key_name or words) if key else ""
    return format_html(
        '<form method="post"{} action="{}"{}>{}{}<button class="{}"{}>{}</button></form>',
        format_html(' class="{}"', form) if form else "", reverse("act", args=(context["scene"].tuning.pk, act)),
        "" if plain else PUTS, whence(context), format_html_join("", HIDDEN, sent.items()), look, keyed, _face(words, look, key),
    )  # fmt: skip
