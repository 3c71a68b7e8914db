"""Pages of what is put away, and the acts of a visit: move, cancel, copy."""

from collections.abc import Callable
from typing import Any

from django import forms
from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from fenvik.core.errors import FenvikError
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.office.forms import MoveForm
from fenvik.web.people.asking import Asking
from fenvik.web.planning.away import KEPT_FOR, KINDS, AwayError, away_of, hanging, named, put_away, take_back, thing_of
from fenvik.web.planning.moving import cancel_visit, copy_visit, move_visit
from fenvik.web.visits.models import Visit


@require_safe
def away(request: Asking) -> HttpResponse:
    """List what the firm has put away, with the days that are left to take it back."""
    rows = away_of(request.user.firm_id, timezone.now())
    return render(request, "office/away.html", {"rows": rows, "days": KEPT_FOR.days, "here": "clients"})


def _back(kind: str, thing: Any) -> tuple[str, tuple[Any, ...]]:
    """Return the page that is left when a thing is put away."""
    match kind:
        case "tuning":
            return "visit", (thing.visit_id,)
        case "display":
            return "client", (thing.room.client_id,)
        case "sheet":
            return "stop", (thing.tuning_id, "arrival")
        case "pass":
            return "stop", (thing.tuning_id, "left" if thing.purpose == "left" else "found")
        case "correction":
            return "corrections", ()
    return ("clients" if kind == "client" else "visits"), ()


def _thing(request: Asking, kind: str, pk: int, *, away: bool) -> Any:
    if kind not in KINDS:
        raise Http404
    return thing_of(kind, pk, request.user.firm_id, away=away)


@require_http_methods(["GET", "HEAD", "POST"])
def put_one_away(request: Asking, kind: str, pk: int) -> HttpResponse:
    """Say what hangs on a thing, and put it away."""
    thing = _thing(request, kind, pk, away=False)
    to, keys = _back(kind, thing)
    problem = ""
    if request.method == "POST":
        try:
            name = put_away(kind=kind, pk=pk, actor=request.user, now=timezone.now())
        except AwayError as refused:
            problem = str(refused)
        else:
            messages.success(request, f"{name} is put away. For {KEPT_FOR.days} days it can be taken back.")
            return redirect(to, *keys)
    context = {
        "kind": KINDS[kind].words, "name": named(kind, thing), "hanging": hanging(kind, thing), "days": KEPT_FOR.days,
        "problem": problem, "leave": reverse(to, args=keys), "here": "clients",
    }  # fmt: skip
    return render(request, "office/put_away.html", context, status=409 if problem else 200)


@require_POST
def take_one_back(request: Asking, kind: str, pk: int) -> HttpResponse:
    """Take a thing back."""
    _thing(request, kind, pk, away=True)
    try:
        name = take_back(kind=kind, pk=pk, actor=request.user)
    except AwayError as refused:
        messages.error(request, str(refused))
        return redirect("away")
    messages.success(request, f"{name} is back.")
    return redirect("away")


def _move(request: Asking, visit: Visit) -> int:
    form = MoveForm(request.POST)
    if not form.is_valid():
        raise forms.ValidationError(" ".join(str(e[0]) for e in form.errors.values()))
    move_visit(visit_id=visit.pk, actor=request.user, cleaned=form.cleaned_data)
    messages.success(request, f"The visit is on {form.cleaned_data['on']:%-d %B %Y} now.")
    return int(visit.pk)


def _cancel(request: Asking, visit: Visit) -> int:
    cancel_visit(visit_id=visit.pk, actor=request.user, now=timezone.now(), why=request.POST.get("why", "").strip())
    return int(visit.pk)


def _hold(request: Asking, visit: Visit) -> int:
    cancel_visit(visit_id=visit.pk, actor=request.user, now=timezone.now(), cancelled=False)
    return int(visit.pk)


def _copy(request: Asking, visit: Visit) -> int:
    form = MoveForm(request.POST)
    if not form.is_valid():
        raise forms.ValidationError(" ".join(str(e[0]) for e in form.errors.values()))
    made = copy_visit(visit_id=visit.pk, actor=request.user, on=form.cleaned_data["on"], now=timezone.now())
    messages.success(request, "Planned once more: the same displays and targets, nothing of what was read.")
    return int(made.pk)


ACTS: dict[str, Callable[[Asking, Visit], int]] = {"move": _move, "cancel": _cancel, "hold": _hold, "copy": _copy}


@require_POST
def visit_act(request: Asking, pk: int, name: str) -> HttpResponse:
    """Do something with a visit."""
    if name not in ACTS:
        raise Http404
    visit = of_firm_or_404(Visit, request.user.firm_id, pk, "client")
    try:
        return redirect("visit", pk=ACTS[name](request, visit))
    except (FenvikError, forms.ValidationError) as problem:
        words = " ".join(problem.messages) if isinstance(problem, forms.ValidationError) else str(problem)
        messages.error(request, words)
        return redirect("visit", pk=pk)
