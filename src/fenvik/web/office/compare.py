"""Results as files, and two passes beside each other."""

from typing import Any

from django.db.models import Max
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.utils.formats import date_format
from django.utils.html import format_html_join
from django.utils.safestring import SafeString
from django.utils.timezone import localtime
from django.views.decorators.http import require_safe

from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.kit.templatetags.fenvik import figure, places, significant
from fenvik.web.office import several
from fenvik.web.passes.models import NOT_OF_THE_MODE, Pass, PassPurpose
from fenvik.web.people.asking import Asking
from fenvik.web.results import compare as comparing
from fenvik.web.results import pictures
from fenvik.web.results.assemble import analysis_of
from fenvik.web.results.parts import Pair
from fenvik.web.results.special import special_of
from fenvik.web.visits.models import Tuning

MOST_LISTED = 40


def _listed(tuning: Tuning) -> list[Pass]:
    """Return the passes that a tuning's may be compared with: all of its client's, so also those of other displays and signals."""
    there = (
        Pass.objects.filter(summary__isnull=False, removed_at__isnull=True, tuning__put_away_at__isnull=True)
        .exclude(purpose__in=(*NOT_OF_THE_MODE, PassPurpose.WARM_UP, PassPurpose.ADJUST, PassPurpose.HANDS_FREE))
        .order_by("-created_at", "-pk")
    )
    # Which ones first, then their rows: a client of many years has thousands, and each row is wide.
    wanted = set(there.filter(tuning=tuning).values_list("pk", flat=True)[:MOST_LISTED])
    others = there.filter(tuning__visit__client_id=tuning.visit.client_id)
    wanted |= set(others.values_list("pk", flat=True)[:MOST_LISTED])
    chosen = (
        Pass.objects.filter(pk__in=wanted)
        .select_related("tuning__visit", "tuning__display__menu_map", "correction")
        .defer("patches", "meter_facts", "correction__rows")
        .order_by("-created_at", "-pk")
    )
    return list(chosen)


def _options(listed: list[Pass], chosen: Pass | None) -> SafeString:
    """Return the passes as options: drawn here, for a template takes three times as long over so many."""
    return format_html_join(
        "",
        '<option value="{}"{}>{} · {} · {}, {}</option>',
        (
            (
                p.pk, SafeString(" selected") if p is chosen else "", date_format(localtime(p.created_at), "j M Y H:i"),
                p.name or p.get_purpose_display(), p.tuning.name, p.tuning.display.name,
            )
            for p in listed
        ),
    )  # fmt: skip


def _history(listed: list[Pass], chosen: list[Pass]) -> SafeString:
    """Return the rows of the history, each with a mark by which it is chosen."""
    return format_html_join(
        "",
        '<tr><td><input type="checkbox" name="c" value="{}" aria-label="beside others"{}></td>'
        '<th scope="row">{}</th><td>{}</td><td><a href="{}">{}</a>, {}</td><td>{}</td><td>{}</td><td>{}</td><td>{}</td>'
        "<td>{}</td></tr>",
        (
            (
                p.pk, SafeString(" checked") if p in chosen else "", date_format(localtime(p.created_at), "j M Y, H:i"),
                p.name or p.get_purpose_display(), reverse("tuning", args=(p.tuning_id,)),
                p.tuning.name, p.tuning.display.name, places(told.get("grey_mean"), 2), places(told.get("colour_mean"), 2),
                significant(told.get("white")), figure(told.get("cct"), -1),
                p.correction.reference_name if p.correction is not None else "–",
            )
            for p, told in ((p, p.summary or {}) for p in listed)
        ),
    )  # fmt: skip


def _chosen(request: Asking, listed: list[Pass], name: str, usual: Pass | None) -> Pass | None:
    wanted = request.GET.get(name, "")
    return next((p for p in listed if str(p.pk) == wanted), usual)


def _share_correction(passes: list[Any]) -> bool:
    """Whether two passes were looked at through the same correction, or both through none with the same meter."""
    a, b = passes
    if a is None or b is None:
        return False
    return bool(a.correction_id == b.correction_id and a.meter_id == b.meter_id)


@require_safe
def compare(request: Asking, pk: int) -> HttpResponse:
    """Show two passes beside each other."""
    tuning = of_firm_or_404(Tuning, request.user.firm_id, pk, "display__room", "visit")
    listed = _listed(tuning)
    mine = [p for p in listed if p.tuning_id == tuning.pk]
    first = _chosen(request, listed, "a", mine[-1] if mine else None)
    second = _chosen(request, listed, "b", mine[0] if mine else None)
    view = request.GET.get("view", "balance")
    asked = request.GET.getlist("c")[:40]
    chosen = [p for p in listed if str(p.pk) in asked][: several.MOST]
    kept = Pass.objects.select_related("tuning__display__menu_map", "correction").annotate(last_reading=Max("readings__id"))
    whole: list[Any] = [None if p is None else kept.get(pk=p.pk) for p in (first, second)]
    # Each is held against what its own tuning aimed at.
    both: list[Any] = [None if p is None else analysis_of(p, p.tuning, p.last_reading) for p in whole]
    special: list[Any] = [None, None]
    if view in ("light", "wrong"):
        special = [
            None if p is None else special_of(p, a, luminance=p.tuning.luminance)
            for p, a in zip(whole, both, strict=True)
        ]
    pair = Pair(both[0], both[1], found_special=special[0], left_special=special[1], window=tuning.window)
    both_there = [p for p in whole if p is not None]
    context = {
        "tuning": tuning, "listed": listed, "choices_a": _options(listed, first), "choices_b": _options(listed, second),
        "history": _history(listed, chosen), "chosen": chosen, "figures": several.figures_of(chosen),
        "stood_of": chosen if len(chosen) > 1 else both_there,
        "stood": several.settings_of(chosen if len(chosen) > 1 else both_there),
        "first": first, "second": second, "here": "visits",
        "picture": pictures.draw(view, pair), "views": [(name, label) for name, (label, _) in pictures.VIEWS.items()],
        "compared": comparing.compare(*both, shared=_share_correction(whole)),
    }  # fmt: skip
    return render(request, "office/compare.html", context)
