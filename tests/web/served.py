"""The application served by its own server in this process, and clients that are not browsers."""

import asyncio
import contextlib
import http.client
import json
import socket
import threading
import time
import typing
import urllib.parse


@contextlib.contextmanager
def served():
    """Serve the application on loopback; yields its port."""
    import uvicorn

    from fenvik.web.asgi import application

    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
    server = uvicorn.Server(uvicorn.Config(application, port=port, log_level="error", ws="none", timeout_graceful_shutdown=1))
    thread = threading.Thread(target=lambda: asyncio.run(server.serve()))
    thread.start()
    while not server.started:
        time.sleep(0.01)
    try:
        yield port
    finally:
        server.should_exit = True
        thread.join()
        while Line.opened:
            Line.opened.pop().end()


class Line:
    """One connection that has asked for an address and reads what comes; open until it ends, or the server does."""

    opened: typing.ClassVar = []

    def __init__(self, port, path, cookie="", body=None):
        self.socket = socket.create_connection(("127.0.0.1", port), 90)
        self.opened.append(self)
        head = "GET" if body is None else "POST"
        form = "" if body is None else f"Content-Type: application/x-www-form-urlencoded\r\nContent-Length: {len(body)}\r\n"
        self.socket.sendall(f"{head} {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nCookie: {cookie}\r\n{form}\r\n{body or ''}".encode())
        self.heard = b""

    def until(self, words):
        """Read until these words have come; returns everything so far. Fails where the server closes before."""
        while words not in self.heard:
            piece = self.socket.recv(1 << 16)
            assert piece, f"closed before {words!r}: {self.heard[-300:]!r}"
            self.heard += piece
        return self.heard

    def end(self):
        """Go away without a word, as a browser does whose laptop is closed."""
        self.socket.close()


def post(port, path, cookie="", **fields):
    """Send a form and return the line on which its answer comes."""
    token = "t" * 32
    body = urllib.parse.urlencode(fields | {"csrfmiddlewaretoken": token})
    return Line(port, path, f"{cookie}; csrftoken={token}", body)


def until(condition, seconds=90):
    """Wait until something is so."""
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it did not happen in time"
        time.sleep(0.02)


@contextlib.contextmanager
def talking(answers):
    """A device that answers each method with what is given for it, an object or a whole line as bytes; yields its address."""
    with socket.create_server(("127.0.0.1", 0)) as server:

        def talk(line):
            with line, contextlib.suppress(OSError):
                for asked in line.makefile("rb"):
                    request = json.loads(asked)
                    answer = answers[request["method"]]
                    if not isinstance(answer, bytes):
                        answer = json.dumps({"jsonrpc": "2.0", "id": request["id"], "result": answer}).encode()
                    line.sendall(answer.replace(b"@id", str(request["id"]).encode()) + b"\n")

        def accept():
            with contextlib.suppress(OSError):
                while True:
                    threading.Thread(target=talk, args=(server.accept()[0],), daemon=True).start()

        threading.Thread(target=accept, daemon=True).start()
        yield f"127.0.0.1:{server.getsockname()[1]}"


def status(port, path, cookie=""):
    """Return the status of a page."""
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=90)
    connection.request("GET", path, headers={"Cookie": cookie})
    answer = connection.getresponse()
    answer.read()
    connection.close()
    return answer.status
