"""A server on loopback that answers whatever a test wants, however badly, and notes what it was asked."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from plainfall.standins.serving import running

__all__ = ["Rogue", "rogue"]

Answering = Callable[[BaseHTTPRequestHandler], None]


class Rogue(ThreadingHTTPServer):
    """``asked`` holds the path and the Authorization header of every request."""

    daemon_threads = True

    def __init__(self, answering: Answering) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.answering = answering
        self.asked: list[tuple[str, str]] = []
        self.over = threading.Event()

    @property
    def port(self) -> int:
        return int(self.server_address[1])

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}/"

    def handle_error(self, request: object, client_address: object) -> None:
        """Clients that have had enough are what is wanted here."""


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Rogue

    def do_GET(self) -> None:
        self.server.asked.append((self.path, self.headers.get("Authorization", "")))
        self.close_connection = True
        self.server.answering(self)

    def log_message(self, format: str, *args: object) -> None:
        """Nothing is printed."""


@contextmanager
def rogue(answering: Answering) -> Iterator[Rogue]:
    """Serves while the block runs."""
    server = Rogue(answering)
    with running(server):
        try:
            yield server
        finally:
            server.over.set()
