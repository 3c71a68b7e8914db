"""``fenvik web`` and ``fenvik worker``."""

import argparse
import asyncio

import django


def web(arguments: list[str]) -> int:
    """Serve the application."""
    import uvicorn

    made = argparse.ArgumentParser(prog="fenvik web")
    made.add_argument("--host", default="127.0.0.1")
    made.add_argument("--port", type=int, default=8642)
    given = made.parse_args(arguments)
    uvicorn.run(
        "fenvik.web.asgi:application",
        host=given.host,
        port=given.port,
        log_level="warning",
        access_log=False,
        lifespan="on",
        ws="none",
        # Live pages never end by themselves; whoever watches connects again.
        timeout_graceful_shutdown=1,
    )
    return 0


def worker(arguments: list[str]) -> int:
    """Run passes until told to stop."""
    made = argparse.ArgumentParser(prog="fenvik worker")
    made.add_argument("--concurrency", type=int, default=8)
    given = made.parse_args(arguments)
    django.setup()
    from fenvik.web.passes.worker import run_worker

    asyncio.run(run_worker(concurrency=given.concurrency))
    return 0
