"""What acts have in common: reading what a form sent."""

import uuid
from collections.abc import Callable

from django.http import HttpResponse

from fenvik.formats.numbers import NumberError, number, whole
from fenvik.web.people.asking import Asking
from fenvik.web.visits.models import Tuning

Act = Callable[[Asking, Tuning], HttpResponse | None]


def typed_values(request: Asking) -> dict[str, str]:
    """Return the values of controls that were typed, by control id."""
    return {name[6:]: str(text)[:40] for name, text in request.POST.items() if name.startswith("value-")}


def number_in(request: Asking, name: str) -> int:
    """Return a whole number of a form, −1 where there is none."""
    value = whole(request.POST.get(name, ""), least=0)
    return -1 if value is None else value


def decimal_in(request: Asking, name: str) -> float:
    """Return a number of a form, with a comma or a point; 0 where the field is empty, −1 where there is none."""
    text = request.POST.get(name, "")
    if not text.strip():
        return 0.0
    try:
        return number(text)
    except NumberError:
        return -1.0


def group_of(request: Asking) -> uuid.UUID:
    """Return the mark that makes a form harmless when it is sent twice."""
    try:
        return uuid.UUID(request.POST.get("group", ""))
    except ValueError:
        return uuid.uuid4()
