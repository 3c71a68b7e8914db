"""A settings sheet as a file and on paper."""

from django.http import HttpResponse
from django.shortcuts import render
from django.utils import timezone
from django.utils.text import slugify
from django.views.decorators.http import require_safe

from fenvik.formats import sheet as files
from fenvik.web.controls.exchange import facts_of
from fenvik.web.controls.models import SettingsSheet
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.people.asking import Asking
from fenvik.web.stops.arrival.page import grouped


@require_safe
def sheet_file(request: Asking, pk: int, kind: str) -> HttpResponse:
    """Send a settings sheet as an open file."""
    sheet = of_firm_or_404(
        SettingsSheet, request.user.firm_id, pk, "tuning__display__menu_map", "tuning__visit__client"
    )
    menu = sheet.tuning.display.menu_map
    controls = menu.controls if menu else []
    if kind == "json":
        data = files.write_json(facts_of(sheet.tuning, sheet.moment, sheet.at), controls, sheet.values)
    else:
        data = files.write_csv(controls, sheet.values)
    response = HttpResponse(data, content_type="application/json" if kind == "json" else "text/csv; charset=utf-8")
    day = f"{timezone.localtime(sheet.at):%Y-%m-%d}"
    name = slugify(f"{sheet.tuning.display.name} {sheet.tuning.picture_mode} {sheet.get_moment_display()} {day}")
    response["Content-Disposition"] = f'attachment; filename="{name}.{kind}"'
    return response


@require_safe
def sheet_print(request: Asking, pk: int) -> HttpResponse:
    """Show a settings sheet on paper."""
    sheet = of_firm_or_404(
        SettingsSheet,
        request.user.firm_id,
        pk,
        "tuning__display__menu_map",
        "tuning__display__room__client",
        "tuning__visit",
        "by",
    )
    menu = sheet.tuning.display.menu_map
    rows = [
        {**c, "value": sheet.values.get(c["id"])} for c in (menu.controls if menu else []) if c["id"] in sheet.values
    ]
    return render(request, "office/sheet.html", {"sheet": sheet, "groups": grouped(rows), "count": len(rows)})
