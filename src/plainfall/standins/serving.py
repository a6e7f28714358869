"""Running a stand-in server while a block runs."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import unquote, urlsplit

__all__ = ["Answering", "running"]


@contextmanager
def running(server: ThreadingHTTPServer) -> Iterator[None]:
    """Lets the server answer in a thread of its own; at the end it is closed and its thread waited for."""
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


class Answering(BaseHTTPRequestHandler):
    """Answers GET from what the server's ``answer(path)`` gives (status, media type, body), where the Authorization
    header is the server's ``login``; notes each path in ``asked``."""

    protocol_version = "HTTP/1.1"
    server: Any
    wbufsize = 1 << 16
    disable_nagle_algorithm = True

    def do_GET(self) -> None:
        path = unquote(urlsplit(self.path).path).lstrip("/")
        self.server.asked.append(path)
        if self.server.login and self.headers.get("Authorization") != self.server.login:
            status, kind, body = 401, "text/plain", b"who are you?"
        else:
            status, kind, body = self.server.answer(path)
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def handle(self) -> None:
        try:
            super().handle()
        except (ConnectionError, ValueError):
            self.close_connection = True  # the client went away

    def log_message(self, format: str, *args: object) -> None:
        """Requests are kept in ``asked``; nothing is printed."""
