"""The application served by its own server in this process, and clients that are not browsers."""

import asyncio
import contextlib
import http.client
import socket
import threading
import time


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


class Line:
    """One connection that has asked for an address and reads what comes."""

    def __init__(self, port, path, cookie=""):
        self.socket = socket.create_connection(("127.0.0.1", port), 20)
        self.socket.sendall(f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nCookie: {cookie}\r\n\r\n".encode())
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


def status(port, path, cookie=""):
    """Return the status of a page."""
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    connection.request("GET", path, headers={"Cookie": cookie})
    answer = connection.getresponse()
    answer.read()
    connection.close()
    return answer.status
