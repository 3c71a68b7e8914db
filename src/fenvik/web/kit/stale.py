"""Pages that were left open while somebody signed in or out elsewhere in the same browser, or a session ended.

What such a page sends is not done: nobody knows that whoever sees it is still the one that it was made for. They are led back to
where they were, told so, and find what they had typed (``static/js/drafts.js``).
"""

from typing import Any
from urllib.parse import urlencode, urlsplit

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.middleware import LoginRequiredMiddleware
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.middleware.csrf import REASON_BAD_ORIGIN
from django.shortcuts import render, resolve_url
from django.utils.http import url_has_allowed_host_and_scheme

UNSENT = "unsent"  # such a notice asks the page to fill in again what was typed
ELSEWHERE = (REASON_BAD_ORIGIN.split("%", maxsplit=1)[0], "Referer checking failed")
ENDED = "You had been signed out meanwhile, so nothing was done. Sign in, and what you typed is filled in again."
OPEN_SINCE = "This page had been open since before the last sign-in of this browser, so nothing was done. Do it once more."
NO_COOKIE = "This page had been open too long. Sign in once more; if this comes again, your browser refuses Fenvik's cookies."
OTHERS = (
    "This was sent under another address than the one that Fenvik knows as its own. Where it stands behind another server, "
    "its outer address belongs into FENVIK_ORIGINS."
)
UNMARKED = "This came without the mark that every form of Fenvik's carries, so it may be another site's."


def shown_before(request: HttpRequest, otherwise: str) -> str:
    """Return the address of the page that a form was sent from."""
    told = request.headers.get("Referer", "")
    if not url_has_allowed_host_and_scheme(told, allowed_hosts={request.get_host()}):
        return otherwise
    parts = urlsplit(told)
    return f"{parts.path or '/'}{'?' * bool(parts.query)}{parts.query}"


class SignedInMiddleware(LoginRequiredMiddleware):
    """Leads whoever is not signed in to the sign-in, and after a form back to the page that it was on."""

    def handle_no_permission(self, request: HttpRequest, view_func: Any) -> HttpResponse:  # type: ignore[override]
        """Lead to the sign-in."""
        if request.method != "POST":
            return super().handle_no_permission(request, view_func)
        messages.warning(request, ENDED, extra_tags=UNSENT)
        wanted = urlencode({"next": shown_before(request, "/")})
        return _led(request, f"{resolve_url(self.get_login_url(view_func))}?{wanted}")


@login_not_required
def stale(request: HttpRequest, reason: str = "") -> HttpResponse:
    """Answer a form without the token of whoever is signed in by now. ``reason``: what the framework says of it."""
    if reason.startswith(ELSEWHERE) or "csrfmiddlewaretoken" not in request.POST:
        return render(request, "kit/stale.html", {"why": OTHERS if reason.startswith(ELSEWHERE) else UNMARKED}, status=403)
    before = shown_before(request, "/")
    if request.user.is_authenticated and before.partition("?")[0] == resolve_url("sign-in"):
        before = request.POST.get("next") or "/"
        if not url_has_allowed_host_and_scheme(before, allowed_hosts={request.get_host()}):
            before = "/"
    else:
        messages.warning(request, OPEN_SINCE if request.user.is_authenticated else NO_COOKIE, extra_tags=UNSENT)
    return _led(request, before)


def _led(request: HttpRequest, to: str) -> HttpResponse:
    """Lead to another page; one that puts answers into itself opens it, instead of taking what it asked for from there."""
    if "X-Alpine-Request" not in request.headers:
        return HttpResponseRedirect(to)
    answer = HttpResponse(status=403)
    answer["X-Fenvik-Go"] = to
    return answer
