"""The pages of a tuning's stops, and the acts that can be done there."""

from typing import Any
from urllib.parse import urlencode, urlsplit

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.text import slugify
from django.views.decorators.http import require_POST, require_safe

from fenvik.core.errors import FenvikError
from fenvik.core.patterns import PatternError
from fenvik.formats import sheet as files
from fenvik.formats.numbers import NumberError, number
from fenvik.formats.typed import TypedError
from fenvik.web.adjusting import lists
from fenvik.web.adjusting import services as adjusting
from fenvik.web.adjusting.desk import lay_out
from fenvik.web.adjusting.ends import highest, working
from fenvik.web.adjusting.learned import keep
from fenvik.web.devices.standing import is_paired
from fenvik.web.handovers.services import make_handover, withdraw
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.menus.exchange import facts_of
from fenvik.web.menus.maps import BlockError, MapMovedError, read_over_link
from fenvik.web.menus.models import SettingsSheet
from fenvik.web.menus.services import SheetError, SheetMovedError
from fenvik.web.menus.values import SettingError, values_of
from fenvik.web.passes import services as passes
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.recent import recent_readings
from fenvik.web.people.policy import Right, require
from fenvik.web.trail.acts import Act, group_of, number_in, typed_values
from fenvik.web.trail.acts_adjust import ADJUST_ACTS, read_again
from fenvik.web.trail.acts_arrival import ARRIVAL_ACTS
from fenvik.web.trail.acts_groundwork import GROUNDWORK_ACTS
from fenvik.web.trail.acts_instruments import INSTRUMENT_ACTS
from fenvik.web.trail.acts_passes import PASS_ACTS
from fenvik.web.trail.arrival import grouped
from fenvik.web.trail.facts import STOPS
from fenvik.web.trail.options import options_of
from fenvik.web.trail.scenes import load_tuning, make_scene
from fenvik.web.visits.models import Tuning


@require_safe
def tuning_home(request: HttpRequest, pk: int) -> HttpResponse:
    """Open a tuning at its next useful act."""
    from fenvik.web.trail.facts import trail_of

    tuning = load_tuning(request.user.firm_id, pk)
    return redirect("stop", pk=pk, stop=trail_of(tuning).next.id)


@require_safe
def stop_page(request: HttpRequest, pk: int, stop: str) -> HttpResponse:
    """Show a stop."""
    return show_stop(request, pk, stop)


def show_stop(request: HttpRequest, pk: int, stop: str, **extra: Any) -> HttpResponse:
    """Show a stop; ``extra`` is what a refused form had in it."""
    if stop not in STOPS:
        raise Http404
    # What was typed wrongly is shown where it was typed: the form says which part of the stop that is.
    options = options_of(request.POST if request.method == "POST" else request.GET)
    scene = make_scene(request.user.firm_id, pk, stop, options, extra)
    wrong = extra.get("problems") or extra.get("problem")
    return render(request, "trail/page.html", {"scene": scene}, status=422 if wrong else 200)


def back_to(request: HttpRequest, tuning: Tuning, **other: str) -> HttpResponse:
    """Return to the stop and the part of it that a form came from; ``other`` names what is to be shown instead."""
    stop = request.POST.get("stop", "adjust")
    address = reverse("stop", args=(tuning.pk, stop if stop in STOPS else "adjust"))
    asked = options_of(request.POST)
    pairs = {"view": asked.view} if asked.view != "balance" else {}
    pairs |= dict(asked.more) | other
    pairs = {k: v for k, v in pairs.items() if v}
    return redirect(f"{address}?{urlencode(pairs)}" if pairs else address)


@require_POST
def act(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Do one of the acts; what goes wrong is said in one sentence and nothing else happens."""
    if name not in ACTS:
        raise Http404
    tuning = of_firm_or_404(Tuning, request.user.firm_id, pk)
    try:
        require(request.user, OTHER_RIGHTS.get(name, Right.MEASURE))
        answer = ACTS[name](request, tuning)
    except SheetError as problem:
        return show_stop(request, pk, "arrival", problems=problem.problems, typed=request.POST)
    except SheetMovedError as problem:
        return show_stop(request, pk, "arrival", problem=str(problem), typed=request.POST)
    except (BlockError, MapMovedError) as problem:
        field = getattr(problem, "field", "")
        return show_stop(
            request,
            pk,
            "arrival",
            problem=str(problem),
            problems={field: str(problem)} if field else {},
            typed=request.POST,
        )
    except PatternError as problem:
        typed = {name[2:]: text[:200] for name, text in request.POST.items() if name.startswith("o-")}
        return show_stop(request, pk, "groundwork", problem=str(problem), typed_options=typed)
    except SettingError as problem:
        stop = request.POST.get("stop", "adjust")
        return show_stop(
            request, pk, stop if stop in STOPS else "adjust",
            problems={problem.control: str(problem)}, problem=str(problem), typed=typed_values(request),
        )  # fmt: skip
    except TypedError as problem:
        stop = request.POST.get("stop", "found")
        return show_stop(
            request, pk, stop if stop in STOPS else "found", typed_problem=str(problem), problems=True,
            typed_value=request.POST.get("value", "")[:200],
        )  # fmt: skip
    except FenvikError as problem:
        messages.error(request, str(problem))
        answer = None
    return _elsewhere(request, answer or back_to(request, tuning))


def _elsewhere(request: HttpRequest, answer: HttpResponse) -> HttpResponse:
    """Let a page that would put the answer's fragments into itself go to another address instead, where it is another."""
    to = answer.get("Location", "")
    if not to or not request.headers.get("X-Alpine-Request"):
        return answer
    came_from = urlsplit(request.headers.get("Referer", ""))
    here = f"{came_from.path}?{came_from.query}" if came_from.query else came_from.path
    if to == here:
        return answer
    gone = HttpResponse()
    gone["X-Fenvik-Go"] = to
    return gone


def _turned(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    """Log what was turned; at Adjust the level is read again."""
    typed = typed_values(request)
    other = request.POST.get("control", "")
    if other:
        typed = {other: request.POST.get("other-value", "")[:40]}
    if request.POST.get("link"):
        typed = lists.set_over_link(tuning_id=tuning.pk, actor=request.user, typed=typed)
    basis = number_in(request, "basis")
    made = adjusting.log_changes(
        tuning_id=tuning.pk, actor=request.user, typed=typed, seen=number_in(request, "seen"), now=timezone.now(),
        group=group_of(request), basis_id=basis if basis > 0 else None,
    )  # fmt: skip
    if request.POST.get("stop") == "groundwork" and not request.POST.get("link"):
        _see_what_it_says(request, tuning)
    # What is logged beside the nudge may be one of several: the person says when all of them are.
    if request.POST.get("stop") == "adjust" and made and not other:
        read_again(request, tuning)
    return None


def _see_what_it_says(request: HttpRequest, tuning: Tuning) -> None:
    """Read the menu of a paired display after a person has said what it is at: what it says itself is believed, and kept."""
    if not tuning.mode_id or not is_paired(tuning.display):
        return
    try:
        _, different = read_over_link(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    except FenvikError:
        return  # its control is away: the person is believed for now
    if different:
        are = "control stands" if different == 1 else "controls stand"
        said = f"The display was asked, and {different} {are} otherwise than was said."
        messages.error(request, f"{said} What it says itself is kept.")


def _undo(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    one = number_in(request, "one")
    made = adjusting.undo(
        tuning_id=tuning.pk, actor=request.user, group=group_of(request), now=timezone.now(), one=one if one > 0 else None
    )
    if made:
        read_again(request, tuning)
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
    current, top = working(tuning), highest(tuning)
    asked = request.POST.get("level", "")
    if asked in ("up", "down"):
        wanted = current + (10 if asked == "up" else -10)
        wanted = min(max(round(wanted / 10) * 10, 10), int(top))
    else:
        try:
            wanted = number(asked)
        except NumberError:
            raise SettingError("A level is a number from 1 to 100.", "level") from None
    adjusting.work_at(tuning_id=tuning.pk, actor=request.user, end="high" if wanted > 0.5 * top else "low", level=wanted)
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
    wanted = number_in(request, "pass")
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


def _make_handover(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    make_handover(visit_id=tuning.visit_id, actor=request.user, now=timezone.now())
    return redirect("stop", pk=tuning.pk, stop="handover")


def _withdraw(request: HttpRequest, tuning: Tuning) -> HttpResponse | None:
    from fenvik.web.handovers.models import Handover

    wanted = of_firm_or_404(Handover, request.user.firm_id, number_in(request, "handover"))
    withdraw(handover_id=wanted.pk, actor=request.user, now=timezone.now())
    return None


# What is done at a tuning is measuring, but for what the office does too.
OTHER_RIGHTS = {
    "hand-over": Right.HAND_OVER, "withdraw": Right.HAND_OVER, "keep-target": Right.PLAN, "keep-place": Right.PLAN,
}  # fmt: skip
ACTS: dict[str, Act] = {
    **ARRIVAL_ACTS,
    **GROUNDWORK_ACTS,
    **INSTRUMENT_ACTS,
    **ADJUST_ACTS,
    **PASS_ACTS,
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
    "hand-over": _make_handover,
    "withdraw": _withdraw,
}


@require_safe
def sheet_file(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """Send a settings sheet as an open file."""
    sheet = of_firm_or_404(
        SettingsSheet, request.user.firm_id, pk, "tuning__display__menu_map", "tuning__visit__client"
    )
    menu = sheet.tuning.display.menu_map
    controls = menu.controls if menu else []
    if kind == "json":
        data = files.write_json(facts_of(sheet.tuning, sheet.moment, sheet.at), controls, sheet.values)
    else:
        data = files.write_csv(controls, sheet.values)
    response = HttpResponse(data, content_type="application/json" if kind == "json" else "text/csv; charset=utf-8")
    name = slugify(
        f"{sheet.tuning.display.name} {sheet.tuning.picture_mode} {sheet.get_moment_display()} {sheet.at:%Y-%m-%d}"
    )
    response["Content-Disposition"] = f'attachment; filename="{name}.{kind}"'
    return response


@require_safe
def sheet_print(request: HttpRequest, pk: int) -> HttpResponse:
    """Show a settings sheet on paper."""
    sheet = of_firm_or_404(
        SettingsSheet,
        request.user.firm_id,
        pk,
        "tuning__display__menu_map",
        "tuning__display__room__client",
        "tuning__visit",
        "by",
    )
    menu = sheet.tuning.display.menu_map
    rows = [
        {**c, "value": sheet.values.get(c["id"])} for c in (menu.controls if menu else []) if c["id"] in sheet.values
    ]
    return render(request, "office/sheet.html", {"sheet": sheet, "groups": grouped(rows), "count": len(rows)})
