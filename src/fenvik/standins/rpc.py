"""The server's half of the device link: JSON-RPC 2.0, one object a line, answers in order."""

import asyncio
import json
import math
from collections.abc import Awaitable, Callable
from typing import Any, NoReturn

from fenvik.standins.faults import Dropped, Fault, Raw

LONGEST_LINE = 8 * 1024 * 1024
PARSE, REQUEST, METHOD, PARAMS, INTERNAL = -32700, -32600, -32601, -32602, -32603
Params = dict[str, Any]
Handler = Callable[[Params], Awaitable[Any]]


class Refusal(Exception):
    """An error of the link: code, a sentence for a person, facts."""

    def __init__(self, code: int, message: str, **data: Any) -> None:
        super().__init__(message)
        self.code, self.message, self.data = code, message, data


def wrong(message: str) -> Refusal:
    """Return the refusal of params that are missing or wrong."""
    return Refusal(PARAMS, message)


def is_number(value: object) -> bool:
    """Whether a JSON value is a finite number; true and false are none."""
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def text(params: Params, name: str) -> str:
    """Return a text among the params. Raises the refusal of wrong params."""
    value = params.get(name)
    if not isinstance(value, str):
        raise wrong(f"{name} must be a text.")
    return value


def codes(params: Params, name: str, bits: int) -> tuple[int, int, int]:
    """Return three code values among the params. Raises the refusal of wrong params."""
    value = params.get(name)
    top = 2**bits - 1
    if (
        not isinstance(value, list)
        or len(value) != 3
        or not all(isinstance(c, int) and not isinstance(c, bool) and 0 <= c <= top for c in value)
    ):
        raise wrong(f"{name} must be three whole code values from 0 to {top}.")
    return value[0], value[1], value[2]


def _no_constant(name: str) -> NoReturn:
    raise ValueError(name)


class Device:
    """One device of the link: a role, an identity, methods, and a fault that may strike it."""

    role = ""

    def __init__(self, maker: str, model: str, serial: str, firmware: str = "1.0") -> None:
        self.maker, self.model, self.serial, self.firmware = maker, model, serial, firmware
        self.features: list[str] = []
        self.fault = Fault()
        self.methods: dict[str, Handler] = {"describe": self.describe}
        self.port = 0

    @property
    def name(self) -> str:
        """Maker and model."""
        return f"{self.maker} {self.model}"

    def facts(self) -> dict[str, Any]:
        """Return the members that the role adds to the description."""
        return {}

    async def describe(self, _: Params) -> dict[str, Any]:
        """Say what this is."""
        return {
            "link": 1,
            "role": self.role,
            "maker": self.maker,
            "model": self.model,
            "serial": self.serial,
            "firmware": self.firmware,
            "features": self.features,
            **self.facts(),
        }

    async def answer(self, line: bytes) -> dict[str, Any] | None:
        """Return the answer to a line, or None for a notification."""
        try:
            request = json.loads(line.decode("utf-8"), parse_constant=_no_constant)
        except (ValueError, RecursionError):
            return _error(None, PARSE, "The line is not JSON.")
        if (
            not isinstance(request, dict)
            or request.get("jsonrpc") != "2.0"
            or not isinstance(request.get("method"), str)
        ):
            number = request.get("id") if isinstance(request, dict) else None
            return _error(number if _is_id(number) else None, REQUEST, "The line is not a request.")
        quiet, number = "id" not in request, request.get("id")
        if not quiet and not _is_id(number):
            return _error(None, REQUEST, "An id is a text, a number or null.")
        try:
            result = await self._result(request)
        except Refusal as refusal:
            return None if quiet else _error(number, refusal.code, refusal.message, refusal.data)
        return None if quiet else {"jsonrpc": "2.0", "id": number, "result": result}

    async def _result(self, request: dict[str, Any]) -> Any:
        method, params = request["method"], request.get("params", {})
        handler = self.methods.get(method)
        if handler is None:
            raise Refusal(METHOD, f"There is no method {method[:80]}.")
        if not isinstance(params, dict):
            raise wrong("Params are an object with names.")
        strike = await self.fault.strike(method)
        if strike is not None:
            raise Refusal(*strike[:2], **strike[2])
        return await handler(params)


def _is_id(number: object) -> bool:
    return number is None or isinstance(number, str) or is_number(number)


def _error(number: object, code: int, message: str, data: dict[str, Any] | None = None) -> dict[str, Any]:
    error: dict[str, Any] = {"code": code, "message": message}
    if data:
        error["data"] = data
    return {"jsonrpc": "2.0", "id": number, "error": error}


async def serve(device: Device, host: str, port: int) -> asyncio.Server:
    """Serve a device; ``device.port`` is set to the port that it got."""

    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                line = await reader.readuntil(b"\n")
                if not line.strip():
                    continue
                try:
                    answer = await device.answer(line)
                except Raw as raw:
                    writer.write(raw.line)
                    await writer.drain()
                    continue
                if answer is not None:
                    writer.write(json.dumps(answer, separators=(",", ":"), allow_nan=False).encode() + b"\n")
                    await writer.drain()
        except asyncio.LimitOverrunError:
            writer.write(json.dumps(_error(None, REQUEST, "A line has at most 8 MiB.")).encode() + b"\n")
        except (Dropped, asyncio.IncompleteReadError, ConnectionError):
            pass
        finally:
            writer.close()

    server = await asyncio.start_server(talk, host, port, limit=LONGEST_LINE)
    device.port = server.sockets[0].getsockname()[1]
    return server
