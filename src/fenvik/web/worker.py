"""The worker process: takes jobs from the queue, and picks up what a dead worker left behind."""

import asyncio
import contextlib
import signal
import time
from concurrent.futures import ThreadPoolExecutor

import structlog
from asgiref.sync import sync_to_async
from django.db import close_old_connections
from django.utils import timezone
from procrastinate import App, PsycopgConnector
from procrastinate.contrib.django import app as queue
from procrastinate.contrib.django.utils import connector_params
from procrastinate.jobs import Status
from psycopg import AsyncConnection

from fenvik.web.passes import runner, services
from fenvik.web.people.housekeeping import sweep
from fenvik.web.planning.away import sweep_away
from fenvik.web.results import imports
from fenvik.web.results.summary import summarise_anew

log = structlog.get_logger(__name__)
HEARTBEAT_S = 1.0
DEAD_AFTER_S = 4.0
LOOK_S = 1.0
GRACE_S = 6.0
AGAIN_S = 0.5
SWEEP_S = 3600.0


_swept = 0.0


def _sweep() -> None:
    global _swept  # noqa: PLW0603 - once an hour, whatever else the worker does
    if time.monotonic() > _swept:
        _swept = time.monotonic() + SWEEP_S
        log.info("swept", rows=sweep(timezone.now()), away=sweep_away(timezone.now()), told=summarise_anew())


def _adopt() -> None:
    close_old_connections()
    try:
        for import_id in imports.without_a_job():
            imports.defer(import_id)
        _sweep()
        services.give_up_asking(now=timezone.now())
        for pass_id in services.without_a_job():
            log.warning("pass without a job taken up again", pass_id=pass_id)
            services.defer(pass_id)
    finally:
        close_old_connections()


async def _look_after(worker_queue: object) -> None:
    """Hand out again what workers that no longer give a sign had in hand."""
    manager = worker_queue.job_manager  # type: ignore[attr-defined]
    while True:
        try:
            for job in await manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER_S):
                log.warning("job of a dead worker taken up again", job_id=job.id)
                # Its pass gets a new job below. Under the old one's number a worker that was only frozen would end this job later.
                await manager.finish_job_by_id_async(job_id=job.id, status=Status.FAILED, delete_job=True)
            await manager.prune_stalled_workers(DEAD_AFTER_S)
            await sync_to_async(_adopt, thread_sensitive=False)()
        except Exception:
            log.exception("looking after lost jobs failed; it is tried again")
        await asyncio.sleep(LOOK_S)


def lines_of_the_queue() -> PsycopgConnector:
    """Return what a worker asks the queue by: each statement stands alone.

    Else a worker that is frozen between its heartbeat and the commit holds its row, and nobody takes over what it had in hand.
    """

    async def alone(line: AsyncConnection) -> None:
        await line.set_autocommit(True)

    return PsycopgConnector(kwargs=connector_params(), configure=alone)


async def _work(worker_queue: App, concurrency: int) -> None:
    """Take jobs. Where the queue's own worker gives up, having been frozen or without its database, it begins anew."""
    while True:
        try:
            await worker_queue.run_worker_async(
                concurrency=concurrency,
                install_signal_handlers=False,
                update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=DEAD_AFTER_S,
                shutdown_graceful_timeout=GRACE_S,
                delete_jobs="always",
            )
        except Exception as error:
            log.warning("the queue was lost; it is taken up again", error=str(error).strip())
        await asyncio.sleep(AGAIN_S)


async def run_worker(*, concurrency: int) -> None:
    """Work until SIGTERM or SIGINT; passes in hand let go after the reading in flight."""
    # Each pass is a thread that mostly waits; the loop's own executor would have six on two cores.
    asyncio.get_running_loop().set_default_executor(ThreadPoolExecutor(concurrency + 4))
    worker_queue = queue.with_connector(lines_of_the_queue())
    async with worker_queue.open_async():
        working = asyncio.create_task(_work(worker_queue, concurrency))

        def end() -> None:
            runner.stopping.set()
            working.cancel()

        for number in (signal.SIGINT, signal.SIGTERM):
            asyncio.get_running_loop().add_signal_handler(number, end)
        looking = asyncio.create_task(_look_after(worker_queue))
        with contextlib.suppress(asyncio.CancelledError):
            await working
        looking.cancel()
