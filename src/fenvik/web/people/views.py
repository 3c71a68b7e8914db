"""Signing in, and the pages for what is not there."""

from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView, LogoutView
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.utils.decorators import method_decorator

from fenvik.web.kit.notify import notify_ended


@method_decorator(login_not_required, name="dispatch")
class SignInView(LoginView):
    """The way in; wrong tries are counted and slowed down."""

    template_name = "people/sign_in.html"
    redirect_authenticated_user = True


class SignOutView(LogoutView):
    """The way out: what this session has open elsewhere ends with it."""

    def post(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        """End the session and its live pages."""
        key = request.session.session_key
        answer = super().post(request, *args, **kwargs)
        if key:
            notify_ended(session_key=key)
        return answer


@login_not_required
def not_there(request: HttpRequest, exception: Any = None) -> HttpResponse:
    """Say that there is nothing here, or nothing of this firm's."""
    return render(request, "people/not_there.html", status=404)


@login_not_required
def own_mistake(request: HttpRequest) -> HttpResponse:
    """Say that Fenvik itself failed; needs no database."""
    return render(request, "people/own_mistake.html", status=500)
