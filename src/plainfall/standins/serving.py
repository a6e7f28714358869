"""Running a stand-in server while a block runs."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import ThreadingHTTPServer

__all__ = ["running"]


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
