"""How PQ ends, drawn anew while it is chosen and its points are moved: nothing is kept."""

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.people.asking import Asking
from fenvik.web.results.highlights import highlights_of
from fenvik.web.visits.endform import EndForm
from fenvik.web.visits.models import Tuning


@require_safe
def ending_drawn(request: Asking, pk: int) -> HttpResponse:
    """Show what an end that is being typed makes of highlights; what is wrong with it is said in its place."""
    tuning = of_firm_or_404(Tuning, request.user.firm_id, pk)
    form = EndForm(request.GET)
    if not form.is_valid():
        return render(request, "arrival/_ending.html", {"problems": [e for said in form.errors.values() for e in said]})
    return render(request, "arrival/_ending.html", {"h": highlights_of(tuning, form.cleaned_data)})
