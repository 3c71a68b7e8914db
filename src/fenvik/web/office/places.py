"""Rooms and displays of a client, and the proposals of tunings for a display."""

from typing import Any

from django import forms
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.http import require_http_methods

from fenvik.core.errors import FenvikError
from fenvik.core.proposals import USUAL, propose
from fenvik.core.proposals import Room as RoomLight
from fenvik.web.clients.forms import DisplayForm, RoomForm
from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.clients.services import keep_display, keep_room
from fenvik.web.kit.forms import PlainNumbers
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.office.visited import last_and_coming
from fenvik.web.people.asking import Asking
from fenvik.web.planning.services import add_proposed
from fenvik.web.visits.aimed import SIGNALS, clash
from fenvik.web.visits.forms import NAMED_TARGETS
from fenvik.web.visits.models import Tuning, Visit
from fenvik.web.whites.told import of_display


@require_http_methods(["GET", "HEAD", "POST"])
def room(request: Asking, pk: int, client: bool = False) -> HttpResponse:
    """Show a room and change it; with ``client``, take up a new one of that client."""
    firm_id = request.user.firm_id
    shown = Room(client=of_firm_or_404(Client, firm_id, pk)) if client else of_firm_or_404(Room, firm_id, pk, "client")
    form = RoomForm(request.POST or None, instance=shown)
    if request.method == "POST" and form.is_valid():
        try:
            keep_room(room=form.save(commit=False), actor=request.user)
            return redirect("client", pk=shown.client_id)
        except FenvikError as problem:
            form.add_error("name", str(problem))
    context = {"form": form, "room": None if client else shown, "client": shown.client, "here": "clients"}
    if not client:
        when = last_and_coming("tunings__visit", timezone.localdate())
        context["displays"] = Display.objects.filter(room=shown).annotate(**when).order_by("maker", "model")
    return render(request, "office/room.html", context, status=422 if form.errors else 200)


@require_http_methods(["GET", "HEAD", "POST"])
def display(request: Asking, pk: int, new: bool = False) -> HttpResponse:
    """Show a display and change it; with ``new``, take up a new one in that room."""
    firm_id = request.user.firm_id
    if new:
        shown = Display(room=of_firm_or_404(Room, firm_id, pk, "client"))
    else:
        shown = of_firm_or_404(Display, firm_id, pk, "room__client", "menu_map")
    form = DisplayForm(request.POST or None, instance=shown, firm_id=firm_id)
    if request.method == "POST" and form.is_valid():
        keep_display(display=form.save(commit=False), actor=request.user, feeds=form.cleaned_data["feeds"])
        return redirect("display", pk=shown.pk)
    context: dict[str, Any] = {"form": form, "display": None if new else shown, "room": shown.room, "here": "clients"}
    if not new:
        context["tunings"] = (
            Tuning.objects.filter(display=shown).select_related("visit").order_by("-visit__on", "pk")[:12]
        )
        context["whites"] = of_display(shown)
        context["planned"] = None if context["tunings"] else Visit.objects.filter(client=shown.room.client).order_by("-on").first()
        context["same"] = (
            Display.objects.of_firm(firm_id)
            .filter(maker=shown.maker, model=shown.model)
            .exclude(pk=pk)
            .select_related("room__client")[:8]
        )
    return render(request, "office/display.html", context, status=422 if form.errors else 200)


class ProposalForm(PlainNumbers, forms.Form):
    """One proposal, to be taken or left, and changed."""

    take = forms.BooleanField(required=False)
    name = forms.CharField(max_length=80)
    picture_mode = forms.CharField(max_length=60, required=False)
    target_name = forms.ChoiceField(choices=NAMED_TARGETS)
    luminance = forms.FloatField(required=False, min_value=5, max_value=5000)
    tolerance = forms.FloatField(min_value=0.1, max_value=10)

    def __init__(self, *args, words: str, signal: str, **kwargs) -> None:  # type: ignore[no-untyped-def]
        super().__init__(*args, **kwargs)
        self.signal = signal
        for name, what in (
            ("picture_mode", "Picture mode"),
            ("name", "Name"),
            ("target_name", "Target"),
            ("luminance", "White in cd/m²"),
            ("tolerance", "Tolerance"),
        ):
            self.fields[name].widget.attrs["aria-label"] = f"{what} of the tuning for {words}"

    def clean(self) -> dict[str, Any]:
        """Want a picture mode where it is taken."""
        cleaned = super().clean() or {}
        if cleaned.get("take") and not (cleaned.get("picture_mode") or "").strip():
            self.add_error("picture_mode", "Which picture mode, as the display calls it?")
        if not cleaned.get("take") and (cleaned.get("picture_mode") or "").strip():
            self.add_error("picture_mode", "A mode is typed, but this row is not marked. Mark it, or empty the field.")
        if cleaned.get("take") and cleaned.get("target_name"):
            problem = clash(self.signal, cleaned["target_name"])
            if problem:
                self.add_error("target_name", problem)
        return cleaned


@require_http_methods(["GET", "HEAD", "POST"])
def proposals(request: Asking, pk: int, display_pk: int) -> HttpResponse:
    """Propose tunings for a display of a visit, and add those that are taken."""
    firm_id = request.user.firm_id
    visit = of_firm_or_404(Visit, firm_id, pk, "client")
    shown = of_firm_or_404(Display, firm_id, display_pk, "room__client")
    light = RoomLight(shown.room.lux_day, shown.room.lux_night)
    have = {(t.purpose, t.signal) for t in Tuning.objects.filter(visit=visit, display=shown)}
    rows: list[dict[str, Any]] = []
    for purpose, signal in USUAL:
        made = propose(purpose, signal, technology=shown.technology, room=light)
        words = purpose if signal == "sdr" else f"{purpose}, {SIGNALS[signal]}"
        form = ProposalForm(
            request.POST or None,
            prefix=f"{purpose}-{signal}",
            words=words,
            signal=signal,
            initial={
                "name": f"{shown.room.name}, {words}",
                "target_name": made.target,
                "luminance": made.luminance,
                "tolerance": made.tolerance,
                "take": False,
            },
        )
        rows.append({"proposal": made, "form": form, "words": words, "have": (purpose, signal) in have})
    problem = ""
    if request.method == "POST" and all([row["form"].is_valid() for row in rows]):  # noqa: C419 - every form is looked at
        chosen = [
            {
                "name": f["name"],
                "picture_mode": f["picture_mode"].strip(),
                "target_name": f["target_name"],
                "luminance": f["luminance"],
                "tolerance": f["tolerance"],
                "purpose": row["proposal"].purpose,
                "signal": row["proposal"].signal,
            }
            for row in rows
            if (f := row["form"].cleaned_data)["take"]
        ]
        if chosen:
            add_proposed(visit_id=pk, display_id=display_pk, actor=request.user, chosen=chosen)
            return redirect("visit", pk=pk)
        problem = "Nothing was chosen: mark the tunings that this visit is for."
    context = {"visit": visit, "display": shown, "rows": rows, "problem": problem, "here": "visits", "light": light}
    wrong = bool(problem) or any(row["form"].errors for row in rows)
    return render(request, "office/proposals.html", context, status=422 if wrong else 200)
