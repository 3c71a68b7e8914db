"""``fenvik web`` and ``fenvik worker``."""

import argparse
import asyncio
import time

import django
import psycopg

DATABASE_S = 30.0


def see_the_database() -> None:
    """Wait for the database for a while, as after a start of the machine. Raises SettingsError where it does not come."""
    from django.db import DatabaseError

    from fenvik.web.environment import SettingsError
    from fenvik.web.kit.database import own_line

    end = time.monotonic() + DATABASE_S
    told = own_line() | {"connect_timeout": 5}
    while True:
        try:
            with psycopg.connect(**told):
                return
        except (psycopg.Error, DatabaseError) as error:
            if time.monotonic() > end:
                where = f"{told['host']}:{told['port']}, {told['dbname']}"
                raise SettingsError(f"The database at {where} does not answer: {str(error).strip().splitlines()[-1]}") from error
        time.sleep(1.0)


def web(arguments: list[str]) -> int:
    """Serve the application."""
    import uvicorn

    made = argparse.ArgumentParser(prog="fenvik web")
    made.add_argument("--host", default="127.0.0.1")
    made.add_argument("--port", type=int, default=8642)
    given = made.parse_args(arguments)
    django.setup()
    from django.conf import settings

    see_the_database()
    uvicorn.run(
        "fenvik.web.asgi:application",
        host=given.host,
        port=given.port,
        log_level="warning",
        access_log=False,
        lifespan="on",
        ws="none",
        # What a proxy says of the client's address and of TLS is believed only where that proxy was named.
        proxy_headers=bool(settings.PROXIES),
        forwarded_allow_ips=settings.PROXIES or None,
        server_header=False,
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
    see_the_database()
    from fenvik.web.worker import run_worker

    asyncio.run(run_worker(concurrency=given.concurrency))
    return 0
