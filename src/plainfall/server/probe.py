"""Asking a server for a page as a browser would, and judging the answer."""

from __future__ import annotations

import http.client
import time
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin, urlsplit

from plainfall.server.page import read_page

__all__ = ["Answer", "Probe", "ask", "probe_page"]

_LARGEST = 8 * 1024 * 1024
_REDIRECTS = 5


@dataclass(frozen=True)
class Answer:
    """One answer: the status, the media type, the body (cut at 8 MiB), seconds to its first byte, the
    address it came from after redirects."""

    url: str
    status: int
    media_type: str
    body: bytes
    first_byte: float


@dataclass(frozen=True)
class Probe:
    """What a page answered: status, title, seconds to the first byte, size in bytes, the assets' statuses
    (0 for one that did not answer). ``problem`` says why it is not good, empty if it is."""

    url: str
    status: int
    title: str | None
    first_byte: float
    size: int
    media_type: str
    assets: tuple[tuple[str, int], ...]
    problem: str = ""

    def as_json(self) -> dict[str, Any]:
        """The form that ``--json`` documents show."""
        return {
            "url": self.url,
            "status": self.status,
            "title": self.title,
            "first_byte_seconds": round(self.first_byte, 4),
            "bytes": self.size,
            "media_type": self.media_type,
            "assets": [{"url": url, "status": status} for url, status in self.assets],
            "problem": self.problem,
        }


def ask(url: str, timeout: float) -> Answer:
    """One GET with redirects to the same host followed. ``timeout`` in seconds holds for each wait.

    Raises OSError or http.client.HTTPException if there is no whole answer.
    """
    for _ in range(_REDIRECTS + 1):
        answer, location = _once(url, timeout)
        target = urljoin(url, location) if location else ""
        if answer.status not in (301, 302, 303, 307, 308) or not target:
            return answer
        if urlsplit(target).hostname != urlsplit(url).hostname or urlsplit(target).scheme != "http":
            return answer
        url = target
    return answer


def _once(url: str, timeout: float) -> tuple[Answer, str]:
    parts = urlsplit(url)
    connection = http.client.HTTPConnection(parts.hostname or "", parts.port or 80, timeout=timeout)
    try:
        start = time.perf_counter()
        target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        connection.request(
            "GET", target, headers={"Accept": "text/html,*/*;q=0.8", "User-Agent": "plainfall"}
        )
        response = connection.getresponse()
        first = time.perf_counter() - start
        body = _body(response, timeout)
        media = response.headers.get("Content-Type", "").partition(";")[0].strip().lower()
        return Answer(url, response.status, media, body, first), response.headers.get("Location", "")
    finally:
        connection.close()


def _body(response: http.client.HTTPResponse, timeout: float) -> bytes:
    """The body, as far as it comes within the time: an endless stream is no reason to hang."""
    deadline = time.monotonic() + timeout
    pieces, size = [], 0
    while size < _LARGEST and time.monotonic() < deadline:
        piece = response.read1(1 << 16)
        if not piece:
            break
        pieces.append(piece)
        size += len(piece)
    return b"".join(pieces)


def probe_page(url: str, timeout: float = 10.0) -> Probe:
    """Asks for a page and for everything of its own origin that it loads. Never raises for what the server
    does: a page that does not answer has status 0 and says why."""
    try:
        answer = ask(url, timeout)
    except (OSError, http.client.HTTPException) as error:
        return Probe(url, 0, None, 0.0, 0, "", (), f"no answer: {error or type(error).__name__}")
    title: str | None = None
    addresses: list[str] = []
    if "html" in answer.media_type:
        title, addresses = read_page(answer.body, answer.url)
    assets = tuple((address, _status(address, timeout)) for address in addresses)
    bad = [
        f"{urlsplit(address).path} → {status or 'no answer'}"
        for address, status in assets
        if not 0 < status < 400
    ]
    problem = ""
    if answer.status >= 400:
        problem = f"the page answers with status {answer.status}"
    elif bad:
        problem = f"the page loads what is not there: {', '.join(bad)}"
    return Probe(
        answer.url,
        answer.status,
        title,
        answer.first_byte,
        len(answer.body),
        answer.media_type,
        assets,
        problem,
    )


def _status(url: str, timeout: float) -> int:
    try:
        return ask(url, timeout).status
    except (OSError, http.client.HTTPException):
        return 0
