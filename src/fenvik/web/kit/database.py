"""Giving connections back to the pool: whoever waits holds none."""

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

from asgiref.sync import ThreadSensitiveContext, sync_to_async
from django.db import connections
from starlette.types import Receive, Scope, Send

Application = Callable[[Scope, Receive, Send], Awaitable[None]]


# What Django adds for its own cursors; everything else that the database's address says holds for lines of one's own too.
OF_DJANGO = ("pool", "cursor_factory", "context", "prepare_threshold")


def own_line() -> dict[str, Any]:
    """Return the parameters of a line of one's own to the database, outside the pool, with all options of its address."""
    told = connections["default"].get_connection_params()
    return {name: value for name, value in told.items() if name not in OF_DJANGO}


def let_go() -> None:
    """Give this thread's connections back to the pool; the next query takes one again. Inside a transaction nothing is done."""
    for connection in connections.all(initialized_only=True):
        if not connection.in_atomic_block:
            connection.close()


def giving_back(application: Application) -> Application:
    """Return an application whose requests hold no connection once they are over, however they ended.

    Django gives them back when a response is closed. A client that goes away earlier has none that would be.
    """

    async def with_context(scope: Scope, receive: Receive, send: Send) -> None:
        # The context that Django opens for the request is this one: the thread that has the connection is still there afterwards.
        async with ThreadSensitiveContext():
            try:
                await application(scope, receive, send)
            finally:
                await asyncio.shield(sync_to_async(let_go)())

    return with_context
