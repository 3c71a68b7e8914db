#!/usr/bin/env python3
"""A bridge from a meter that speaks lines of text to Fenvik's device link: an example to start your own from.

    python3 examples/text_meter_bridge.py --stream /dev/ttyUSB0 --maker Moorhen --model T3 --serial MT3-0007
    python3 examples/text_meter_bridge.py --command "python3 examples/pretend_meter.py"

The first talks to a serial port (set its speed beforehand, with stty), the second to a program's input and output, here one
that pretends to be a meter. It prints the address of its directory: type that under Instruments. It needs nothing but Python's
standard library. docs/device-link.md says everything that Fenvik relies on; the numbers in brackets below are its error codes.

What this meter speaks, one line each way; change `Instrument.read` for yours:

    READ            ->   XYZ 95.05 100.00 108.88     cd/m², CIE 1931
                    or   DARK | BRIGHT | BUSY 3 | FAULT some words
"""

import argparse
import asyncio
import json
import math
import shlex
import time

LINE_BYTES = 8 * 1024 * 1024
ANSWER_S = 60.0  # the instrument's longest reading, and some more


class Refusal(Exception):
    """An answer of the link that says no: a code, a sentence that a person may be shown, and facts."""

    def __init__(self, code, message, **data):
        super().__init__(message)
        self.code, self.message, self.data = code, message, data


class Instrument:
    """The far side of the cable: one question at a time, whoever asks."""

    def __init__(self, reader, writer):
        self.reader, self.writer = reader, writer
        self.one_at_a_time = asyncio.Lock()

    @classmethod
    async def of_command(cls, command):
        """Start a program and talk to it by its input and output."""
        pipe = asyncio.subprocess.PIPE
        process = await asyncio.create_subprocess_exec(*shlex.split(command), stdin=pipe, stdout=pipe)
        made = cls(process.stdout, process.stdin)
        made.process = process
        return made

    @classmethod
    async def of_stream(cls, path):
        """Open a serial port, or anything else that is a file."""
        loop = asyncio.get_running_loop()
        stream = open(path, "r+b", buffering=0)  # noqa: SIM115 - open for as long as the bridge runs
        reader = asyncio.StreamReader()
        await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), stream)
        transport, protocol = await loop.connect_write_pipe(asyncio.streams.FlowControlMixin, stream)
        return cls(reader, asyncio.StreamWriter(transport, protocol, reader, loop))

    async def ask(self, words):
        """Send a line and return the words of the answer. A cable that was pulled out is a fault inside [9]."""
        async with self.one_at_a_time:
            try:
                self.writer.write(words.encode() + b"\n")
                await self.writer.drain()
                line = await asyncio.wait_for(self.reader.readline(), ANSWER_S)
            except (OSError, TimeoutError) as error:
                raise Refusal(9, "The meter does not answer its bridge. Check its cable.") from error
        if not line:
            raise Refusal(9, "The meter's cable was pulled out.")
        return line.decode("ascii", "replace").split()

    async def read(self, floor, ceiling):
        """Return X, Y, Z of one reading."""
        words = await self.ask("READ")
        match words:
            case ["XYZ", x, y, z]:
                xyz = [float(x), float(y), float(z)]
                if not all(math.isfinite(v) for v in xyz):
                    raise Refusal(9, "The meter gave no number.")
                if xyz[1] < floor:
                    raise Refusal(6, f"Too dark to read: below {floor:g} cd/m².", floor=floor)
                return xyz
            case ["DARK"]:
                raise Refusal(6, f"Too dark to read: below {floor:g} cd/m².", floor=floor)
            case ["BRIGHT"]:
                raise Refusal(7, f"Too bright to read: above {ceiling:g} cd/m².", ceiling=ceiling)
            case ["BUSY", seconds]:
                raise Refusal(5, "The meter is warming up.", retry_s=float(seconds))
        raise Refusal(9, f"The meter said: {' '.join(words)[:120]}")


class Meter:
    """The device of the link."""

    def __init__(self, instrument, given):
        self.instrument, self.given = instrument, given
        self.began = time.monotonic()
        self.methods = {"describe": self.describe, "read": self.read, "refresh": self.refresh}

    async def describe(self, _):
        """Say what it is. Be honest about repeatability: every uncertainty that Fenvik shows is made of it."""
        given = self.given
        return {
            "link": 1,
            "role": "meter",
            "maker": given.maker,
            "model": given.model,
            "serial": given.serial,
            "firmware": "bridge 1",
            "features": [],
            "kind": given.kind,
            "floor": given.floor,
            "ceiling": given.ceiling,
            "efforts": ["normal"],
            "typical": [[0.01, 4.0], [1.0, 1.5], [100.0, 0.5]],
            "repeatability": [[0.01, 0.05, 0.01, 0.01], [1.0, 0.006, 0.001, 0.001], [100.0, 0.0015, 0.0003, 0.0003]],
        }

    async def read(self, params):
        """Read, as often as is asked for, and give the mean."""
        effort, average, spectrum = params.get("effort", "normal"), params.get("average", 1), params.get("spectrum", False)
        if not isinstance(effort, str) or not isinstance(spectrum, bool):
            raise Refusal(-32602, "effort is a text, spectrum is true or false.")
        if isinstance(average, bool) or not isinstance(average, int) or not 1 <= average <= 64:
            raise Refusal(-32602, "average is a whole number from 1 to 64.")
        if effort != "normal":
            raise Refusal(4, "There is no such effort.", name=effort[:80])
        if spectrum:
            raise Refusal(8, "This meter gives no spectrum.", name="spectrum")
        started = time.monotonic()
        taken = [await self.instrument.read(self.given.floor, self.given.ceiling) for _ in range(average)]
        return {
            "xyz": [sum(column) / average for column in zip(*taken, strict=True)],
            "seconds": time.monotonic() - started,
            "clock": time.monotonic() - self.began,
        }

    async def refresh(self, _):
        """Not a feature of this meter."""
        raise Refusal(8, "This meter does not tell the light's modulation.", name="refresh")


class Directory:
    """The list of what this bridge serves: its address is what a person types."""

    def __init__(self, host):
        self.host, self.entries = host, []
        self.methods = {"describe": self.describe, "list": self.list}

    async def describe(self, _):
        """Say what it is."""
        return {
            "link": 1, "role": "directory", "maker": "Example", "model": "Bridge", "serial": "bridge-1", "firmware": "1",
            "features": [],
        }  # fmt: skip

    async def list(self, _):
        """Return the devices."""
        return self.entries


async def answer(device, line):
    """Return the answer to one line; None to a request without an id, which wants none."""
    number, wanted = None, True
    try:
        try:
            request = json.loads(line, parse_constant=lambda word: (_ for _ in ()).throw(ValueError(word)))
        except (ValueError, UnicodeDecodeError, RecursionError):
            raise Refusal(-32700, "That is not JSON.") from None
        if not isinstance(request, dict) or request.get("jsonrpc") != "2.0" or not isinstance(request.get("method"), str):
            raise Refusal(-32600, "That is not a request.")
        number, wanted = request.get("id"), "id" in request
        params = request.get("params", {})
        method = device.methods.get(request["method"])
        if method is None:
            raise Refusal(-32601, "There is no such method.")
        if not isinstance(params, dict):
            raise Refusal(-32602, "Parameters have names here.")
        result = await method(params)
        return {"jsonrpc": "2.0", "id": number, "result": result} if wanted else None
    except Refusal as no:
        error = {"code": no.code, "message": no.message}
        if not wanted:
            return None
        return {"jsonrpc": "2.0", "id": number, "error": error | ({"data": no.data} if no.data else {})}


async def serve(device, host, port):
    """Serve a device on a port of its own; several connections may be open, each is answered in order."""

    async def talk(reader, writer):
        try:
            while line := await reader.readuntil(b"\n"):
                said = await answer(device, line)
                if said is not None:
                    writer.write(json.dumps(said).encode() + b"\n")
                    await writer.drain()
        except (asyncio.IncompleteReadError, asyncio.LimitOverrunError, OSError):
            pass  # they have gone, or sent a line that is longer than the link has
        finally:
            writer.close()

    server = await asyncio.start_server(talk, host, port, limit=LINE_BYTES)
    return server.sockets[0].getsockname()[1]


async def main(given):
    """Serve until told to end."""
    if given.command:
        instrument = await Instrument.of_command(given.command)
    else:
        instrument = await Instrument.of_stream(given.stream)
    directory = Directory(given.host)
    port = await serve(Meter(instrument, given), given.host, given.meter_port)
    name = f"{given.maker} {given.model}"
    directory.entries = [{"role": "meter", "name": name, "serial": given.serial, "host": given.host, "port": port}]
    where = await serve(directory, given.host, given.port)
    print(f"directory {given.host}:{where}", flush=True)
    await asyncio.Event().wait()


def arguments():
    """Return the arguments of the command."""
    parser = argparse.ArgumentParser(description="Bridge a meter that speaks lines of text to the device link.")
    far = parser.add_mutually_exclusive_group(required=True)
    far.add_argument("--stream", help="a serial port, or any other file to read and write")
    far.add_argument("--command", help="a program to talk to instead")
    parser.add_argument("--maker", default="Moorhen")
    parser.add_argument("--model", default="T3")
    parser.add_argument("--serial", default="MT3-0007")
    parser.add_argument("--kind", choices=("colorimeter", "spectroradiometer"), default="colorimeter")
    parser.add_argument("--floor", type=float, default=0.005, help="cd/m²")
    parser.add_argument("--ceiling", type=float, default=5000.0, help="cd/m²")
    parser.add_argument("--host", default="127.0.0.1", help="open to this machine alone unless another address is given")
    parser.add_argument("--port", type=int, default=0, help="of the directory; 0: any that is free")
    parser.add_argument("--meter-port", type=int, default=0)
    return parser.parse_args()


if __name__ == "__main__":
    try:
        asyncio.run(main(arguments()))
    except KeyboardInterrupt:
        pass
