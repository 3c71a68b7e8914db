"""Bodies of requests are bounded before anything reads them."""

from starlette.responses import PlainTextResponse
from starlette.types import Message, Receive, Scope, Send

from fenvik.web.kit.database import Application

MOST_BYTES = 20 * 1024 * 1024  # the largest file that is taken, and its form around it


def bounded(application: Application) -> Application:
    """Return an application that answers 413 to a body which is too long, told beforehand or not."""

    async def within(scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await application(scope, receive, send)
            return
        refusal = PlainTextResponse(f"At most {MOST_BYTES // 2**20} MiB can be sent at once; nothing was done.", 413)
        told = next((value for name, value in scope["headers"] if name == b"content-length"), b"0")
        if not told.isdigit() or int(told) > MOST_BYTES:
            await refusal(scope, receive, send)
            return
        come, begun = 0, False

        async def counted() -> Message:
            nonlocal come
            message = await receive()
            come += len(message.get("body", b""))
            # Whoever reads puts away what it has kept of it, as when a client goes away.
            return {"type": "http.disconnect"} if come > MOST_BYTES else message

        async def seen(message: Message) -> None:
            nonlocal begun
            begun = True
            await send(message)

        await application(scope, counted, seen)
        if come > MOST_BYTES and not begun:
            await refusal(scope, receive, send)

    return within
