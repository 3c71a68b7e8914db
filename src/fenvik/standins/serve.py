"""Run the stand-ins: the directory, every device on a port of its own, and their pages."""

import asyncio
import contextlib
import signal
import socket
from dataclasses import dataclass
from pathlib import Path

import uvicorn

from fenvik.standins.bench import HOST, Bench, make_bench
from fenvik.standins.rpc import serve
from fenvik.standins.web import make_app


@dataclass(frozen=True)
class Options:
    """How to run the stand-ins."""

    port: int = 0
    web_port: int = 0
    haste: float = 1.0
    pair_code: str = ""
    fault: str = ""
    fault_after: int = 5
    fault_for: float = 10.0
    state: Path | None = None
    seed: int = 55


@contextlib.asynccontextmanager
async def running(bench: Bench, port: int):  # type: ignore[no-untyped-def]
    """Serve all devices of a bench while the block runs; the directory is on ``port``, 0 for any."""
    servers = [await serve(device, HOST, 0) for device in bench.devices]
    servers.append(await serve(bench.directory, HOST, port))
    try:
        yield
    finally:
        for server in servers:
            server.close()


async def main(options: Options) -> None:
    """Serve until told to stop."""
    bench = make_bench(haste=options.haste, pair_code=options.pair_code, state=options.state, seed=options.seed)
    if options.fault:
        bench.start_fault(options.fault, after=options.fault_after, lasts_s=options.fault_for)
    listening = socket.create_server((HOST, options.web_port))
    web_port = listening.getsockname()[1]
    config = uvicorn.Config(make_app(bench), log_level="warning", access_log=False, timeout_graceful_shutdown=1)
    server = uvicorn.Server(config)
    server.install_signal_handlers = lambda: None  # type: ignore[method-assign]
    async with running(bench, options.port):
        print(f"directory {HOST}:{bench.directory.port}", flush=True)
        for device in bench.devices:
            print(f"  {device.role} {device.serial} {device.name} at {HOST}:{device.port}", flush=True)
        print(f"pages http://{HOST}:{web_port}/", flush=True)
        stop = asyncio.Event()
        for number in (signal.SIGINT, signal.SIGTERM):
            asyncio.get_running_loop().add_signal_handler(number, stop.set)
        serving = asyncio.create_task(server.serve(sockets=[listening]))
        await asyncio.wait({serving, asyncio.create_task(stop.wait())}, return_when=asyncio.FIRST_COMPLETED)
        server.should_exit = True
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(serving, 3)
