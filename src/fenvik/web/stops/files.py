"""What a stop shows as files: pictures, tables, readings."""

import csv
import io
import re
from functools import cache
from pathlib import Path

from django.http import Http404, HttpResponse
from django.utils import timezone
from django.utils.html import strip_tags
from django.utils.text import slugify
from django.views.decorators.http import require_safe

from fenvik.formats.sheet import harmless
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.passes.models import Pass
from fenvik.web.people.asking import Asking
from fenvik.web.results import pictures
from fenvik.web.results.files import write
from fenvik.web.stops.options import Options
from fenvik.web.stops.scenes import make_scene

STYLES = Path(__file__).parents[1] / "static" / "css"


@cache
def chart_style() -> str:
    """Return the rules by which charts are drawn on paper, for files that stand alone."""
    css = "\n".join(file.read_text(encoding="utf-8") for file in sorted(STYLES.glob("*.css")))
    desk = re.search(r"\.desk \{([^}]*)\}", css)
    rules = re.findall(r"^(\.chart[^{]*\{[^}]*\})", css, re.MULTILINE)
    values = dict(re.findall(r"(--[a-z-]+):\s*([^;]+);", desk.group(1) if desk else ""))
    text = "\n".join(rules)
    return re.sub(r"var\((--[a-z-]+)\)", lambda m: values.get(m.group(1), "currentColor"), text)


def alone(svg: str) -> str:
    """Return a chart as a file of its own: on paper, with its style."""
    head = 'xmlns="http://www.w3.org/2000/svg">'
    paper = '<rect width="100%" height="100%" fill="#faf6ef"/>'
    return svg.replace(head, f"{head}<style>{chart_style()}</style>{paper}", 1)


@require_safe
def picture_file(request: Asking, pk: int, stop: str, view: str, kind: str) -> HttpResponse:
    """Send the picture of a stop as SVG, or its table as CSV."""
    if stop not in ("found", "left") or view not in pictures.VIEWS:
        raise Http404
    scene = make_scene(request.user.firm_id, pk, stop, Options(view=view), person_id=request.user.pk)
    shown = scene.picture
    if shown is None or shown.empty:
        raise Http404
    name = slugify(f"{scene.tuning.name} {scene.stop_name} {pictures.VIEWS[view][0]}")
    if kind == "svg":
        if "<svg" not in str(shown.svg):
            raise Http404
        response = HttpResponse(alone(str(shown.svg)), content_type="image/svg+xml")
    else:
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow(shown.table.head)
        writer.writerows([_cell(cell) for cell in row] for row in shown.table.rows)
        response = HttpResponse(out.getvalue(), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="{name}.{kind}"'
    return response


NUMBERS = re.compile(r"[+-]?[0-9.]+( ?[±%:<>]? ?[0-9.]*)*")  # what a formula could be made of has letters or signs within


def _cell(cell: object) -> str:
    """Return a cell of a table as a spreadsheet may have it: numbers with a plain minus, texts made harmless."""
    text = strip_tags(str(cell)).replace("−", "-")
    return text if NUMBERS.fullmatch(text) else harmless(text)


@require_safe
def readings_file(request: Asking, pk: int, kind: str) -> HttpResponse:
    """Send the readings of a pass."""
    if kind not in ("csv", "cgats", "json"):
        raise Http404
    shown = of_firm_or_404(Pass, request.user.firm_id, pk, "tuning", "correction")
    data, type_, ending = write(shown, kind)
    response = HttpResponse(data, content_type=type_)
    name = slugify(f"{shown.tuning.name} {shown.get_purpose_display()} {timezone.localtime(shown.created_at):%Y-%m-%d %H%M}")
    response["Content-Disposition"] = f'attachment; filename="{name}.{ending}"'
    return response
