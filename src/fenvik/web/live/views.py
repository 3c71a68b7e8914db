"""The live view of a stop: fragments of the page, sent as soon as something of the tuning has changed."""

import asyncio
import json
from collections.abc import AsyncIterator

from asgiref.sync import sync_to_async
from django.db import close_old_connections, connection
from django.http import Http404, HttpRequest, StreamingHttpResponse
from django.middleware.csrf import get_token
from django.template.loader import render_to_string

from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.live.hub import hub
from fenvik.web.trail.facts import STOPS
from fenvik.web.trail.options import Options, options_of
from fenvik.web.trail.scenes import make_scene
from fenvik.web.visits.models import Tuning

FRAGMENTS = ("trail", "field", "hand")
TYPED_IN = ("arrival",)  # stops whose field is a form: it is never changed under the person's hands
PLACEHOLDER = "csrf-of-whoever-looks"
STILL_HERE_S = 15.0
KEPT = 8  # renderings that are shared between browsers

Key = tuple[int, int, str, Options]
_renderings: dict[tuple[Key, int], asyncio.Future[dict[str, str]]] = {}


def render_fragments(firm_id: int, pk: int, stop: str, options: Options) -> dict[str, str]:
    """Return the fragments of a stop, with a placeholder where each browser has its own token."""
    close_old_connections()
    try:
        scene = make_scene(firm_id, pk, stop, options)
        context = {"scene": scene, "csrf_token": PLACEHOLDER}
        is_form = stop in TYPED_IN or (stop == "instruments" and options.part(stop) == "devices")
        wanted = [name for name in FRAGMENTS if name != "field" or not is_form]
        return {name: render_to_string(f"trail/_{name}.html", context) for name in wanted}
    finally:
        connection.close()  # back to the pool: this thread may not be used again for long


async def _shared(key: Key, number: int) -> dict[str, str]:
    """Render once for all browsers that look at the same picture."""
    at = (key, number)
    if at not in _renderings:
        for old in list(_renderings)[: max(len(_renderings) - KEPT, 0)]:
            del _renderings[old]
        _renderings[at] = asyncio.ensure_future(sync_to_async(render_fragments, thread_sensitive=False)(*key))
    return await _renderings[at]


def _checked(request: HttpRequest, pk: int) -> tuple[int, str]:
    of_firm_or_404(Tuning, request.user.firm_id, pk)
    return request.user.firm_id, get_token(request)


async def live(request: HttpRequest, pk: int, stop: str) -> StreamingHttpResponse:
    """Send the fragments of a stop, now and after every change."""
    if stop not in STOPS:
        raise Http404
    firm_id, token = await sync_to_async(_checked)(request, pk)
    options = options_of(request.GET)
    key = (firm_id, pk, stop, options)

    async def stream() -> AsyncIterator[str]:
        with hub.subscribe(("tuning", pk)) as queue:
            yield "retry: 700\n\n"
            sent: dict[str, str] = {}
            # The first look is this page's own: what others share may be older than what this page has just done.
            fragments = await sync_to_async(render_fragments, thread_sensitive=False)(*key)
            while True:
                fresh = {
                    name: html.replace(PLACEHOLDER, token) for name, html in fragments.items() if sent.get(name) != html
                }
                sent = fragments
                if fresh:
                    yield f"event: fragments\ndata: {json.dumps(fresh)}\n\n"
                try:
                    number = await asyncio.wait_for(queue.get(), STILL_HERE_S)
                    while not queue.empty():
                        number = queue.get_nowait()
                    fragments = await _shared(key, number)
                except TimeoutError:
                    yield ": still here\n\n"

    response = StreamingHttpResponse(stream(), content_type="text/event-stream")
    response["Cache-Control"] = "no-store"
    response["X-Accel-Buffering"] = "no"
    return response
