"""The people of a firm, the log, one's own page, and the links by which people join or set a password."""

import zoneinfo
from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.contrib import messages
from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.core.paginator import Paginator
from django.db import IntegrityError
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from fenvik.core.errors import FenvikError
from fenvik.formats.numbers import whole
from fenvik.web.kit.notify import notify_ended
from fenvik.web.people import second, services
from fenvik.web.people.asking import Asking
from fenvik.web.people.forms import ChangePasswordForm, CodeForm, InviteForm, JoinForm, PasswordForm
from fenvik.web.people.models import Firm, Link, LogEntry, Role, SignedIn, User
from fenvik.web.people.policy import Right, require

BACKEND = "django.contrib.auth.backends.ModelBackend"
A_PAGE = 60


def _whole(request: Asking, link: Link) -> str:
    return request.build_absolute_uri(reverse("link", args=(link.token,)))


@require_safe
def people(request: Asking) -> HttpResponse:
    """List the people of the firm and the links that are open."""
    require(request.user, Right.RUN_FIRM)
    return _people(request, InviteForm())


def _people(request: Asking, form: InviteForm, status: int = 200) -> HttpResponse:
    firm_id = request.user.firm_id
    rows = User.objects.filter(firm_id=firm_id).order_by("-is_active", "first_name", "username").prefetch_related("signed_in")
    links = Link.objects.filter(firm_id=firm_id, used_at__isnull=True, until__gt=timezone.now()).order_by("-made_at")
    context = {
        "here": "people", "people": [(p, second.has_second(p)) for p in rows], "roles": Role.choices, "form": form,
        "links": [(link, _whole(request, link)) for link in links],
        "zone": Firm.objects.values_list("time_zone", flat=True).get(pk=firm_id), "zones": sorted(zoneinfo.available_timezones()),
        "usual_zone": settings.TIME_ZONE, "now": timezone.now(),
    }  # fmt: skip
    return render(request, "people/people.html", context, status=status)


@require_POST
def people_act(request: Asking, name: str) -> HttpResponse:
    """Do one of the acts of the page of people."""
    sent, actor = request.POST, request.user
    if name == "invite":
        form = InviteForm(sent)
        if not form.is_valid():
            require(actor, Right.RUN_FIRM)
            return _people(request, form, 422)
        services.invite(actor=actor, **form.cleaned_data)
        messages.info(request, "The link is below. Hand it on yourself; it works once, for a week.")
        return redirect("people")
    acts: dict[str, Callable[[], Any]] = {
        "role": lambda: services.change_role(actor=actor, person_id=_number(sent), role=sent.get("role", "")),
        "deactivate": lambda: services.set_active(actor=actor, person_id=_number(sent), active=False),
        "activate": lambda: services.set_active(actor=actor, person_id=_number(sent), active=True),
        "end-sessions": lambda: services.end_all(actor=actor, person_id=_number(sent)),
        "second-off": lambda: services.take_second_off(actor=actor, person_id=_number(sent)),
        "password-link": lambda: services.let_set_password(actor=actor, person_id=_number(sent)),
        "zone": lambda: services.keep_zone(actor=actor, name=sent.get("zone", "").strip()[:60]),
        "end-link": lambda: services.end_link(actor=actor, link_id=_number(sent)),
    }
    if name not in acts or (name == "role" and sent.get("role") not in Role.values):
        raise Http404
    try:
        acts[name]()
    except FenvikError as problem:
        messages.error(request, str(problem))
    return redirect("people")


def _number(sent: Any) -> int:
    number = whole(sent.get("id", ""), 1)
    if number is None:
        raise Http404
    return number


@require_safe
def log(request: Asking) -> HttpResponse:
    """Show who did what, newest first."""
    require(request.user, Right.RUN_FIRM)
    rows = LogEntry.objects.filter(firm_id=request.user.firm_id).select_related("person").order_by("-at", "-pk")
    page = Paginator(rows, A_PAGE).get_page(request.GET.get("page"))
    return render(request, "people/log.html", {"here": "people", "page": page})


@require_http_methods(["GET", "HEAD", "POST"])
def own(request: Asking) -> HttpResponse:
    """Show one's own sign-in: password, second factor, sessions; change the password."""
    form = ChangePasswordForm(request.POST or None, person=request.user)
    if request.method == "POST" and form.is_valid():
        services.set_password(person=request.user, password=form.cleaned_data["password"])
        login(request, request.user, backend=BACKEND)
        messages.info(request, "The password is changed. You were signed out everywhere else.")
        return redirect("own")
    return _own(request, form, 422 if form.errors else 200)


def _own(request: Asking, form: ChangePasswordForm, status: int = 200, more: dict[str, Any] | None = None) -> HttpResponse:
    sessions = SignedIn.objects.filter(person=request.user).order_by("-at")
    context = {
        "here": "own", "form": form, "has_second": second.has_second(request.user), "code_form": CodeForm(auto_id="code_%s"),
        "sessions": [(one, one.session_key == request.session.session_key) for one in sessions], **(more or {}),
    }  # fmt: skip
    return render(request, "people/own.html", context, status=status)


@require_POST
def own_act(request: Asking, name: str) -> HttpResponse:
    """Switch the second factor on or off, or end one's other sessions."""
    person = request.user
    if name == "end-others":
        services.end_sessions(person, but=request.session.session_key or "")
        messages.info(request, "You are signed out everywhere else.")
    elif name == "second-off":
        if not person.check_password(request.POST.get("password", "")[:500]):
            messages.error(request, "That is not your password; nothing was changed.")
        else:
            second.switch_off(person)
            messages.info(request, "You sign in with the password alone now.")
    elif name == "second-begin":
        device = second.begin(person)
        return _own(request, ChangePasswordForm(person=person), more=second.shown(device))
    elif name == "second-on":
        form = CodeForm(request.POST, auto_id="code_%s")
        codes = second.confirm(person, form.cleaned_data["code"]) if form.is_valid() else None
        if codes is None:
            device = second.begin(person)
            form.add_error("code", "That code is not right now; your telephone’s clock must be.")
            return _own(request, ChangePasswordForm(person=person), 422, more={"code_form": form, **second.shown(device)})
        return _own(request, ChangePasswordForm(person=person), more={"codes": codes})
    else:
        raise Http404
    return redirect("own")


@login_not_required
@require_http_methods(["GET", "HEAD", "POST"])
def link(request: HttpRequest, token: str) -> HttpResponse:
    """Let somebody join the firm, or set a new password."""
    now = timezone.now()
    try:
        good = services.good_link(token, now)
        sent = request.POST or None
        form: PasswordForm = PasswordForm(sent, person=good.person) if good.person is not None else JoinForm(sent)
        if request.method == "POST" and form.is_valid():
            told = {k: v for k, v in form.cleaned_data.items() if k != "again"}
            if good.person is not None:
                services.set_password_by_link(token=token, now=now, **told)
                notify_ended(person_id=good.person.pk)
                messages.info(request, "The new password is set: sign in with it.")
            else:
                services.join(token=token, now=now, **told)
                messages.info(request, f"Welcome to {good.firm.name}: sign in.")
            return redirect("sign-in")
    except IntegrityError:
        form.add_error("username", "Somebody signs in with this name already.")
    except services.LinkError as problem:
        return render(request, "people/link.html", {"problem": str(problem)}, status=410)
    return render(request, "people/link.html", {"form": form, "link": good}, status=422 if form.errors else 200)
