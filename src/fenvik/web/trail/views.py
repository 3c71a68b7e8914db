"""The pages of a tuning's stops, and the acts that can be done there."""

import uuid
from collections.abc import Callable
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST

from fenvik.core.errors import FenvikError
from fenvik.web.adjusting import services as adjusting
from fenvik.web.adjusting.desk import lay_out
from fenvik.web.adjusting.learned import keep
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.devices.services import take_up
from fenvik.web.handovers.services import make_handover, withdraw
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.kit.notify import notify
from fenvik.web.menus.services import SheetError, note_found
from fenvik.web.menus.values import SettingError, values_of
from fenvik.web.passes import services as passes
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.recent import recent_readings
from fenvik.web.trail.facts import STOPS
from fenvik.web.trail.forms import MeasureForm
from fenvik.web.trail.scenes import Options, load_tuning, make_scene
from fenvik.web.visits.models import Tuning


def _options(request: HttpRequest) -> Options:
    return Options(request.GET.get("view", "balance"), request.GET.get("table") == "1", request.GET.get("ask", ""))


@require_GET
def tuning_home(request: HttpRequest, pk: int) -> HttpResponse:
    """Open a tuning at its next useful act."""
    from fenvik.web.trail.facts import trail_of

    tuning = load_tuning(request.user.firm_id, pk)
    return redirect("stop", pk=pk, stop=trail_of(tuning).next.id)


@require_GET
def stop_page(request: HttpRequest, pk: int, stop: str) -> HttpResponse:
    """Show a stop."""
    return _show(request, pk, stop)


def _show(request: HttpRequest, pk: int, stop: str, **extra: Any) -> HttpResponse:
    if stop not in STOPS:
        raise Http404
    scene = make_scene(request.user.firm_id, pk, stop, _options(request))
    scene.extra |= extra
    return render(request, "trail/page.html", {"scene": scene}, status=422 if extra.get("problems") else 200)


Act = Callable[[HttpRequest, Tuning], HttpResponse | None]


def _back(request: HttpRequest, tuning: Tuning) -> HttpResponse:
    stop = request.POST.get("stop", "adjust")
    address = reverse("stop", args=(tuning.pk, stop if stop in STOPS else "adjust"))
    view = request.POST.get("view", "")
    return redirect(f"{address}?view={view}" if view.isalpha() else address)


@require_POST
def act(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Do one of the acts; what goes wrong is said in one sentence and nothing else happens."""
    if name not in ACTS:
        raise Http404
    tuning = of_firm_or_404(Tuning, request.user.firm_id, pk)
    try:
        answer = ACTS[name](request, tuning)
    except SheetError as problem:
        return _show(request, pk, "arrival", problems=problem.problems, typed=request.POST)
    except SettingError as problem:
        stop = request.POST.get("stop", "adjust")
        return _show(
            request, pk, stop if stop in STOPS else "adjust",
            problems={problem.control: str(problem)}, problem=str(problem), typed=_typed(request),
        )  # fmt: skip
    except FenvikError as problem:
        messages.error(request, str(problem))
        answer = None
    return answer or _back(request, tuning)


def _typed(request: HttpRequest) -> dict[str, str]:
    """Return the values of controls that were typed, by control id."""
    return {name[6:]: text[:40] for name, text in request.POST.items() if name.startswith("value-")}


def _number(request: HttpRequest, name: str) -> int:
    text = request.POST.get(name, "")
    return int(text) if text.isdigit() else -1


def _group(request: HttpRequest) -> uuid.UUID:
    try:
        return uuid.UUID(request.POST.get("group", ""))
    except ValueError:
        return uuid.uuid4()


def _note(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    note_found(tuning_id=tuning.pk, actor=request.user, typed=_typed(request), now=timezone.now())
    return redirect("stop", pk=tuning.pk, stop="groundwork")


def _turned(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    """Log what was turned; at Adjust the level is read again."""
    typed = _typed(request)
    other = request.POST.get("control", "")
    if other:
        typed = {other: request.POST.get("other-value", "")[:40]}
    basis = _number(request, "basis")
    made = adjusting.log_changes(
        tuning_id=tuning.pk, actor=request.user, typed=typed, seen=_number(request, "seen"), now=timezone.now(),
        group=_group(request), basis_id=basis if basis > 0 else None,
    )  # fmt: skip
    if request.POST.get("stop") == "adjust" and tuning.meter_id and made:
        adjusting.read_level(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _undo(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    made = adjusting.undo(tuning_id=tuning.pk, actor=request.user, group=_group(request), now=timezone.now())
    if tuning.meter_id and made:
        adjusting.read_level(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _read(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    adjusting.read_level(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def _keep_reading(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    running = tuning.passes.filter(finished_at__isnull=True, purpose=PassPurpose.ADJUST).exists()
    if running:
        adjusting.stop_reading(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    else:
        adjusting.read_level(tuning_id=tuning.pk, actor=request.user, now=timezone.now(), keep_reading=True)
    return None


def _level(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    """Work at another level: one step up or down, or a typed one. Above 50 % it is the high end."""
    current = tuning.high_level if tuning.working_end == "high" else tuning.low_level
    asked = request.POST.get("level", "")
    if asked in ("up", "down"):
        wanted = current + (10 if asked == "up" else -10)
        wanted = min(max(round(wanted / 10) * 10, 10), 100)
    else:
        try:
            wanted = float(asked.replace(",", "."))
        except ValueError:
            raise SettingError("A level is a number from 1 to 100.", "level") from None
    adjusting.work_at(tuning_id=tuning.pk, actor=request.user, end="high" if wanted > 50 else "low", level=wanted)
    return None


def _start(purpose: PassPurpose) -> Act:
    def start(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
        if purpose == PassPurpose.LEFT:
            _keep_learned(request, tuning.pk)
        passes.start_pass(tuning_id=tuning.pk, actor=request.user, now=timezone.now(), purpose=purpose)
        return redirect("stop", pk=tuning.pk, stop="found" if purpose == PassPurpose.FOUND else "left")

    return start


def _keep_learned(request: HttpRequest, pk: int) -> None:
    tuning = load_tuning(request.user.firm_id, pk)
    desk = lay_out(tuning, values_of(tuning), recent_readings(tuning))
    if desk.response is not None:
        keep(tuning=tuning, response=desk.response, now=timezone.now())


def _open_pass(request: HttpRequest, tuning: Tuning) -> int:
    wanted = _number(request, "pass")
    return of_firm_or_404(Pass, request.user.firm_id, wanted).pk


def _pause(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    passes.ask_to_pause(pass_id=_open_pass(request, tuning), actor=request.user, now=timezone.now())
    return None


def _resume(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    passes.resume(pass_id=_open_pass(request, tuning), actor=request.user)
    return None


def _stop(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    passes.ask_to_stop(pass_id=_open_pass(request, tuning), actor=request.user, now=timezone.now())
    return None


def _measure(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    form = MeasureForm(request.POST, instance=tuning)
    if not form.is_valid():
        return _show(request, tuning.pk, "instruments", measure_form=form, problems=True)
    form.save()
    notify(tuning.pk)
    return redirect("stop", pk=tuning.pk, stop="instruments")


def _directory(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    """Take up the devices of a directory; a single meter or source is chosen at once."""
    found = take_up(actor=request.user, address=request.POST.get("address", "")[:200], now=timezone.now())
    for problem in found.problems:
        messages.error(request, problem)
    for role, name in ((DeviceRole.METER, "meter"), (DeviceRole.SOURCE, "source")):
        of_role = Device.objects.of_firm(request.user.firm_id).filter(role=role)
        if getattr(tuning, f"{name}_id") is None and of_role.count() == 1:
            setattr(tuning, name, of_role.get())
            tuning.save(update_fields=[name])
    notify(tuning.pk)
    return redirect("stop", pk=tuning.pk, stop="instruments")


def _make_handover(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    make_handover(visit_id=tuning.visit_id, actor=request.user, now=timezone.now())
    return redirect("stop", pk=tuning.pk, stop="handover")


def _withdraw(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    from fenvik.web.handovers.models import Handover

    wanted = of_firm_or_404(Handover, request.user.firm_id, _number(request, "handover"))
    withdraw(handover_id=wanted.pk, actor=request.user, now=timezone.now())
    return None


ACTS: dict[str, Act] = {
    "note": _note,
    "turned": _turned,
    "undo": _undo,
    "read": _read,
    "keep-reading": _keep_reading,
    "level": _level,
    "measure-found": _start(PassPurpose.FOUND),
    "measure-left": _start(PassPurpose.LEFT),
    "pause": _pause,
    "resume": _resume,
    "stop-pass": _stop,
    "measure": _measure,
    "directory": _directory,
    "hand-over": _make_handover,
    "withdraw": _withdraw,
}
