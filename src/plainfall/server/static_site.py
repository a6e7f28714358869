"""A built static site, served on loopback: its files, and its first page for paths that only its scripts know.

Run as ``python -I -m plainfall.server.static_site FOLDER PORT``; what it serves lies in the folder, links that lead
out of it are not followed.
"""

from __future__ import annotations

import os
import posixpath
import sys
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import unquote, urlsplit

__all__ = ["main"]


_NOWHERE = os.path.join(os.devnull, "none")  # nothing can be there


class _Site(SimpleHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def translate_path(self, path: str) -> str:
        root = os.path.realpath(self.directory)
        inner = posixpath.normpath(unquote(urlsplit(path).path)).lstrip("/")
        if "\0" in inner:
            return _NOWHERE
        has_ending = "." in inner.rpartition("/")[2]
        for name in (inner, f"{inner}.html", *(() if has_ending else ("index.html",))):
            place = os.path.realpath(os.path.join(root, name))
            if os.path.isdir(place):
                place = os.path.realpath(os.path.join(place, "index.html"))
            if place.startswith(f"{root}{os.sep}") and os.path.isfile(place):
                return place
        return _NOWHERE

    def end_headers(self) -> None:
        self.send_header("Cache-Control", "no-store")
        super().end_headers()


def main(folder: str, port: int) -> None:
    """Serves until it is ended."""
    with ThreadingHTTPServer(("127.0.0.1", port), partial(_Site, directory=folder)) as server:
        server.serve_forever()


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]))
