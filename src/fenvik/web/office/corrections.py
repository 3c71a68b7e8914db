"""The firm's corrections: the list, one with everything about it, its file, and taking one up from files."""

from typing import Any

from django import forms
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.utils.text import slugify
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from fenvik.core.errors import FenvikError
from fenvik.core.measure.correction import CorrectionError
from fenvik.formats.readings import ReadingsError
from fenvik.web.clients.models import Technology
from fenvik.web.corrections import exchange
from fenvik.web.corrections.making import withdraw
from fenvik.web.corrections.models import METHODS, Correction
from fenvik.web.corrections.shown import beside, picture, sizes
from fenvik.web.corrections.sides import sides_of
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.kit.forms import rows_of
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.people.asking import Asking

MOST_BYTES = 4 * 1024 * 1024


class CorrectionFileForm(forms.Form):
    """A correction as CGATS, or the readings of both meters; and which meter of the firm it is for."""

    meter = forms.ModelChoiceField(queryset=Device.objects.none(), label="For the meter", empty_label=None)
    file = forms.FileField(required=False, label="A correction (CGATS)")
    reference = forms.FileField(required=False, label="or the reference’s readings (CSV or CGATS)")
    field = forms.FileField(required=False, label="and the meter’s readings of the same patches")
    method = forms.ChoiceField(
        choices=[each for each in METHODS.items() if each[0] != "least-squares"], required=False, initial="four-colour"
    )
    maker = forms.CharField(max_length=60, required=False, label="Display’s maker")
    model = forms.CharField(max_length=60, required=False, label="Display’s model")
    technology = forms.ChoiceField(choices=Technology.choices, required=False, label="Technology")

    def __init__(self, *args: Any, firm_id: int, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        mine = Device.objects.of_firm(firm_id).filter(role=DeviceRole.METER, removed_at__isnull=True)
        rows_of(self, "meter").queryset = mine.order_by("name")

    def clean(self) -> dict[str, Any]:
        """Hold what was given together."""
        cleaned = super().clean() or {}
        both = cleaned.get("reference") and cleaned.get("field")
        if not cleaned.get("file") and not both:
            raise forms.ValidationError("Give a correction, or the readings of both meters.")
        for name in ("file", "reference", "field"):
            given = cleaned.get(name)
            if given and given.size > MOST_BYTES:
                self.add_error(name, "The file is larger than 4 MiB.")
        return cleaned


@require_safe
def corrections(request: Asking) -> HttpResponse:
    """List the corrections by meter."""
    rows = Correction.objects.of_firm(request.user.firm_id).filter(withdrawn_at__isnull=True).defer("rows")
    by_meter: dict[str, list[Correction]] = {}
    for row in rows.order_by("meter_name", "-made_at")[:500]:
        by_meter.setdefault(f"{row.meter_name} {row.meter_serial}", []).append(row)
    return render(request, "office/corrections.html", {"by_meter": by_meter, "here": "instruments"})


@require_safe
def correction(request: Asking, pk: int) -> HttpResponse:
    """Show a correction."""
    shown = of_firm_or_404(Correction, request.user.firm_id, pk, "display__room__client", "made_by", "meter")
    sides = sides_of(shown.rows)
    rows = beside(sides, shown.matrix)
    context = {
        "here": "instruments", "correction": shown, "rows": rows, "sizes": sizes(rows),
        "svg": picture(rows, sides, shown.bits, shown.range),
    }  # fmt: skip
    return render(request, "office/correction.html", context)


@require_safe
def correction_file(request: Asking, pk: int) -> HttpResponse:
    """Send a correction as CGATS."""
    shown = of_firm_or_404(Correction, request.user.firm_id, pk)
    name = slugify(f"correction {shown.meter_name} on {shown.display_name} {timezone.localtime(shown.made_at):%Y-%m-%d}")
    response = HttpResponse(exchange.as_file(shown), content_type="text/plain; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="{name}.txt"'
    return response


@require_POST
def correction_withdraw(request: Asking, pk: int) -> HttpResponse:
    """Use a correction no longer."""
    shown = of_firm_or_404(Correction, request.user.firm_id, pk)
    withdraw(correction_id=shown.pk, actor=request.user, now=timezone.now())
    messages.info(request, "It is used no longer. Passes that were read through it keep it.")
    return redirect("corrections")


@require_http_methods(["GET", "HEAD", "POST"])
def correction_import(request: Asking) -> HttpResponse:
    """Take a correction up from a file, or make one of two files of readings."""
    form = CorrectionFileForm(request.POST or None, request.FILES or None, firm_id=request.user.firm_id)
    if request.method == "POST" and form.is_valid():
        given, field = form.cleaned_data, "file" if form.cleaned_data["file"] else "reference"
        try:
            if given["file"]:
                made = exchange.from_file(
                    data=given["file"].read(), meter=given["meter"], actor=request.user, now=timezone.now()
                )
            else:
                made = exchange.from_readings(
                    reference=given["reference"].read(), field=given["field"].read(), method=given["method"] or "four-colour",
                    meter=given["meter"], actor=request.user, now=timezone.now(), facts=given,
                )  # fmt: skip
        except (ReadingsError, CorrectionError) as problem:
            form.add_error(field, str(problem))
        except FenvikError as problem:
            form.add_error(None, str(problem))
        else:
            return redirect("correction", pk=made.pk)
    return render(
        request,
        "office/correction_import.html",
        {"form": form, "here": "instruments"},
        status=422 if form.errors else 200,
    )
