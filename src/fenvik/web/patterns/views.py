"""The pattern screen's page, its live line, its pictures; and the drawn examples of the library."""

import io
import json
import threading
from collections.abc import AsyncIterator
from functools import lru_cache

import numpy as np
from asgiref.sync import sync_to_async
from django.contrib.auth.decorators import login_not_required
from django.db import close_old_connections
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse
from django.http.request import RawPostDataException
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_http_methods, require_POST, require_safe
from PIL import Image

from fenvik.core.errors import FenvikError
from fenvik.core.signal.patterns import PATTERNS, How, PatternError, pattern_of
from fenvik.core.signal.patterns.seen import example
from fenvik.core.types import Ints
from fenvik.formats.numbers import whole
from fenvik.web.kit.database import let_go
from fenvik.web.kit.hub import hub, newest
from fenvik.web.patterns.menu import menu
from fenvik.web.patterns.models import Screen
from fenvik.web.patterns.services import (
    LARGEST,
    MOST_PIXELS,
    ScreenNumberError,
    choose_here,
    drawn,
    find_by_number,
    picture_board,
    signal_of,
    size_words,
)

STILL_HERE_S = 10.0
EXAMPLE = (400, 225)
UNTOLD = 1920 * 1080  # pixels, of a page that has not said how large it is
_one_drawn = threading.Lock()  # a large picture takes hundreds of megabytes while it is drawn


def png(codes: Ints) -> bytes:
    """Return 8-bit codes as a PNG without any profile: a browser draws them as they are."""
    data = io.BytesIO()
    Image.fromarray(np.asarray(codes, dtype=np.uint8)).save(data, "PNG", compress_level=1)
    return data.getvalue()


def _screen(token: str) -> Screen:
    screen = Screen.objects.open_at(timezone.now()).filter(token=token).select_related("visit__client").first()
    if screen is None:
        raise Http404
    return screen


@login_not_required
@require_http_methods(["GET", "HEAD", "POST"])
def by_number(request: HttpRequest) -> HttpResponse:
    """Open a screen by the number that Fenvik shows."""
    problem = ""
    if request.method == "POST":
        try:
            found = find_by_number(
                number=request.POST.get("number", "")[:40],
                where=request.META.get("REMOTE_ADDR", ""),
                now=timezone.now(),
            )
            return redirect("screen", token=found.token)
        except ScreenNumberError as error:
            problem = str(error)
    return render(request, "patterns/number.html", {"problem": problem}, status=422 if problem else 200)


@login_not_required
@require_safe
def screen_page(request: HttpRequest, token: str) -> HttpResponse:
    """Show the page that shows nothing but the picture; one that was closed says so."""
    screen = Screen.objects.open_at(timezone.now()).filter(token=token).select_related("visit__client").first()
    if screen is None:
        return render(request, "patterns/closed.html", status=404)
    return render(request, "patterns/screen.html", {"screen": screen, "menu": menu()})


def _state(token: str) -> dict[str, object]:
    close_old_connections()
    try:
        screen = _screen(token)
        signal = signal_of(screen)
        picture = dict(screen.picture)
        picture.setdefault("surround", [])
        black = int(signal.code(0.0))
        picture["black"] = [black] * 3
        if picture.get("kind") == "pattern":
            moving = pattern_of(str(picture["pattern"])).movement(signal, picture.get("options", {}))
            if moving is not None:
                picture["moving"] = {
                    "seconds": moving.seconds,
                    "frames": moving.frames,
                    "box": moving.box,
                    "rgb": moving.rgb,
                    "rows": moving.rows,
                }
        who = f"{screen.visit.client.name}, {screen.visit.on:%d %B}; 8-bit SDR, {screen.driver_range} range"
        return {"revision": screen.revision, "identity": screen.identity, "who": who, "picture": picture}
    finally:
        let_go()


@login_not_required
async def screen_live(request: HttpRequest, token: str) -> StreamingHttpResponse:
    """Send what is to be shown, now and whenever it changes."""
    screen = await sync_to_async(_screen)(token)

    async def stream() -> AsyncIterator[str]:
        await sync_to_async(let_go)()
        with hub.subscribe(("screen", screen.pk)) as queue:
            yield "retry: 700\n\n"
            sent = ""
            while True:
                try:
                    state = json.dumps(await sync_to_async(_state, thread_sensitive=False)(token))
                except Http404:
                    yield "event: withdrawn\ndata: {}\n\n"
                    return
                if state != sent:
                    sent = state
                    yield f"event: picture\ndata: {state}\n\n"
                if await newest(queue, STILL_HERE_S) is None:
                    yield ": still here\n\n"

    response = StreamingHttpResponse(stream(), content_type="text/event-stream")
    response["Cache-Control"] = "no-store"
    response["X-Accel-Buffering"] = "no"
    return response


def _size(request: HttpRequest, told: str) -> tuple[int, int]:
    """Return the size that a picture is wanted in: that of the page, as the page has said before."""
    wanted = []
    for name in ("w", "h"):
        size = whole(request.GET.get(name, ""), 16, LARGEST)
        if size is None:
            raise Http404
        wanted.append(size)
    width, height = wanted
    if size_words(width, height) != told and (told or width * height > UNTOLD):
        raise Http404
    return width, height


@login_not_required
@require_safe
def screen_picture(request: HttpRequest, token: str) -> HttpResponse:
    """Return the picture at the page's own size, code value by code value."""
    screen = _screen(token)
    size = _size(request, screen.size)
    let_go()
    with _one_drawn:
        data = png(picture_board(screen, *size).codes)  # type: ignore[arg-type]
    response = HttpResponse(data, content_type="image/png")
    response["Cache-Control"] = "no-store"
    return response


@csrf_exempt  # the page has no session; its token is what lets it speak
@login_not_required
@require_POST
def screen_drawn(request: HttpRequest, token: str) -> HttpResponse:
    """Hear what the page has drawn."""
    try:
        told = json.loads(request.body)
        revision = int(told["revision"])
        size = int(told["width"]), int(told["height"])
        refresh_hz = float(told["hz"]) if told.get("hz") else None
    except (ValueError, KeyError, TypeError, OverflowError, RawPostDataException):
        return JsonResponse({"error": "not understood"}, status=400)
    if not all(0 <= side <= LARGEST for side in size) or size[0] * size[1] > MOST_PIXELS:
        return JsonResponse({"error": "no screen is of that size"}, status=400)
    screen = drawn(
        token=token,
        revision=revision,
        size=size,
        exact=bool(told.get("exact")),
        awake=bool(told.get("awake")),
        now=timezone.now(),
        refresh_hz=refresh_hz,
    )
    if screen is None:
        raise Http404
    return JsonResponse({"revision": screen.revision})


@csrf_exempt  # the page has no session; its token is what lets it choose
@login_not_required
@require_POST
def screen_choose(request: HttpRequest, token: str) -> HttpResponse:
    """Show a pattern that was chosen on the screen itself."""
    try:
        told = json.loads(request.body)
        options = {str(k)[:40]: str(v)[:200] for k, v in dict(told.get("options") or {}).items()}
        pattern = str(told.get("pattern", ""))[:40]
    except (ValueError, TypeError, AttributeError, RawPostDataException):
        return JsonResponse({"error": "no pattern was named"}, status=400)
    try:
        screen = choose_here(token=token, pattern=pattern, typed=options, now=timezone.now())
    except FenvikError as problem:
        return JsonResponse({"error": str(problem)}, status=409)
    if screen is None:
        raise Http404
    return JsonResponse({"revision": screen.revision})


@lru_cache(maxsize=len(PATTERNS) * 3)
def _example(name: str, how: How) -> bytes:
    return png(np.round(example(pattern_of(name), how, *EXAMPLE) * 255).clip(0, 255).astype(np.int64))


@require_safe
def example_picture(request: HttpRequest, name: str, how: str) -> HttpResponse:
    """Return a drawn example of a pattern."""
    if how not in ("low", "right", "high"):
        raise Http404
    try:
        data = _example(name, how)
    except PatternError as error:
        raise Http404 from error
    response = HttpResponse(data, content_type="image/png")
    response["Cache-Control"] = "private, max-age=86400"
    return response
