"""Every request has a mark, which its answer, its lines in the log and an error page carry."""

import re
import time
import uuid
from collections.abc import Callable

import structlog
from django.http import HttpRequest, HttpResponse

from fenvik.web.kit import metrics

log = structlog.get_logger("fenvik.access")
MARK = re.compile(r"[A-Za-z0-9-]{8,64}$")


class RequestMiddleware:
    """The outermost of Django's middleware."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Mark a request, and write one line about it."""
        told = request.headers.get("X-Request-Id", "")
        mark = told if MARK.match(told) else uuid.uuid4().hex[:16]
        request.mark = mark  # type: ignore[attr-defined]
        began = time.perf_counter()
        with structlog.contextvars.bound_contextvars(request=mark):
            response = self.get_response(request)
            seconds = time.perf_counter() - began
            response["X-Request-Id"] = mark
            person = getattr(request, "user", None)
            known = person is not None and person.is_authenticated
            if known and "Cache-Control" not in response:
                response["Cache-Control"] = "no-store"
            match = request.resolver_match
            name = (match.view_name if match is not None else "") or "none"
            metrics.answered(name, request.method or "", response.status_code, seconds)
            log.info(
                "request", method=request.method, path=request.path, status=response.status_code, ms=round(1000 * seconds, 1),
                person=getattr(person, "pk", None) if known else None, firm=getattr(person, "firm_id", None) if known else None,
                address=request.META.get("REMOTE_ADDR", ""),
            )  # fmt: skip
        return response
