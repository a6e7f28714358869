"""The channel on which a dev server tells a page that something changed: whether it is answered, and watched.

A WebSocket handshake (RFC 6455) of our own, since no more than the handshake and the next text frame is
wanted.
"""

from __future__ import annotations

import base64
import hashlib
import os
import socket
import ssl
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from plainfall.server.visitor import LOOPBACK, Visitor

__all__ = ["Channel", "ChannelFinder", "Listening", "find_channel", "open_channel"]

_MAGIC = "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"


@dataclass(frozen=True)
class Channel:
    """Where a page would listen for changes: path, protocol ("" for none), and whose it is."""

    path: str
    protocol: str
    title: str


# Given the paths of what a page loads, its text, and what fetches another path's text.
ChannelFinder = Callable[[list[str], str, Callable[[str], str]], Channel | None]


def find_channel(
    base: str, body: str, assets: tuple[str, ...], visitor: Visitor, finders: Sequence[ChannelFinder]
) -> Channel | None:
    """The reload channel that a page opens, told from what it loads; None if it opens none that is known."""
    paths = [urlsplit(asset).path for asset in assets]
    found = (finder(paths, body, lambda path: _text(visitor, base.rstrip("/") + path)) for finder in finders)
    return next((one for one in found if one is not None), None)


def _text(visitor: Visitor, url: str) -> str:
    try:
        return visitor.get(url).body.decode("utf-8", "replace")
    except OSError:
        return ""


class Listening:
    """An open channel. ``heard`` waits for the next frame."""

    def __init__(self, transport: socket.socket) -> None:
        self._transport = transport

    def heard(self, seconds: float) -> str | None:
        """The beginning of the next text frame's content, None if none comes in time."""
        self._transport.settimeout(seconds)
        try:
            data = self._transport.recv(4096)
        except OSError:
            return None
        if len(data) < 2 or data[0] & 0x0F != 1:
            return None
        start = {126: 4, 127: 10}.get(data[1] & 0x7F, 2)
        return data[start:].decode("utf-8", "replace")

    def close(self) -> None:
        """Hangs up."""
        self._transport.close()


def open_channel(base: str, channel: Channel, timeout: float = 5.0) -> Listening | None:
    """Opens a channel; None if the server does not answer the handshake with status 101 and the right key."""
    parts = urlsplit(base)
    host = parts.hostname or ""
    key = base64.b64encode(os.urandom(16)).decode()
    wanted = base64.b64encode(hashlib.sha1(f"{key}{_MAGIC}".encode()).digest()).decode()
    lines = [
        f"GET {channel.path} HTTP/1.1",
        f"Host: {parts.netloc}",
        "Upgrade: websocket",
        "Connection: Upgrade",
        f"Sec-WebSocket-Key: {key}",
        "Sec-WebSocket-Version: 13",
        f"Origin: {parts.scheme}://{parts.netloc}",
    ]
    lines += [f"Sec-WebSocket-Protocol: {channel.protocol}"] if channel.protocol else []
    transport: socket.socket | None = None
    try:
        transport = socket.create_connection((host, parts.port or 80), timeout)
        if parts.scheme == "https" and host in LOOPBACK:
            context = ssl.create_default_context()
            context.check_hostname = False
            context.verify_mode = ssl.CERT_NONE
            transport = context.wrap_socket(transport)
        transport.sendall(("\r\n".join(lines) + "\r\n\r\n").encode())
        head = b""
        while b"\r\n\r\n" not in head and len(head) < 16_384:
            piece = transport.recv(1)
            if not piece:
                break
            head += piece
    except OSError:
        if transport is not None:
            transport.close()
        return None
    answered = head.startswith((b"HTTP/1.1 101", b"HTTP/1.0 101")) and wanted.encode() in head
    if not answered:
        transport.close()
        return None
    return Listening(transport)
