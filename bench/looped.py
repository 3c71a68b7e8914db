"""The page that a stop's page is held against: as large, with as many queries, and drawn by the loops of a template."""

from functools import cache

from django.http import HttpRequest, HttpResponse
from django.template import engines
from django.urls import include, path

from fenvik.web.passes.models import Reading

OWN = 2  # queries that any page of a signed-in person has: the session, and who it is
ROWS = 20  # of a query
TABLE = """<!doctype html><html lang="en"><head><title>A page</title></head><body><table>{% for row in rows %}
<tr class="{% if row.is_odd %}odd{% else %}even{% endif %}"><th scope="row">{{ row.label }}</th>
{% for value in row.values %}<td>{{ value|floatformat:2 }}</td>{% endfor %}<td>{{ row.unit }}</td></tr>{% endfor %}</table></body></html>"""


def row(number: int) -> dict[str, object]:
    """Return what a row of the table shows: as much as a reading does."""
    return {"is_odd": number % 2, "label": f"{number % 100} %", "values": [0.3127 * number, 0.329, 120.5, 1.02], "unit": "cd/m²"}


def drawn(count: int) -> str:
    """Return the page with so many rows."""
    return str(engines["django"].from_string(TABLE).render({"rows": [row(i) for i in range(count)]}))


@cache
def row_size() -> int:
    """Return how many bytes a row has."""
    return len(drawn(100).encode()) // 100


def page(request: HttpRequest, size: int, queries: int, pass_id: int) -> HttpResponse:
    """Answer with about so many bytes after so many queries."""
    for i in range(max(queries - OWN, 0)):
        list(Reading.objects.filter(pass_of=pass_id).order_by("id")[i : i + ROWS])
    assert request.user.is_authenticated
    return HttpResponse(drawn(max(size // row_size(), 1)))


urlpatterns = [path("looped/<int:size>/<int:queries>/<int:pass_id>/", page), path("", include("fenvik.web.urls"))]
