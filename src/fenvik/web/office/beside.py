"""The tunings of one display beside each other: night, day, game and HDR, with what stands otherwise in their menus."""

from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from fenvik.web.clients.models import Display
from fenvik.web.controls.values import values_of
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.kit.templatetags.fenvik import setting
from fenvik.web.office.several import MOST, Row, figures_of
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.people.asking import Asking
from fenvik.web.results.proof import counted, proof
from fenvik.web.visits.models import Tuning


def shown_of(display: Display) -> list[tuple[Tuning, Pass | None]]:
    """Return the newest tuning of each mode and signal of a display, with what it was left at, else what it was found at."""
    newest: dict[tuple[str, str], Tuning] = {}
    related = ("visit", "display__menu_map", "display__room")
    for tuning in Tuning.objects.filter(display=display).select_related(*related).order_by("visit__on", "pk"):
        newest[tuning.picture_mode.lower(), tuning.signal] = tuning
    rows = []
    for tuning in list(newest.values())[-MOST:]:
        passes = list(counted(tuning.passes.select_related("correction", "tuning__display__menu_map")))
        rows.append((tuning, proof(passes, PassPurpose.LEFT) or proof(passes, PassPurpose.FOUND)))
    return rows


def _state(pass_: Pass | None) -> str:
    return "not measured yet" if pass_ is None else f"{pass_.get_purpose_display()}, {pass_.created_at:%d %b %Y}".replace(" 0", " ")


def aims_of(tunings: list[Tuning]) -> list[Row]:
    """Return what each tuning is for and what it aims at."""
    return [
        Row("picture mode", [t.picture_mode for t in tunings]), Row("signal", [t.get_signal_display() for t in tunings]),
        Row("for", [t.get_purpose_display() for t in tunings]), Row("target", [t.target_label for t in tunings]),
    ]  # fmt: skip


def measured(shown: list[tuple[Tuning, Pass | None]]) -> list[Row]:
    """Return the figures of each, empty where one has not been measured, with how far each error was when it was found."""
    there = [p for _, p in shown if p is not None]
    rows = figures_of(there)
    at = [None if p is None else there.index(p) for _, p in shown]
    made = [Row("", [_state(p) for _, p in shown])]
    made += [Row(row.name, ["–" if i is None else row.cells[i] for i in at]) for row in rows]
    return made


def stands(tunings: list[Tuning]) -> list[Row]:
    """Return the controls that do not stand alike in all of them; only of what was noted, by one menu map."""
    menus = {t.display.menu_map_id for t in tunings}
    if len(tunings) < 2 or len(menus) != 1 or None in menus:
        return []
    values = [values_of(t) for t in tunings]
    menu = tunings[0].display.menu_map
    rows = []
    for control in menu.controls if menu else []:
        told = [v.now.get(control["id"]) if v.found is not None else None for v in values]
        if len({str(v) for v in told if v is not None}) > 1:
            rows.append(Row(control["label"], [setting(v) for v in told], control.get("group") or ""))
    return rows


@require_safe
def beside(request: Asking, pk: int) -> HttpResponse:
    """Show the tunings of a display beside each other."""
    display = of_firm_or_404(Display, request.user.firm_id, pk, "room__client", "menu_map")
    shown = shown_of(display)
    tunings = [t for t, _ in shown]
    context: dict[str, Any] = {
        "display": display, "tunings": tunings, "aims": aims_of(tunings), "figures": measured(shown) if shown else [],
        "stands": stands(tunings), "here": "clients",
    }  # fmt: skip
    return render(request, "office/beside.html", context)
