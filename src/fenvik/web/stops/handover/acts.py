"""What can be done at Handover."""

from django.http import HttpResponse
from django.shortcuts import redirect
from django.utils import timezone

from fenvik.web.handovers.models import Handover
from fenvik.web.handovers.services import make_handover, withdraw
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.people.asking import Asking
from fenvik.web.people.policy import Right
from fenvik.web.stops.acts import number_in
from fenvik.web.stops.registry import can_be_done
from fenvik.web.visits.models import Tuning


def _make_handover(request: Asking, tuning: Tuning) -> HttpResponse | None:
    make_handover(visit_id=tuning.visit_id, actor=request.user, now=timezone.now())
    return redirect("stop", pk=tuning.pk, stop="handover")


def _withdraw(request: Asking, tuning: Tuning) -> HttpResponse | None:
    wanted = of_firm_or_404(Handover, request.user.firm_id, number_in(request, "handover"))
    withdraw(handover_id=wanted.pk, actor=request.user, now=timezone.now())
    return None


can_be_done({"hand-over": _make_handover, "withdraw": _withdraw}, Right.HAND_OVER)
