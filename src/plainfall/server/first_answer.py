"""A server's first answer: one request is kept open at each port for as long as the answer takes.

A development server compiles when it is first asked, which may take a minute; a request that is dropped and sent
again starts that work anew. So each port has one request under way, in a thread of its own.
"""

from __future__ import annotations

import contextlib
import http.client
import socket
import ssl
from threading import Thread

__all__ = ["FirstAnswer", "accepts", "loopback_of"]


_HUNG_UP = -2


class FirstAnswer:
    """The request that is under way at a port of a loopback address. ``scheme`` is None as long as it waits, then
    "http" or "https", "mute" where what came back is no HTTP, and "" where nothing did (it was hung up on, or
    ``patience`` seconds passed)."""

    def __init__(self, host: str, port: int, patience: float) -> None:
        self.host = host
        self.scheme: str | None = None
        self._port = port
        self._patience = patience
        self._connection: http.client.HTTPConnection | None = None
        self._is_ended = False
        self._thread = Thread(target=self._ask, name=f"first answer of port {port}", daemon=True)
        self._thread.start()

    def end(self) -> None:
        """Hangs up: a server that answers one at a time must not wait for us."""
        self._is_ended = True
        transport = self._connection.sock if self._connection is not None else None
        if transport is not None:
            with contextlib.suppress(OSError):  # it was closed meanwhile
                transport.shutdown(socket.SHUT_RDWR)
        self._thread.join(1.0)

    def _ask(self) -> None:
        """Some servers with certificates answer a plain request, too, to say that it is a bad one."""
        status = self._head(http.client.HTTPConnection(self.host, self._port, timeout=self._patience))
        if status not in (0, 400, _HUNG_UP):
            self.scheme = "http" if status > 0 else ""
            return
        context = ssl.create_default_context()
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
        secure = http.client.HTTPSConnection(
            self.host, self._port, timeout=min(self._patience, 2.0), context=context
        )
        if self._head(secure) > 0:
            self.scheme = "https"
        else:
            self.scheme = {0: "mute", _HUNG_UP: ""}.get(status, "http")

    def _head(self, connection: http.client.HTTPConnection) -> int:
        """The status of an answer whose body is not waited for; 0 if what comes is none, -1 if nothing comes, -2 if
        it is hung up on."""
        self._connection = connection
        try:
            if self._is_ended:
                return -1
            connection.request(
                "GET", "/", headers={"Accept": "text/html,*/*;q=0.8", "User-Agent": "plainfall"}
            )
            transport = connection.sock
            response = connection.getresponse()
            transport.settimeout(0.1)
            with contextlib.suppress(OSError, http.client.HTTPException):
                response.read1(1 << 16)  # hanging up on it sooner would be rude
            return response.status
        except TimeoutError:
            return -1
        except http.client.RemoteDisconnected:
            return _HUNG_UP
        except (OSError, http.client.HTTPException, ValueError, AttributeError):
            return 0  # AttributeError: `end` took its socket away
        finally:
            connection.close()


def accepts(port: int) -> bool:
    """Whether something accepts a connection at the port."""
    try:
        with socket.create_connection(("127.0.0.1", port), timeout=0.2):
            return True
    except OSError:
        return False


def loopback_of(address: str, port: int) -> str:
    """The loopback address by which a socket on an address is reached; one on all IPv6 addresses takes IPv4,
    too, most often."""
    if address in ("0.0.0.0", "") or (address == "::" and accepts(port)):
        return "127.0.0.1"
    return "::1" if address == "::" else address
