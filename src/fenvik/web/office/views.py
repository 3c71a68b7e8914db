"""The office: visits, clients, instruments, and finding anything."""

from collections import defaultdict
from datetime import date, timedelta
from typing import Any

from django.conf import settings
from django.core.paginator import Paginator
from django.db import connection
from django.db.models import Count, Exists, OuterRef, Q, Subquery
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.template.loader import render_to_string
from django.utils import timezone
from django.utils.functional import SimpleLazyObject
from django.views.decorators.http import require_http_methods, require_safe

from fenvik.web.clients.models import Client, Display
from fenvik.web.clients.services import NameTakenError, keep_client
from fenvik.web.devices.models import Device
from fenvik.web.groundwork.state import fresh_state
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.office.forms import ClientForm, MoveForm, TuningForm, VisitForm, WordsForm
from fenvik.web.office.helping import start_of, walks_of
from fenvik.web.office.visited import last_and_coming
from fenvik.web.people.asking import Asking
from fenvik.web.planning.services import add_in_words, add_tuning, plan_visit
from fenvik.web.planning.wording import WordsError
from fenvik.web.trail import kept
from fenvik.web.trail.facts import trail_of
from fenvik.web.visits.models import Tuning, Visit

PAGE = 8


def day_words(day: date, today: date) -> str:
    """Return a day as a person says it."""
    named = f"{day:%A} {day.day} {day:%B}"
    away = (day - today).days
    if away in (0, 1, -1):
        return f"{('Today', 'Tomorrow', 'Yesterday')[away]}, {named}"
    return named if day.year == today.year else f"{named} {day.year}"


def row_of(tuning: Any) -> dict[str, Any]:
    """Return a tuning with its trail and its line in a list; kept with it unless the display has just been asked."""
    row: dict[str, Any] | None = getattr(tuning, "kept_row", None)
    if row is None or fresh_state(tuning.display.said, timezone.now()) is not None:
        trail = trail_of(tuning)
        row = {"tuning": tuning, "trail": trail}
        row["line"] = render_to_string("office/_tuning.html", {"item": row})
        row["card"] = SimpleLazyObject(lambda: render_to_string("office/_card.html", {"item": row}))
        tuning.kept_row = None if fresh_state(tuning.display.said, timezone.now()) else row
    return row


def _rows(visits: list[Visit]) -> list[dict[str, Any]]:
    tunings = defaultdict(list)
    pks = list(Tuning.objects.filter(visit__in=visits).values_list("pk", flat=True)) if visits else []
    for tuning in kept.tunings(visits[0].firm_id, pks) if pks else []:
        tunings[tuning.visit_id].append(row_of(tuning))
    rows = []
    for visit in visits:
        mine = tunings[visit.pk]
        going = next((t for t in mine if t["trail"].next.id != "handover" or not t["trail"].next.done), None)
        rows.append(
            {
                "visit": visit,
                "tunings": mine,
                "going": going,
                "rooms": sorted({t["tuning"].display.room.name for t in mine}),
            }
        )
    return rows


@require_safe
def visits(request: Asking) -> HttpResponse:
    """List the visits by day: today and what comes, then what was."""
    firm_id, today = request.user.firm_id, timezone.localdate()
    chosen = Visit.objects.of_firm(firm_id).select_related("client").order_by("-on", "starts", "pk")
    page = Paginator(chosen, PAGE).get_page(request.GET.get("page"))
    days: dict[date, list[dict[str, Any]]] = {}
    for row in _rows(list(page)):
        days.setdefault(row["visit"].on, []).append(row)
    ordered = sorted(days, key=lambda d: (d < today, d if d >= today else date.max - (d - date.min)))
    mine = Device.objects.of_firm(firm_id).exclude(role="display").filter(screen__isnull=True, removed_at__isnull=True)
    mine = mine.order_by("role", "name")
    last_seen = _due(firm_id, today)
    today_count = sum(visit.on == today for visit in page)
    context = {
        "here": "visits",
        "days": [(day_words(day, today), days[day]) for day in ordered],
        "page": page,
        "devices": mine,
        "due": last_seen,
        "today_count": today_count,
        "year": _year(firm_id, today),
        "start": start_of(firm_id),
        "walks": walks_of(firm_id),
        "pages": settings.STANDIN_PAGES,
    }
    return render(request, "office/visits.html", context)


def _due(firm_id: int, today: date) -> list[Display]:
    """Return displays that were worked on, but not for a year: the longest ago first."""
    visits_to = Visit.objects.filter(tunings__display=OuterRef("pk"))
    recent = Tuning.objects.filter(display=OuterRef("pk"), visit__on__gte=today - timedelta(days=365))
    return list(
        Display.objects.of_firm(firm_id)
        .filter(~Exists(recent), Exists(Tuning.objects.filter(display=OuterRef("pk"))))
        .annotate(last=Subquery(visits_to.order_by("-on").values("on")[:1]))
        .select_related("room__client")
        .order_by("last")[:5]
    )


# Newest pass as left of each tuning of a year, with the newest as found beside it: the rows stay in the database.
YEAR = """
SELECT count(*), avg(f.grey), avg(l.grey)
FROM (
    SELECT DISTINCT ON (p.tuning_id) p.tuning_id, (p.summary->>'grey_mean')::float8 AS grey
    FROM passes_pass p JOIN visits_tuning t ON t.id = p.tuning_id JOIN visits_visit v ON v.id = t.visit_id
    WHERE v.firm_id = %(firm)s AND t.put_away_at IS NULL AND v.on BETWEEN %(first)s AND %(last)s
        AND p.purpose = 'left' AND (p.complete OR p.named_at IS NOT NULL) AND p.removed_at IS NULL
        AND p.summary->>'grey_mean' IS NOT NULL
    ORDER BY p.tuning_id, p.named_at DESC NULLS LAST, p.created_at DESC
) l CROSS JOIN LATERAL (
    SELECT (p.summary->>'grey_mean')::float8 AS grey FROM passes_pass p
    WHERE p.tuning_id = l.tuning_id AND p.purpose = 'found' AND (p.complete OR p.named_at IS NOT NULL)
        AND p.removed_at IS NULL AND p.summary->>'grey_mean' IS NOT NULL
    ORDER BY p.named_at DESC NULLS LAST, p.created_at DESC LIMIT 1
) f
"""


def _year(firm_id: int, today: date) -> dict[str, Any]:
    """Return how many tunings were found and left this year, and their average grey errors."""
    with connection.cursor() as cursor:
        cursor.execute(YEAR, {"firm": firm_id, "first": date(today.year, 1, 1), "last": date(today.year, 12, 31)})
        count, found, left = cursor.fetchone()
    return {"count": count, "found": found, "left": left} if count else {}


@require_http_methods(["GET", "HEAD", "POST"])
def new_visit(request: Asking) -> HttpResponse:
    """Plan a visit."""
    firm_id = request.user.firm_id
    initial = {"on": timezone.localdate(), "client": request.GET.get("client")}
    form = VisitForm(request.POST or None, firm_id=firm_id, initial=initial)
    if request.method == "POST" and form.is_valid():
        try:
            visit = plan_visit(actor=request.user, cleaned=form.cleaned_data)
            return redirect("visit", pk=visit.pk)
        except WordsError as problem:
            form.add_error("words", str(problem))
    return render(request, "office/plan.html", {"form": form, "here": "visits"}, status=422 if form.errors else 200)


@require_http_methods(["GET", "HEAD", "POST"])
def visit(request: Asking, pk: int) -> HttpResponse:
    """Show a visit with its tunings, and add one."""
    shown = of_firm_or_404(Visit, request.user.firm_id, pk, "client")
    in_words = "words" in request.POST
    told = WordsForm(request.POST if in_words else None)
    if in_words and told.is_valid():
        try:
            add_in_words(visit_id=pk, actor=request.user, text=told.cleaned_data["words"])
            return redirect("visit", pk=pk)
        except WordsError as problem:
            told.add_error("words", str(problem))
    form = TuningForm((request.POST or None) if not in_words else None, visit=shown)
    if request.method == "POST" and form.is_valid():
        tuning = add_tuning(visit_id=pk, actor=request.user, cleaned=form.cleaned_data)
        return redirect("tuning", pk=tuning.pk)
    row = _rows([shown])[0]
    context = {
        "here": "visits",
        "visit": shown,
        "row": row,
        "form": form,
        "told": told,
        "day": day_words(shown.on, timezone.localdate()),
        "displays": Display.objects.filter(room__client=shown.client)
        .select_related("room")
        .order_by("room__name", "pk"),
        "move": MoveForm(initial={"on": shown.on, "starts": shown.starts, "notes": shown.notes}, auto_id="move_%s"),
        "open_form": request.method == "POST" or not row["tunings"],
    }
    return render(request, "office/visit.html", context, status=422 if form.errors or told.errors else 200)


@require_safe
def clients(request: Asking) -> HttpResponse:
    """List the clients."""
    chosen = (
        Client.objects.of_firm(request.user.firm_id)
        .annotate(
            display_count=Count("rooms__displays", filter=Q(rooms__displays__put_away_at__isnull=True), distinct=True),
            **last_and_coming("visits", timezone.localdate()),
        )
        .order_by("name")
    )
    page = Paginator(chosen, 40).get_page(request.GET.get("page"))
    return render(request, "office/clients.html", {"page": page, "here": "clients"})


@require_http_methods(["GET", "HEAD", "POST"])
def client(request: Asking, pk: int | None = None) -> HttpResponse:
    """Show a client, change it, or take up a new one."""
    shown = None if pk is None else of_firm_or_404(Client, request.user.firm_id, pk)
    form = ClientForm(request.POST or None, instance=shown or Client(firm_id=request.user.firm_id))
    if request.method == "POST" and form.is_valid():
        try:
            saved = keep_client(client=form.save(commit=False), actor=request.user)
        except NameTakenError as taken:
            form.add_error("name", str(taken))
        else:
            return redirect("client", pk=saved.pk)
    context: dict[str, Any] = {"form": form, "client": shown, "here": "clients"}
    if shown is not None:
        context["rooms"] = shown.rooms.prefetch_related("displays").order_by("name")
        context["rows"] = _rows(list(Visit.objects.filter(client=shown).select_related("client").order_by("-on")[:20]))
    return render(request, "office/client.html", context)
