"""What is no request of a person's gets a sentence and not a fault: characters that no text has, objects that are not there."""

from http import HTTPStatus

import psycopg
from django.core.exceptions import ObjectDoesNotExist
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBadRequest, HttpResponseRedirect
from django.shortcuts import render
from django.utils.deprecation import MiddlewareMixin

from fenvik.core.errors import FenvikError
from fenvik.web.kit.pages import not_there

NUL = "\0"


class RefusedError(FenvikError):
    """What is not for whoever wants it."""

    code = "refused"



class NonsenseMiddleware(MiddlewareMixin):
    """Refuses NUL in addresses and forms, which no database text can hold, and answers 404 where a row is not there.

    An address that only takes forms leads to its page.
    """

    def process_request(self, request: HttpRequest) -> HttpResponse | None:
        """Look at the address and, for a form, at what was sent."""
        if NUL in request.path_info:
            raise Http404
        sent = [request.GET]
        if request.method == "POST" and request.content_type in ("application/x-www-form-urlencoded", "multipart/form-data"):
            sent.append(request.POST)
        for fields in sent:
            if any(NUL in name or any(NUL in text for text in texts) for name, texts in fields.lists()):
                return HttpResponseBadRequest("There is a NUL character in what was sent; nothing was done.", "text/plain")
        return None

    def process_response(self, request: HttpRequest, response: HttpResponse) -> HttpResponse:
        """Lead a person who opens an address that only takes forms to its page: after a refusal it stands in the address bar."""
        if response.status_code != HTTPStatus.METHOD_NOT_ALLOWED or request.method != "GET" or not request.accepts("text/html"):
            return response
        if not request.user.is_authenticated:
            return response
        above = request.path.partition("/do/")[0] if "/do/" in request.path else request.path.rstrip("/").rpartition("/")[0]
        return HttpResponseRedirect(f"{above}/")

    def process_exception(self, request: HttpRequest, exception: Exception) -> HttpResponse | None:
        """Answer 404 for a row that was asked for and is not there, and say so where the database has no room."""
        if isinstance(exception, ObjectDoesNotExist):
            return not_there(request, exception)
        if isinstance(exception, RefusedError):
            return render(request, "kit/not_allowed.html", {"problem": str(exception)}, status=403)
        if isinstance(exception.__cause__, psycopg.errors.DiskFull):
            return render(request, "kit/full.html", status=507)
        return None
