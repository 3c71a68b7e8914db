"""One connection to one device: JSON-RPC 2.0, an object a line, a deadline for every request."""

import json
import socket
import time
from collections.abc import Callable
from typing import Any, NoReturn

from fenvik.link.faults import DeviceError, LinkFault
from fenvik.link.sane import flaw, known, most_bytes, sentence

CONNECT_S = 3.0
LOOK_S = 1.0  # so often whoever waits for an answer is told that it still does
DEADLINE_S = 5.0


def _no_constant(text: str) -> NoReturn:
    raise ValueError(f"{text} is not JSON")


class Connection:
    """Connects when first used and again after a fault. Not to be shared between threads.

    ``heed``: called with the seconds that an answer is waited for, about once a second; what it raises ends the call.
    """

    heed: Callable[[float], None] | None = None

    def __init__(self, host: str, port: int, who: str = "The device") -> None:
        self.host, self.port, self.who = host, port, who
        self._socket: socket.socket | None = None
        self._rest = b""
        self._number = 0

    @property
    def where(self) -> str:
        """Host and port, as shown to a person."""
        return f"{self.host}:{self.port}"

    def close(self) -> None:
        """Let go of the socket; the next call makes a new one."""
        if self._socket is not None:
            self._socket.close()
        self._socket, self._rest = None, b""

    def __enter__(self) -> "Connection":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def call(self, method: str, params: dict[str, Any] | None = None, deadline_s: float = DEADLINE_S) -> Any:
        """Return the result of a call.

        Raises DeviceError where the device refuses, LinkFault for everything that the link does not allow. After a
        fault the connection is gone, so an answer that comes late can never be taken for the answer to a later call; so it is where
        ``heed`` ends it.
        """
        self._number += 1
        request: dict[str, Any] = {"jsonrpc": "2.0", "id": self._number, "method": method}
        if params is not None:
            request["params"] = params
        end = time.monotonic() + deadline_s
        try:
            self._send(json.dumps(request, separators=(",", ":")).encode() + b"\n", end, deadline_s)
            answer = self._parse(self._line(end, deadline_s, most_bytes(method)))
        except BaseException:
            self.close()
            raise
        error = answer.get("error")
        if error is not None:
            data = error.get("data")
            raise DeviceError(self.who, error["code"], sentence(error["message"]), data if isinstance(data, dict) else {})
        return answer["result"]

    def fault(self, detail: str) -> LinkFault:
        """Return the fault of an answer of the wrong shape, and let go of the connection."""
        self.close()
        return LinkFault("shape", self.who, self.where, detail=detail)

    def reach(self, seconds: float) -> socket.socket:
        """Return a socket to the device; whoever may not reach every address says so here. Raises OSError."""
        return socket.create_connection((self.host, self.port), seconds)

    def _send(self, data: bytes, end: float, deadline_s: float) -> None:
        fresh = self._socket is None
        try:
            if self._socket is None:
                self._socket = self.reach(min(CONNECT_S, deadline_s))
                self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            self._socket.settimeout(max(end - time.monotonic(), 0.01))
            self._socket.sendall(data)
        except OSError as error:
            kind = "absent" if fresh else "closed"
            raise LinkFault(kind, self.who, self.where) from error  # type: ignore[arg-type]

    def _line(self, end: float, deadline_s: float, most: int) -> bytes:
        assert self._socket is not None
        pieces, length, began = [self._rest], len(self._rest), time.monotonic()
        while b"\n" not in pieces[-1]:
            left = end - time.monotonic()
            if left <= 0:
                raise LinkFault("silent", self.who, self.where, seconds=deadline_s)
            try:
                self._socket.settimeout(left if self.heed is None else min(left, LOOK_S))
                piece = self._socket.recv(1 << 16)
            except TimeoutError:
                if self.heed is not None:
                    self.heed(time.monotonic() - began)
                continue
            except OSError as error:
                raise LinkFault("closed", self.who, self.where) from error
            if not piece:
                raise LinkFault("closed", self.who, self.where)
            pieces.append(piece)
            length += len(piece)
            if length > most:
                raise LinkFault("shape", self.who, self.where, detail=f"an answer of more than {most // 1024} KiB")
        line, _, self._rest = b"".join(pieces).partition(b"\n")
        return line

    def _parse(self, line: bytes) -> dict[str, Any]:
        try:
            answer = json.loads(line.decode("utf-8"), parse_constant=_no_constant)
        except (ValueError, RecursionError) as error:
            raise LinkFault("garbage", self.who, self.where) from error
        if not isinstance(answer, dict) or answer.get("jsonrpc") != "2.0":
            raise LinkFault("garbage", self.who, self.where)
        if ("result" in answer) == ("error" in answer):
            raise LinkFault("shape", self.who, self.where, detail="neither a result nor an error")
        if answer.get("id") != self._number or isinstance(answer.get("id"), bool):
            raise LinkFault("shape", self.who, self.where, detail="the answer to another request")
        refusal = answer.get("error")
        # A refusal's sentence is cut where it is shown. Its data may be anything, the trace of a fault in a bridge too.
        held, member = (answer, "result") if "error" not in answer else (refusal if isinstance(refusal, dict) else {}, "data")
        if held is refusal and not isinstance(refusal.get("data"), dict):
            refusal["data"] = {}
        if flaw(held.get(member)):
            held[member] = known(held[member])
        if words := flaw(held.get(member)):
            raise LinkFault("shape", self.who, self.where, detail=words)
        if "error" in answer and not (
            isinstance(refusal, dict)
            and isinstance(refusal.get("code"), int)
            and not isinstance(refusal.get("code"), bool)
            and isinstance(refusal.get("message"), str)
        ):
            raise LinkFault("shape", self.who, self.where, detail="an error without code and message")
        return answer
