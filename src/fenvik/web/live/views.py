"""The live view of a stop: fragments of the page, sent as soon as something of the tuning has changed."""

import asyncio
import json
from collections.abc import AsyncIterator
from dataclasses import dataclass

from asgiref.sync import sync_to_async
from django.contrib.auth import get_user
from django.db import close_old_connections
from django.http import Http404, HttpRequest, StreamingHttpResponse
from django.middleware.csrf import get_token
from django.template.loader import render_to_string
from django.utils import timezone

from fenvik.web.kit.database import let_go
from fenvik.web.kit.hub import ENDED, hub, newest
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.kit.notify import mark_of
from fenvik.web.kit.once import with_keys
from fenvik.web.kit.templatetags.fenvik import CSRF_PLACEHOLDER
from fenvik.web.people.asking import Asking
from fenvik.web.people.zones import in_zone_of
from fenvik.web.results.imports import wait_for
from fenvik.web.stops.options import Options, options_of
from fenvik.web.stops.scenes import make_scene
from fenvik.web.trail.facts import STOPS
from fenvik.web.visits.models import Tuning

FRAGMENTS = ("head", "trail", "field", "hand")
OF_A_PERSON = ("adjust",)  # stops where each person works at a place of their own
TYPED_IN = ("arrival",)  # stops whose field is a form: it is never changed under the person's hands
PLACEHOLDER = CSRF_PLACEHOLDER
STILL_HERE_S = 15.0
KEPT = 64  # renderings that are shared between browsers

Key = tuple[int, int, str, Options, int]  # firm, tuning, stop, what is shown, and the person where that makes a difference
_renderings: dict[tuple[Key, int], asyncio.Future[dict[str, str]]] = {}


@dataclass(frozen=True)
class Watcher:
    """Who looks at a live page."""

    firm_id: int
    person_id: int
    session: str  # a mark of the session's key, which itself is told to nobody
    token: str


def render_fragments(firm_id: int, pk: int, stop: str, options: Options, person_id: int) -> dict[str, str]:
    """Return the fragments of a stop, with a placeholder where each browser has its own token."""
    close_old_connections()
    try:
        with in_zone_of(firm_id):
            scene = make_scene(firm_id, pk, stop, options, person_id=person_id)
            context = {"scene": scene, "csrf_token": PLACEHOLDER}
            is_form = stop in TYPED_IN or (stop == "instruments" and options.part(stop) == "devices")
            wanted = [name for name in FRAGMENTS if name != "field" or not is_form]
            return {name: render_to_string(f"stops/_{name}.html", context) for name in wanted}
    finally:
        let_go()  # this thread may not be used again for long


async def _shared(key: Key, number: int) -> dict[str, str]:
    """Render once for all browsers that look at the same picture."""
    at = (key, number)
    if at not in _renderings:
        for old in list(_renderings)[: max(len(_renderings) - KEPT, 0)]:
            del _renderings[old]
        _renderings[at] = asyncio.ensure_future(sync_to_async(render_fragments, thread_sensitive=False)(*key))
    # A browser that goes away must not take the rendering from the others that wait for it.
    return await asyncio.shield(_renderings[at])


def _checked(request: Asking, pk: int) -> Watcher:
    of_firm_or_404(Tuning, request.user.firm_id, pk)
    return Watcher(request.user.firm_id, request.user.pk, mark_of(request.session.session_key or ""), get_token(request))


def _still_in(request: Asking, watcher: Watcher, pk: int) -> bool:
    """Whether the session that opened a page is still one of that person, who may still be here, and the tuning is there."""
    try:
        wait_for(pk, timezone.now())  # and what they wait for is told
        kept = type(request.session)(request.session.session_key)
        asked = HttpRequest()
        asked.session = kept
        person = get_user(asked)
        of_firm_or_404(Tuning, watcher.firm_id, pk)
        return person.is_active and person.pk == watcher.person_id and person.firm_id == watcher.firm_id
    except Http404:
        return False
    finally:
        let_go()


async def live(request: Asking, pk: int, stop: str) -> StreamingHttpResponse:
    """Send the fragments of a stop, now and after every change, until the session ends or the tuning is put away."""
    if stop not in STOPS:
        raise Http404
    watcher = await sync_to_async(_checked)(request, pk)
    options = options_of(request.GET)
    key = (watcher.firm_id, pk, stop, options, watcher.person_id if stop in OF_A_PERSON else 0)
    keys = ("tuning", pk), ("session", watcher.session), ("person", watcher.person_id)

    async def stream() -> AsyncIterator[str]:
        # Asking who looks has taken a connection in this request's own thread, and a live page may stay open for days.
        await sync_to_async(let_go)()
        with hub.subscribe(*keys) as queue:
            yield "retry: 700\n\n"
            sent: dict[str, str] = {}
            trouble = ""
            # The first look is this page's own: what others share may be older than what this page has just done. There is none
            # where nothing has been heard since the page itself was made.
            fragments = {}
            if request.GET.get("seen") != hub.mark:
                fragments = await sync_to_async(render_fragments, thread_sensitive=False)(*key)
            while True:
                changed = {name: html for name, html in fragments.items() if sent.get(name) != html}
                fresh = {name: with_keys(html.replace(PLACEHOLDER, watcher.token)) for name, html in changed.items()}
                sent = fragments
                if fresh:
                    yield f"event: fragments\ndata: {json.dumps(fresh)}\n\n"
                if trouble != hub.trouble.get(pk, ""):
                    trouble = hub.trouble.get(pk, "")
                    yield f"event: trouble\ndata: {json.dumps(trouble)}\n\n"
                number = await newest(queue, STILL_HERE_S)
                if number is None and await sync_to_async(_still_in, thread_sensitive=False)(request, watcher, pk):
                    yield ": still here\n\n"
                elif number is None or number == ENDED:
                    yield "event: ended\ndata: {}\n\n"
                    return
                else:
                    try:
                        fragments = await _shared(key, number)
                    except Http404:  # put away while somebody was looking
                        yield "event: ended\ndata: {}\n\n"
                        return

    response = StreamingHttpResponse(stream(), content_type="text/event-stream")
    response["Cache-Control"] = "no-store"
    response["X-Accel-Buffering"] = "no"
    return response
