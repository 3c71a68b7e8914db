"""Addresses for whatever looks after the processes: alive, ready, and what is counted. They bypass names of hosts and sessions."""

import hmac

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response

from fenvik.web.kit import metrics
from fenvik.web.kit.database import let_go
from fenvik.web.kit.hub import hub

OWN = ("127.0.0.1", "::1")


async def alive(_: Request) -> Response:
    """Say that this process answers."""
    return PlainTextResponse("alive\n")


def _lacking() -> str:
    try:
        executor = MigrationExecutor(connection)
        behind = executor.migration_plan(executor.loader.graph.leaf_nodes())
        return f"the database lacks {len(behind)} migrations" if behind else ""
    except DatabaseError as error:
        return f"the database does not answer: {str(error).splitlines()[0][:200]}"
    finally:
        let_go()


async def ready(_: Request) -> Response:
    """Say whether this process can do its work: the database answers and is of this version."""
    lacking = await sync_to_async(_lacking, thread_sensitive=False)()
    return PlainTextResponse(f"{lacking or 'ready'}\n", 503 if lacking else 200)


def _text() -> bytes:
    try:
        return metrics.text(hub.pages)
    finally:
        let_go()


async def counted(request: Request) -> Response:
    """Return what is counted to whoever may have it."""
    token = settings.METRICS_TOKEN
    given = request.headers.get("authorization", "").removeprefix("Bearer ")
    from_here = request.client is not None and request.client.host in OWN
    if not (hmac.compare_digest(given.encode(), token.encode()) if token else from_here):
        return PlainTextResponse("not for you\n", 403)
    try:
        return Response(await sync_to_async(_text, thread_sensitive=False)(), media_type="text/plain; version=0.0.4; charset=utf-8")
    except DatabaseError:
        return PlainTextResponse("the database does not answer\n", 503)
