"""A form that is sent twice does what it says once: a double click, an impatient network, Back and send again.

Every form has a key of its own. Who sends it first does it; whoever sends the same form with the same content again waits for what
the first came to, and is led there. The same key with other content is another form, as after Back.
"""

import hashlib
import os
import re
import socket
import time
import uuid
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

from django.db import IntegrityError, transaction
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.utils import timezone

from fenvik.web.kit.database import let_go
from fenvik.web.kit.models import Sent

FIELD = "once"
PLACEHOLDER = "key-of-whoever-looks"  # in what several browsers share
KEY = re.compile(r"[0-9a-f]{32}$")
LOOK_S, WAIT_S, FORGOTTEN = 0.05, 20.0, timedelta(minutes=2)
NOT_CONTENT = ("csrfmiddlewaretoken",)


def new_key() -> str:
    """Return a key for a form."""
    return uuid.uuid4().hex


def with_keys(html: str) -> str:
    """Give each form of a shared rendering its own key."""
    return re.sub(PLACEHOLDER, lambda _: new_key(), html)


def _digest(request: HttpRequest) -> str:
    told = [request.path, *(f"{name}={text}" for name, texts in sorted(request.POST.lists()) for text in texts)]
    told = [text for text in told if not text.startswith(tuple(f"{name}=" for name in NOT_CONTENT))]
    told += [f"{name}:{getattr(file, 'name', '')}:{getattr(file, 'size', 0)}" for name, file in sorted(request.FILES.items())]
    return hashlib.sha256("\0".join(told).encode("utf-8", "surrogatepass")).hexdigest()


def _is_abandoned(first: Sent) -> bool:
    """Whether the process that did a form has died: what it had not committed is as if it had never been sent."""
    machine, _, number = first.by.rpartition(":")
    if machine == socket.gethostname() and number.isdigit():
        return not Path(f"/proc/{number}").exists()
    return timezone.now() - first.at > FORGOTTEN  # on another machine: nobody knows


class OnceMiddleware:
    """Lets a form be done once; comes after whatever says who the person is."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Do what is asked, or wait for the one that does."""
        if request.method != "POST" or not KEY.match(request.POST.get(FIELD, "")) or not request.user.is_authenticated:
            return self.get_response(request)
        mine = {"person_id": request.user.pk, "digest": _digest(request)}
        try:
            with transaction.atomic():
                Sent.objects.create(**mine, by=f"{socket.gethostname()}:{os.getpid()}", at=timezone.now())
        except IntegrityError:
            return self._led(request, mine)
        try:
            response = self.get_response(request)
        except BaseException:
            Sent.objects.filter(**mine).delete()
            raise
        to = response.get("Location") or response.get("X-Fenvik-Go", "")
        if to and response.status_code < 400:
            Sent.objects.filter(**mine).update(to=to)
        else:
            # Refused, or nothing that could be done twice: it may be sent again as it is.
            Sent.objects.filter(**mine).delete()
        return response

    def _led(self, request: HttpRequest, mine: dict[str, object]) -> HttpResponse:
        """Lead to where the first one came to, once it is there."""
        end = time.monotonic() + WAIT_S
        while time.monotonic() < end:
            first = Sent.objects.filter(**mine).first()
            if first is None:
                return self(request)  # the first one was refused: this one's answer says why
            if first.to:
                return HttpResponseRedirect(first.to)
            if _is_abandoned(first):
                Sent.objects.filter(pk=first.pk, to="").delete()
                return self(request)
            let_go()
            time.sleep(LOOK_S)
        return HttpResponse("This was sent already and is still being done. Look again in a moment.", "text/plain", status=409)
