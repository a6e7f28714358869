"""A package registry on loopback: the simple repository interface in its HTML and JSON forms, with
metadata files, byte ranges, and faults on request."""

from __future__ import annotations

import hashlib
import html
import json
import re
import threading
import time
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from io import BytesIO
from pathlib import Path
from urllib.parse import unquote, urlsplit

from msgspec import Struct, field

from plainfall.standins.building import Built
from plainfall.standins.serving import running

__all__ = ["Archive", "Faults", "Registry", "archives_in", "serving"]

_JSON = "application/vnd.pypi.simple.v1+json"


class Archive(Struct, frozen=True):
    """One archive on offer. ``digest`` overrides the true SHA-256 on the page, for trials; ``uploaded`` is the time
    of upload that its JSON page states ("": none)."""

    project: str
    filename: str
    content: bytes
    metadata: str | None = None
    requires_python: str = ""
    yanked: str | None = None
    digest: str | None = None
    uploaded: str = ""

    @property
    def sha256(self) -> str:
        """The digest that the page states."""
        return self.digest or hashlib.sha256(self.content).hexdigest()

    @classmethod
    def of(cls, built: Built) -> Archive:
        """A built package, offered."""
        return cls(built.name, built.filename, built.content, built.metadata, built.requires_python)


class Faults(Struct):
    """What shall go wrong: how many of the next requests answer 503; how many of the next archives break
    off after half their bytes; how many seconds an archive takes; whether byte ranges, the JSON form and
    metadata files are known."""

    unavailable: int = 0
    broken_off: int = 0
    slow: float = 0.0
    ranges: bool = True
    json: bool = True
    metadata: bool = True
    user: str = ""
    asked: list[str] = field(default_factory=list)


class Registry(ThreadingHTTPServer):
    """The server; ``url`` is the index address to give to clients."""

    daemon_threads = True
    request_queue_size = 128

    def __init__(self, archives: list[Archive], faults: Faults | None = None) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.faults = faults or Faults()
        self.projects: dict[str, list[Archive]] = {}
        self.files: dict[str, Archive] = {}
        self.guard = threading.Lock()
        for archive in archives:
            name = re.sub(r"[-_.]+", "-", archive.project).lower()
            self.projects.setdefault(name, []).append(archive)
            self.files[archive.filename] = archive

    @property
    def url(self) -> str:
        """The index address."""
        return f"http://127.0.0.1:{self.server_address[1]}/simple/"


def archives_in(folder: Path) -> list[Archive]:
    """Everything in a folder of wheels and source packages, with the wheels' own metadata."""
    found = []
    for path in sorted(folder.iterdir()):
        if path.suffix == ".whl":
            content = path.read_bytes()
            with zipfile.ZipFile(BytesIO(content)) as wheel:
                name = next(
                    n for n in wheel.namelist() if n.endswith(".dist-info/METADATA") and n.count("/") == 1
                )
                metadata = wheel.read(name).decode("utf-8", "replace")
            requires = re.search(r"^Requires-Python: *(.+)$", metadata, re.MULTILINE)
            project = path.name.split("-")[0]
            found.append(
                Archive(project, path.name, content, metadata, requires.group(1).strip() if requires else "")
            )
        elif path.name.endswith(".tar.gz"):
            found.append(Archive(path.name.rpartition("-")[0], path.name, path.read_bytes()))
    return found


@contextmanager
def serving(archives: list[Archive], faults: Faults | None = None) -> Iterator[Registry]:
    """Serves the archives on a free loopback port while the block runs."""
    registry = Registry(archives, faults)
    with running(registry):
        yield registry


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Registry
    wbufsize = 1 << 16
    disable_nagle_algorithm = True

    def do_GET(self) -> None:
        faults = self.server.faults
        path = unquote(urlsplit(self.path).path)
        with self.server.guard:
            faults.asked.append(path)
            if faults.unavailable > 0:
                faults.unavailable -= 1
                self._send(503, "text/plain", b"try again")
                return
        if faults.user and self.headers.get("Authorization") != faults.user:
            self._send(401, "text/plain", b"who are you?")
        elif path.startswith("/files/"):
            self._file(path.removeprefix("/files/"))
        elif path.startswith("/simple/"):
            self._page(path.removeprefix("/simple/").strip("/"))
        else:
            self._send(404, "text/plain", b"nothing here")

    def _page(self, name: str) -> None:
        archives = self.server.projects.get(name)
        if archives is None:
            self._send(404, "text/plain", b"no such project")
        elif self.server.faults.json and _JSON in self.headers.get("Accept", ""):
            files = [self._row(archive) for archive in archives]
            page = {"meta": {"api-version": "1.1"}, "name": name, "files": files}
            self._send(200, _JSON, json.dumps(page).encode())
        else:
            rows = "".join(self._anchor(archive) for archive in archives)
            self._send(200, "text/html", f"<!doctype html><body>{rows}</body>".encode())

    def _row(self, archive: Archive) -> dict[str, object]:
        row: dict[str, object] = {
            "filename": archive.filename,
            "url": f"/files/{archive.filename}",
            "hashes": {"sha256": archive.sha256},
            "size": len(archive.content),
            "yanked": False if archive.yanked is None else archive.yanked or True,
            "core-metadata": bool(archive.metadata and self.server.faults.metadata),
        }
        if archive.requires_python:
            row["requires-python"] = archive.requires_python
        if archive.uploaded:
            row["upload-time"] = archive.uploaded
        return row

    def _anchor(self, archive: Archive) -> str:
        more = ""
        if archive.requires_python:
            more += f' data-requires-python="{html.escape(archive.requires_python)}"'
        if archive.yanked is not None:
            more += f' data-yanked="{html.escape(archive.yanked)}"'
        if archive.metadata and self.server.faults.metadata:
            more += ' data-core-metadata="true"'
        address = f"/files/{archive.filename}#sha256={archive.sha256}"
        return f'<a href="{address}"{more}>{archive.filename}</a><br>\n'

    def _file(self, filename: str) -> None:
        if filename.endswith(".metadata"):
            archive = self.server.files.get(filename.removesuffix(".metadata"))
            if archive is None or archive.metadata is None or not self.server.faults.metadata:
                self._send(404, "text/plain", b"no such file")
            else:
                self._send(200, "text/plain", archive.metadata.encode())
            return
        archive = self.server.files.get(filename)
        if archive is None:
            self._send(404, "text/plain", b"no such file")
            return
        self._content(archive.content)

    def _content(self, content: bytes) -> None:
        span = re.fullmatch(r"bytes=(\d*)-(\d*)", self.headers.get("Range", ""))
        kind = "application/octet-stream"
        tag = f'"{hashlib.sha256(content).hexdigest()}"'
        same = self.headers.get("If-Range", tag) == tag
        if same and span and self.server.faults.ranges and (span.group(1) or span.group(2)):
            if span.group(1):
                first = int(span.group(1))
                last = min(int(span.group(2) or len(content) - 1), len(content) - 1)
            else:
                first, last = max(0, len(content) - int(span.group(2))), len(content) - 1
            if first >= len(content):
                self._send(416, kind, b"", {"Content-Range": f"bytes */{len(content)}"})
                return
            part = {"Content-Range": f"bytes {first}-{last}/{len(content)}", "ETag": tag}
            self._send(206, kind, content[first : last + 1], part)
            return
        with self.server.guard:
            broken = self.server.faults.broken_off > 0
            self.server.faults.broken_off -= broken
        self._send(200, kind, content, {"ETag": tag}, broken_off=broken)

    def _send(
        self,
        status: int,
        kind: str,
        body: bytes,
        headers: dict[str, str] | None = None,
        *,
        broken_off: bool = False,
    ) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        for name, value in (headers or {}).items():
            self.send_header(name, value)
        self.end_headers()
        if broken_off:
            self.wfile.write(body[: len(body) // 2])
            self.wfile.flush()
            self.close_connection = True
            self.connection.close()
            return
        if self.server.faults.slow and kind == "application/octet-stream":
            self.wfile.write(body[: len(body) // 2])
            time.sleep(self.server.faults.slow)
            body = body[len(body) // 2 :]
        self.wfile.write(body)

    def handle(self) -> None:
        try:
            super().handle()
        except (ConnectionError, ValueError):
            self.close_connection = True  # the client went away, or we broke off on request

    def log_message(self, format: str, *args: object) -> None:
        """Requests are kept in ``faults.asked``; nothing is printed."""
