"""The editor of the firm's own patch lists."""

from django import forms
from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_http_methods, require_safe

from fenvik.formats.numbers import whole
from fenvik.formats.patches import PatchesError, read_patches, write_cgats, write_csv
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.passes import patch_lists as services
from fenvik.web.passes.models import PatchList
from fenvik.web.people.asking import Asking
from fenvik.web.visits.models import Tuning

EXAMPLE = "deep red; 60; 10; 10\nhalf grey; 50; 50; 50"


class PatchListForm(forms.Form):
    """A list: its name, and a patch a line."""

    name = forms.CharField(max_length=80, label="Name")
    patches = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 16, "spellcheck": "false", "placeholder": EXAMPLE}),
        label="A patch a line: label; red; green; blue, in percent of signal",
    )

    def clean_patches(self) -> list[tuple[str, tuple[float, float, float]]]:
        """Return the patches; what is wrong is said with its line."""
        text = self.cleaned_data["patches"].replace("\r\n", "\n").strip()
        separator = ";" if ";" in text else ","
        try:
            return read_patches(f"label{separator}r{separator}g{separator}b\n{text}".encode())
        except PatchesError as problem:
            raise forms.ValidationError(f"Line {problem.line - 1}: {problem.why}.") from problem


@require_http_methods(["GET", "HEAD", "POST"])
def patch_list(request: Asking, pk: int | None = None) -> HttpResponse:
    """Write or change a list of the firm's own."""
    firm_id = request.user.firm_id
    shown = None if pk is None else of_firm_or_404(PatchList, firm_id, pk)
    initial = {}
    if shown is not None:
        lines = ["; ".join([row["label"], *(f"{v:g}" for v in row["percent"])]) for row in shown.patches]
        initial = {"name": shown.name, "patches": "\n".join(lines)}
    form = PatchListForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        given = form.cleaned_data
        try:
            kept = services.keep_list(actor=request.user, name=given["name"], rows=given["patches"], list_id=pk)
        except services.ListTakenError as taken:
            form.add_error("name", str(taken))
        else:
            messages.info(request, f"{kept.name} is kept, {len(kept.patches)} patches.")
            return redirect(_back(request, kept))
    return render(
        request,
        "office/patch_list.html",
        {"form": form, "shown": shown, "here": "visits", "tuning": request.GET.get("tuning", "")},
        status=422 if form.errors else 200,
    )


def _back(request: Asking, kept: PatchList) -> str:
    """Return where to go on: to the tuning that it was written for, which reads it from now on."""
    wanted = whole(request.GET.get("tuning", ""))
    if wanted is not None:
        tuning = Tuning.objects.of_firm(request.user.firm_id).filter(pk=wanted).first()
        if tuning is not None:
            services.choose_too(tuning_id=tuning.pk, actor=request.user, list_id=kept.pk)
            return f"{reverse('stop', args=(tuning.pk, 'found'))}?view=lists"
    return reverse("patch-list", args=(kept.pk,))


@require_safe
def patch_list_file(request: Asking, pk: int, kind: str) -> HttpResponse:
    """Send a list as CSV or CGATS."""
    if kind not in ("csv", "cgats"):
        raise Http404
    shown = of_firm_or_404(PatchList, request.user.firm_id, pk)
    rows = [(row["label"], (row["percent"][0], row["percent"][1], row["percent"][2])) for row in shown.patches]
    data = write_csv(rows) if kind == "csv" else write_cgats(rows)
    response = HttpResponse(data, content_type="text/csv; charset=utf-8" if kind == "csv" else "text/plain; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="{slugify(shown.name)}.{"csv" if kind == "csv" else "txt"}"'
    return response
