"""Limits for every answer that comes over the network: its size after inflating, the time it may take in all and
without progress, how long a server may ask to wait.

Timeouts of a socket count the silence between two receives, so a server that sends a byte a second is never
late for them. A watchdog thread therefore shuts the socket of an answer that is over its time; the reader then
fails at once, and says why.
"""

from __future__ import annotations

import os
import socket
import threading
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any
from urllib.parse import urljoin

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.errors import RegistryProblem
from plainfall.packages.logins import host_of, may_lead

if TYPE_CHECKING:
    import urllib3

__all__ = [
    "LIMITS",
    "Limits",
    "limited_pools",
    "limits_for",
    "patient_retries",
    "pieces_of",
    "read_body",
    "watched",
]

_PIECE = 1 << 16
_TICK = 0.25  # seconds between two looks of the watchdog


class Limits(Struct, frozen=True):
    """Bytes are counted after inflating. ``page`` is for documents, ``archive`` for what goes to the disk,
    ``in_memory`` for archives that are taken into memory; ``seconds`` is the time for a document in all,
    ``stall`` the time in which ``stall_bytes`` of an archive must come (and the head of any answer);
    ``retry_after`` the longest wait that a server may ask for."""

    page: int = 128 * 1024**2  # the largest page of a registry that was seen has 49 MiB
    archive: int = 8 * 1024**3
    in_memory: int = 256 * 1024**2
    seconds: float = 180.0
    stall: float = 60.0
    stall_bytes: int = 64 * 1024
    redirects: int = 8
    retry_after: float = 60.0


LIMITS = Limits()


def limits_for(timeout: float) -> Limits:
    """The limits for a socket timeout in seconds that the person's configuration states."""
    return replace(LIMITS, stall=4 * timeout, seconds=12 * timeout)


class _Watch(Struct, eq=False):
    sock: socket.socket | None
    seconds: float
    deadline: float
    expired: bool = False

    def renew(self) -> None:
        """Restarts the clock after progress."""
        self.deadline = time.monotonic() + self.seconds


class _Watchdog(Struct):
    lock: threading.Lock = field(default_factory=threading.Lock)
    watches: set[_Watch] = field(default_factory=set)
    runs: bool = False

    def add(self, watch: _Watch) -> None:
        with self.lock:
            self.watches.add(watch)
            if not self.runs:
                self.runs = True
                threading.Thread(target=self._work, daemon=True, name="watchdog").start()

    def remove(self, watch: _Watch) -> None:
        with self.lock:
            self.watches.discard(watch)

    def _work(self) -> None:
        while True:
            time.sleep(_TICK)
            with self.lock:
                late = [one for one in self.watches if one.deadline < time.monotonic()]
                for watch in late:
                    watch.expired = True
                    self.watches.discard(watch)
                    _shut(watch.sock)
                if not self.watches:
                    self.runs = False
                    return


def _shut(sock: socket.socket | None) -> None:
    if sock is None:
        return
    try:
        # The plain socket's own: that of a TLS socket would take the session from under its reader.
        socket.socket.shutdown(sock, socket.SHUT_RDWR)
    except OSError:
        return  # closed meanwhile


_DOG = _Watchdog()


def _forget_watches() -> None:
    global _DOG
    _DOG = _Watchdog()  # a forked process has no threads of its parent's


os.register_at_fork(after_in_child=_forget_watches)


@contextmanager
def watched(sock: socket.socket | None, seconds: float) -> Iterator[_Watch]:
    """Shuts a socket if the block takes longer than that, without ``renew``; then ``expired`` is set."""
    watch = _Watch(sock, seconds, time.monotonic() + seconds)
    _DOG.add(watch)
    try:
        yield watch
    finally:
        _DOG.remove(watch)


def limited_pools(limits: Limits) -> dict[str, Any]:
    """Connection pools for urllib3 (by scheme) whose answers must begin within the limit, and know their
    socket."""
    from urllib3.connection import HTTPConnection, HTTPSConnection
    from urllib3.connectionpool import HTTPConnectionPool, HTTPSConnectionPool

    def getresponse(connection: Any, ask: Callable[[], Any]) -> Any:
        sock = connection.sock
        with watched(sock, limits.stall) as watch:
            try:
                response = ask()
            except (
                Exception
            ):  # what a socket that was shut from here raises depends on what lies in it unread
                if watch.expired:
                    raise _too_slow(f"http://{connection.host}", limits.stall) from None
                raise
        if watch.expired:
            response.close()
            raise _too_slow(f"http://{connection.host}", limits.stall)
        response.own_socket = sock
        return response

    class Plain(HTTPConnection):
        def getresponse(self) -> Any:
            return getresponse(self, super().getresponse)

    class Secure(HTTPSConnection):
        def getresponse(self) -> Any:
            return getresponse(self, super().getresponse)

    class PlainPool(HTTPConnectionPool):
        ConnectionCls = Plain

    class SecurePool(HTTPSConnectionPool):
        ConnectionCls = Secure

    return {"http": PlainPool, "https": SecurePool}


def patient_retries(
    retries: int, statuses: tuple[int, ...], limits: Limits, tell: Callable[[str], None]
) -> Any:
    """urllib3's retries, but a server's wish to wait is cut, and told before it is fulfilled."""
    from urllib3.util.retry import Retry

    class Patient(Retry):
        def increment(self, method: Any = None, url: Any = None, *rest: Any, **more: Any) -> Any:
            response = more.get("response")
            location = response.get_redirect_location() if response is not None else None
            if location and url and not may_lead(url, urljoin(url, location)):
                raise RegistryProblem(
                    f"a redirect leads from {host_of(url)} to this machine ({location[:200]}), and is not followed",
                    remedy="Nothing of it was used. Whoever runs that address wants something of this machine.",
                )
            return super().increment(method, url, *rest, **more)

        def get_retry_after(self, response: urllib3.BaseHTTPResponse) -> float | None:
            try:
                wished = super().get_retry_after(response)
            except Exception:  # an unreadable header, of a type that depends on the version
                wished = None
            if wished is None:
                return None
            stated = response.headers.get("Retry-After", "").strip()
            wished = float(stated) if stated.isascii() and stated.isdigit() and len(stated) < 12 else wished
            wait = min(wished, limits.retry_after)
            if wait >= 1:
                cut = f" (it asked for {wished:,.0f} s)" if wished > wait else ""
                tell(f"the registry asks to wait {wait:.0f} s{cut}")
            return wait

    return Patient(
        total=retries,
        redirect=limits.redirects,
        backoff_factor=0.15,
        backoff_max=5,
        status_forcelist=statuses,
        raise_on_status=False,
        respect_retry_after_header=True,
    )


def pieces_of(response: Any, url: str, limits: Limits) -> Iterator[bytes]:
    """The bytes of an archive as they come, as they are. Raises RegistryProblem if they come too slowly or are
    too many, and what urllib3 raises."""
    size, since = 0, 0
    with watched(getattr(response, "own_socket", None), limits.stall) as watch:
        try:
            for piece in response.stream(_PIECE, decode_content=False):
                size += len(piece)
                since += len(piece)
                if since >= limits.stall_bytes:
                    watch.renew()
                    since = 0
                if size > limits.archive:
                    raise _too_large(url, limits.archive)
                yield piece
        except Exception:
            if watch.expired:
                raise _too_slow(url, limits.stall) from None
            raise
    if watch.expired:
        raise _too_slow(url, limits.stall)


def read_body(response: Any, url: str, limits: Limits, largest: int) -> bytes:
    """The whole body, inflated. Raises RegistryProblem for one that is too large, too slow, or packed in a way
    that was not asked for; and what urllib3 raises."""
    coding = response.headers.get("Content-Encoding", "").strip().lower()
    if coding not in ("", "identity", "gzip", "x-gzip", "deflate"):
        raise RegistryProblem(
            f"{url} answered in the coding {coding[:60]!r}, which was not asked for",
            remedy="The server, or a proxy before it, is broken.",
        )
    inflate = zlib.decompressobj(47) if coding not in ("", "identity") else None
    pieces, size = [], 0
    with watched(getattr(response, "own_socket", None), limits.seconds) as watch:
        try:
            for piece in response.stream(_PIECE, decode_content=False):
                data = inflate.decompress(piece, largest + 1 - size) if inflate else piece
                size += len(data)
                if size > largest:
                    raise _too_large(url, largest)
                pieces.append(data)
        except zlib.error as error:
            raise RegistryProblem(f"{url} answered with damaged data: {error}") from error
        except Exception:
            if watch.expired:
                raise _too_slow(url, limits.seconds) from None
            raise
    if watch.expired:
        raise _too_slow(url, limits.seconds)
    return b"".join(pieces)


def _too_large(url: str, largest: int) -> RegistryProblem:
    return RegistryProblem(
        f"{url} answered with more than {largest / 1024**2:,.0f} MiB, which is more than is taken",
        remedy="Check the address. Nothing of it is kept.",
    )


def _too_slow(url: str, seconds: float) -> RegistryProblem:
    return RegistryProblem(
        f"{url} answered too slowly: it was given up after {seconds:.0f} s",
        remedy="Check the network and the proxy, and run the same command again.",
    )
