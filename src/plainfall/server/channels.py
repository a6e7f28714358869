"""The channel on which a dev server tells a page that something changed: whether it is answered, and watched.

A WebSocket (RFC 6455) by wsproto; no more than the handshake and the next text message are needed.
"""

from __future__ import annotations

import socket
import ssl
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from plainfall.server.reload_channel import Channel, ChannelFinder
from plainfall.server.visitor import LOOPBACK, Visitor, connected_to

if TYPE_CHECKING:
    from wsproto import WSConnection

__all__ = ["Listening", "find_channel", "open_channel"]

_LONGEST_ANSWER = 16_384  # bytes of a handshake


def find_channel(
    base: str, body: str, assets: tuple[str, ...], visitor: Visitor, finders: Sequence[ChannelFinder]
) -> Channel | None:
    """The reload channel that a page opens, told from what it loads; None if it opens none that is known."""
    paths = [urlsplit(asset).path for asset in assets]
    result = (finder(paths, body, lambda path: _text(visitor, base.rstrip("/") + path)) for finder in finders)
    return next((one for one in result if one is not None), None)


def _text(visitor: Visitor, url: str) -> str:
    try:
        return visitor.get(url).body.decode("utf-8", "replace")
    except OSError:
        return ""


class Listening:
    """An open channel. ``heard`` waits for the next text."""

    def __init__(self, transport: socket.socket, connection: WSConnection) -> None:
        self._transport = transport
        self._connection = connection

    def heard(self, seconds: float) -> str | None:
        """The next text message, or its beginning; None if none comes in time."""
        from wsproto.events import CloseConnection, Ping, TextMessage
        from wsproto.utilities import RemoteProtocolError

        deadline = time.monotonic() + seconds
        try:
            while (left := deadline - time.monotonic()) > 0:
                for event in self._connection.events():
                    if isinstance(event, TextMessage):
                        return str(event.data)
                    if isinstance(event, Ping):
                        self._transport.sendall(self._connection.send(event.response()))
                    elif isinstance(event, CloseConnection):
                        return None
                self._transport.settimeout(left)
                data = self._transport.recv(4096)
                if not data:
                    return None
                self._connection.receive_data(data)
        except (OSError, RemoteProtocolError):
            return None
        return None

    def close(self) -> None:
        """Hangs up."""
        self._transport.close()


def open_channel(base: str, channel: Channel, timeout: float = 5.0) -> Listening | None:
    """Opens a channel; None if the server does not accept the handshake."""
    from wsproto import ConnectionType, WSConnection
    from wsproto.events import AcceptConnection, RejectConnection, Request
    from wsproto.utilities import RemoteProtocolError

    parts = urlsplit(base)
    host = parts.hostname or ""
    origin = f"{parts.scheme}://{parts.netloc}"
    protocols = [channel.protocol] if channel.protocol else []
    connection = WSConnection(ConnectionType.CLIENT)
    asked = Request(
        host=parts.netloc,
        target=channel.path,
        subprotocols=protocols,
        extra_headers=[(b"Origin", origin.encode())],
    )
    transport: socket.socket | None = None
    try:
        transport = connected_to((host, parts.port or (443 if parts.scheme == "https" else 80)), timeout)
        if parts.scheme == "https":
            context = ssl.create_default_context()
            if host in LOOPBACK:
                context.check_hostname = False
                context.verify_mode = ssl.CERT_NONE
            transport = context.wrap_socket(transport, server_hostname=host)
        transport.sendall(connection.send(asked))
        answered: object = None
        read = 0
        while answered is None and read < _LONGEST_ANSWER:
            data = transport.recv(4096)
            read += len(data)
            if not data:
                break
            connection.receive_data(data)
            kinds = (AcceptConnection, RejectConnection)
            answered = next((one for one in connection.events() if isinstance(one, kinds)), None)
    except (OSError, RemoteProtocolError):
        answered = None
    if isinstance(answered, AcceptConnection) and transport is not None:
        return Listening(transport, connection)
    if transport is not None:
        transport.close()
    return None
