"""A settings sheet as a file and on paper."""

from typing import Any

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

LIGHTS = ("red", "green", "blue", "light")
LEAST_LEVELS = 3


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
    levels, rest = points_table(rows)
    context = {"sheet": sheet, "groups": grouped(rest), "count": len(rows), "levels": levels, "lights": LIGHTS}
    return render(request, "office/sheet.html", context)


def points_table(rows: list[dict[str, Any]]) -> tuple[list[tuple[str, list[Any]]], list[dict[str, Any]]]:
    """Return the points of a menu as lines, each a level with its red, green, blue and light, and the rows that are none.

    Sixty or eighty points read as a table of four columns; fewer than three levels stay as they are.
    """
    levels: dict[float, dict[str, Any]] = {}
    mine = set()
    for row in rows:
        role = (row.get("role") or "").split(".")
        light = role[-1] if role[:2] == ["white", "at"] and role[-1] in LIGHTS else "light" if role[:2] == ["gamma", "at"] else ""
        if light:
            at = float(".".join(role[2:-1] if light != "light" else role[2:]))
            levels.setdefault(at, {})[light] = row["value"]
            mine.add(row["id"])
    if len(levels) < LEAST_LEVELS:
        return [], rows
    table = [(f"{at:g} %", [values.get(light) for light in LIGHTS]) for at, values in sorted(levels.items())]
    return table, [row for row in rows if row["id"] not in mine]
