"""The pages of a tuning's stops, and the acts that can be done there."""

from urllib.parse import parse_qsl, urlsplit

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST, require_safe

from fenvik.core.errors import FenvikError
from fenvik.core.signal.patterns import PatternError
from fenvik.formats.typed import TypedError
from fenvik.web.controls.blocks import BlockError
from fenvik.web.controls.maps import MapMovedError
from fenvik.web.controls.services import SheetError, SheetMovedError
from fenvik.web.controls.values import SettingError
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.people.asking import Asking
from fenvik.web.people.policy import require
from fenvik.web.stops.acts import typed_values
from fenvik.web.stops.answers import back_to, show_stop
from fenvik.web.stops.registry import acts, rights
from fenvik.web.stops.scenes import load_tuning
from fenvik.web.trail.facts import STOPS, trail_of
from fenvik.web.visits.models import Tuning

USUAL_VIEW = ("view", "balance")


@require_safe
def tuning_home(request: Asking, pk: int) -> HttpResponse:
    """Open a tuning at its next useful act."""
    tuning = load_tuning(request.user.firm_id, pk)
    return redirect("stop", pk=pk, stop=trail_of(tuning).next.id)


@require_safe
def stop_page(request: Asking, pk: int, stop: str) -> HttpResponse:
    """Show a stop."""
    return show_stop(request, pk, stop)


@require_POST
def act(request: Asking, pk: int, name: str) -> HttpResponse:
    """Do one of the acts; what goes wrong is said in one sentence and nothing else happens."""
    if name not in acts:
        raise Http404
    tuning = of_firm_or_404(Tuning, request.user.firm_id, pk)
    try:
        require(request.user, rights[name])
        answer = acts[name](request, tuning)
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


def _elsewhere(request: Asking, answer: HttpResponse) -> HttpResponse:
    """Let a page that would put the answer's fragments into itself go to another address instead, where it is another."""
    to = answer.get("Location", "")
    if not to or not request.headers.get("X-Alpine-Request"):
        return answer
    if _asked_by(to) == _asked_by(request.headers.get("Referer", "")):
        return answer
    gone = HttpResponse()
    gone["X-Fenvik-Go"] = to
    return gone


def _asked_by(address: str) -> tuple[str, dict[str, str]]:
    """Return what an address asks for: its path, and what is shown there but for what is shown anyway."""
    parts = urlsplit(address)
    return parts.path, {name: value for name, value in parse_qsl(parts.query) if (name, value) != USUAL_VIEW}
