"""Asking a server as a browser would: redirects, cookies, self-signed certificates, odd endings."""

from __future__ import annotations

import contextlib
import http.client
import http.cookiejar
import socket
import ssl
import time
import urllib.request
import zlib
from collections.abc import Mapping
from urllib.parse import urlencode, urljoin, urlsplit

from msgspec import Struct, field

__all__ = ["LOOPBACK", "Answer", "ForeignForm", "Visitor", "addresses_of", "ask", "connected_to"]

LOOPBACK = ("localhost", "127.0.0.1", "::1")
_LARGEST = 8 * 1024 * 1024
_REDIRECTS = 8
_ACCEPTS = {
    "document": "text/html,*/*;q=0.8",
    "style": "text/css,*/*;q=0.1",
    "image": "image/avif,image/webp,image/png,image/svg+xml,image/*;q=0.8,*/*;q=0.5",
}
_MOVED = (301, 302, 303, 307, 308)


class Answer(Struct, frozen=True):
    """One answer: its address after redirects (those that were followed are in ``redirects``), the status,
    the media type, the body (cut at 8 MiB), seconds to the first byte and in all, and how it ended: "complete",
    "cut" (it went on without an end) or "broken" (it broke off). ``location`` is where a redirect that was
    not followed leads; ``verified`` is False for https with a self-signed certificate."""

    url: str
    status: int
    media_type: str
    body: bytes
    first_byte: float
    seconds: float = 0.0
    ending: str = "complete"
    redirects: tuple[str, ...] = ()
    location: str = ""
    headers: Mapping[str, str] = field(default_factory=dict)
    verified: bool = True


class ForeignForm(OSError):
    """A form that would go to another origin than its page's, with the password that is filled in."""

    def __init__(self, action: str) -> None:
        super().__init__(f"the form leads to {action[:200]}, another server, and was not sent")


class _Head(urllib.request.Request):
    """What the cookie jar wants to know of a request."""


class Visitor:
    """Asks one server again and again, with the cookies that it set. ``timeout`` in seconds holds for each
    wait, and for the complete body."""

    def __init__(self, timeout: float = 10.0) -> None:
        self.timeout = timeout
        self.cookies = http.cookiejar.CookieJar()

    def get(self, url: str, what: str = "document") -> Answer:
        """One GET with the headers that a browser sends for ``what`` it wants ("document", "script", "style",
        "image"; Fetch standard, Fetch Metadata), with redirects to the same host followed. Raises OSError or
        http.client.HTTPException if there is no answer at all."""
        return self._follow("GET", url, None, what=what)

    def submit(self, method: str, action: str, fields: list[tuple[str, str]], page: str) -> Answer:
        """One form of a page sent, by "post" or "get"; then as ``get``. Raises ForeignForm for one that leads to
        another origin than the page's (RFC 6454)."""
        if not _same_origin(action, page):
            raise ForeignForm(action)
        if method == "post":
            return self._follow("POST", action, urlencode(fields).encode(), page)
        return self.get(urljoin(action, f"?{urlencode(fields)}"))

    def _follow(
        self, method: str, url: str, body: bytes | None, referer: str = "", what: str = "document"
    ) -> Answer:
        passed: list[str] = []
        while True:
            answer = self._once(method, url, body, referer, tuple(passed), what)
            target = urljoin(url, answer.location) if answer.location else ""
            if answer.status not in _MOVED or not target or len(passed) >= _REDIRECTS:
                return answer
            here, existing = urlsplit(url), urlsplit(target)
            if existing.scheme not in ("http", "https") or not _same_host(here.hostname, existing.hostname):
                return answer
            if here.hostname not in LOOPBACK and existing.scheme != here.scheme:
                return answer
            if answer.status in (307, 308) and body is not None and not _same_origin(target, url):
                return answer  # what was filled in would be sent on
            passed.append(url)
            if answer.status not in (307, 308):
                method, body = "GET", None
            url = target

    def _once(
        self, method: str, url: str, body: bytes | None, referer: str, passed: tuple[str, ...], what: str
    ) -> Answer:
        parts = urlsplit(url)
        connection, verified = self._connected(parts.scheme, parts.hostname or "", parts.port)
        try:
            start = time.perf_counter()
            target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
            wanted = {
                "Host": parts.netloc.rpartition("@")[2],
                "Accept": _ACCEPTS.get(what, "*/*"),
                "User-Agent": "plainfall",
                "Sec-Fetch-Dest": what,
            }
            head = _Head(url, headers=wanted, method=method)
            self.cookies.add_cookie_header(head)
            headers = dict(head.header_items())
            if body is not None:
                headers["Content-Type"] = "application/x-www-form-urlencoded"
                headers["Referer"], headers["Origin"] = referer, f"{parts.scheme}://{parts.netloc}"
            connection.request(method, target, body=body, headers=headers)
            response = connection.getresponse()
            first = time.perf_counter() - start
            self.cookies.extract_cookies(response, head)
            content, ending = _body(response, self.timeout)
            media = response.headers.get("Content-Type", "").partition(";")[0].strip().lower()
            results = {name.lower(): value for name, value in response.headers.items()}
            return Answer(
                url,
                response.status,
                media,
                _decoded(content, results.get("content-encoding", "")),
                first,
                time.perf_counter() - start,
                ending,
                passed,
                results.get("location", ""),
                results,
                verified,
            )
        finally:
            connection.close()

    def _connected(self, scheme: str, host: str, port: int | None) -> tuple[http.client.HTTPConnection, bool]:
        """A connection to a server. This machine's own name needs nobody to look it up (RFC 6761, 6.3)."""
        addresses = addresses_of(host)
        for number, address in enumerate(addresses, 1):
            connection, verified = self._connection(scheme, address, port)
            try:
                connection.connect()
                return connection, verified
            except OSError:
                connection.close()
                if number == len(addresses):
                    raise
        raise AssertionError("the last address connects or raises")

    def _connection(
        self, scheme: str, host: str, port: int | None
    ) -> tuple[http.client.HTTPConnection, bool]:
        if scheme != "https":
            return http.client.HTTPConnection(host, port or 80, timeout=self.timeout), True
        if host in LOOPBACK:
            # A dev server's own certificate: accepted on loopback only, and reported.
            context = ssl.create_default_context()
            context.check_hostname = False
            context.verify_mode = ssl.CERT_NONE
            return http.client.HTTPSConnection(
                host, port or 443, timeout=self.timeout, context=context
            ), False
        return http.client.HTTPSConnection(host, port or 443, timeout=self.timeout), True


def addresses_of(host: str) -> tuple[str, ...]:
    """What is connected to for a host: for a name of this machine its addresses, in order.

    >>> addresses_of("localhost"), addresses_of("gauges.localhost"), addresses_of("registry.example")
    (('127.0.0.1', '::1'), ('127.0.0.1', '::1'), ('registry.example',))
    """
    plain = host.lower().rstrip(".")
    return ("127.0.0.1", "::1") if plain == "localhost" or plain.endswith(".localhost") else (host,)


def connected_to(place: tuple[str, int], timeout: float) -> socket.socket:
    """A connection to a host and port, by the host's ``addresses_of``. Raises OSError."""
    *others, last = addresses_of(place[0])
    for address in others:
        with contextlib.suppress(OSError):
            return socket.create_connection((address, place[1]), timeout)
    return socket.create_connection((last, place[1]), timeout)


def ask(url: str, timeout: float) -> Answer:
    """One GET by a new visitor. Raises OSError or http.client.HTTPException if there is no answer at all."""
    return Visitor(timeout).get(url)


def _same_host(one: str | None, other: str | None) -> bool:
    return one == other or (one in LOOPBACK and other in LOOPBACK)


def _same_origin(one: str, other: str) -> bool:
    here, there = urlsplit(one), urlsplit(other)
    try:
        ports = [each.port or {"http": 80, "https": 443}.get(each.scheme) for each in (here, there)]
    except ValueError:
        return False
    return here.scheme == there.scheme and ports[0] == ports[1] and _same_host(here.hostname, there.hostname)


def _body(response: http.client.HTTPResponse, timeout: float) -> tuple[bytes, str]:
    """The body, as far as it comes within the time, and how it ended: a stream is no reason to hang."""
    deadline = time.monotonic() + timeout
    pieces: list[bytes] = []
    size = 0
    expected = response.length
    try:
        while size < _LARGEST and time.monotonic() < deadline:
            piece = response.read1(1 << 16)
            if not piece:
                entire = expected is None or size >= expected
                return b"".join(pieces), "complete" if entire else "broken"
            pieces.append(piece)
            size += len(piece)
    except TimeoutError:
        return b"".join(pieces), "cut"
    except (OSError, http.client.HTTPException):
        return b"".join(pieces), "broken"
    return b"".join(pieces), "cut"


def _decoded(content: bytes, encoding: str) -> bytes:
    """The content itself, as far as it may be large; what cannot be unpacked stays as it is. Nothing packed was
    asked for."""
    if encoding not in ("gzip", "x-gzip", "deflate"):
        return content
    try:
        return zlib.decompressobj(47).decompress(content, _LARGEST)
    except zlib.error:
        return content
