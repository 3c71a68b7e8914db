"""The ASGI application: shipped files by Starlette, everything else by Django."""

import asyncio
import os
import re
from contextlib import asynccontextmanager

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "fenvik.web.settings")

from django.conf import settings
from django.core.asgi import get_asgi_application
from django.urls import get_resolver
from starlette.applications import Starlette
from starlette.responses import Response
from starlette.routing import Mount, Route
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

django_application = get_asgi_application()
get_resolver().url_patterns  # noqa: B018 - every page is loaded now, and not by the threads of the first requests at once
MARKED = re.compile(r"(js)/[0-9a-f]{10}/([a-z]+\.js)")  # scripts that import each other have the mark within their path

from fenvik.core.colour.science import library  # noqa: E402
from fenvik.web.kit.bounds import bounded  # noqa: E402 - needs Django's settings
from fenvik.web.kit.database import giving_back  # noqa: E402
from fenvik.web.kit.health import alive, counted, ready  # noqa: E402
from fenvik.web.kit.hub import hub  # noqa: E402


class Shipped(StaticFiles):
    """Files whose address carries a mark of their content may be kept for ever."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        """Return the file with how long it may be kept."""
        marked = MARKED.fullmatch(path)
        response = await super().get_response(path if marked is None else f"{marked[1]}/{marked[2]}", scope)
        if marked is not None or scope.get("query_string", b"").startswith(b"v="):
            response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        response.headers["X-Content-Type-Options"] = "nosniff"
        return response


@asynccontextmanager
async def _lifespan(_: Starlette):  # type: ignore[no-untyped-def]
    # A second of a processor, which the first page that wants a colour temperature need not wait for.
    beforehand = asyncio.get_running_loop().run_in_executor(None, library)
    async with hub.listening():
        yield
    await beforehand


application = Starlette(
    routes=[
        Mount("/static", Shipped(directory=settings.STATIC_FOLDER)),
        Route("/health/", alive),
        Route("/ready/", ready),
        Route("/metrics", counted),
        Mount("/", bounded(giving_back(django_application))),  # type: ignore[arg-type]
    ],
    lifespan=_lifespan,
)
