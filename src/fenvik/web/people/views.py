"""Signing in and out, and the pages for what is not there."""

from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView, LogoutView
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.utils.decorators import method_decorator
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_http_methods

from fenvik.web.kit.notify import notify_ended
from fenvik.web.people.forms import CodeForm, SignInForm
from fenvik.web.people.models import User
from fenvik.web.people.second import has_second, is_right

HALF_LASTS = timedelta(minutes=5)  # between the password and the code
HALF = "half signed in"


@method_decorator(login_not_required, name="dispatch")
class SignInView(LoginView):
    """The way in; wrong tries are counted and slowed down, and a second factor is asked for where there is one."""

    template_name = "people/sign_in.html"
    form_class = SignInForm
    redirect_authenticated_user = True

    def form_valid(self, form: SignInForm) -> HttpResponse:  # type: ignore[override]
        """Let the person in, or ask for the code."""
        person = form.get_user()
        if not has_second(person):
            return super().form_valid(form)
        self.request.session[HALF] = {
            "person": person.pk, "backend": person.backend, "at": timezone.now().isoformat(), "next": self.get_success_url(),
            "password": person.get_session_auth_hash(),
        }  # fmt: skip
        return redirect("second-factor")


@login_not_required
@require_http_methods(["GET", "HEAD", "POST"])
def second_factor(request: HttpRequest) -> HttpResponse:
    """Ask for the code that belongs to a password that was right a moment ago."""
    half = request.session.get(HALF) or {}
    person = User.objects.filter(pk=half.get("person") or 0, is_active=True).first()
    fresh = half and timezone.now() - datetime.fromisoformat(half["at"]) < HALF_LASTS
    if person is None or not fresh or person.get_session_auth_hash() != half["password"]:
        request.session.pop(HALF, None)
        return redirect("sign-in")
    form = CodeForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        if is_right(person, form.cleaned_data["code"]):
            del request.session[HALF]
            login(request, person, backend=half["backend"])
            safe = url_has_allowed_host_and_scheme(half["next"], allowed_hosts={request.get_host()})
            return redirect(half["next"] if safe else "visits")
        form.add_error("code", "That code is not right now. After several wrong ones it takes a while until the next is looked at.")
    return render(request, "people/second.html", {"form": form}, status=422 if form.errors else 200)


class SignOutView(LogoutView):
    """The way out: what this session has open elsewhere ends with it."""

    def post(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        """End the session and its live pages."""
        key = request.session.session_key
        answer = super().post(request, *args, **kwargs)
        if key:
            notify_ended(session_key=key)
        return answer
