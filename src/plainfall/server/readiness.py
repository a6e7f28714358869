"""Waiting for a server's first real answer: a pause proves nothing, and neither does an open port."""

from __future__ import annotations

import http.client
import socket
import subprocess
import time
from collections.abc import Callable
from dataclasses import dataclass

from plainfall.server.ports import listening_ports
from plainfall.server.probe import ask
from plainfall.server.process import Running, belonging

__all__ = ["Ready", "wait_until_ready"]

_PAUSE = 0.01  # seconds between two tries at the port
_LOOK_AT_SOCKETS = 0.3  # seconds between two looks at all sockets, which cost some 20 ms each


@dataclass(frozen=True)
class Ready:
    """How the wait ended: ``state`` is "answers", "ended" (with the exit status) or "silent"; the port and
    the host that answered; seconds waited."""

    state: str
    port: int = 0
    host: str = "127.0.0.1"
    exit_status: int | None = None
    seconds: float = 0.0


def wait_until_ready(
    running: Running, process: subprocess.Popen[bytes], patience: float, tick: Callable[[float], None]
) -> Ready:
    """Waits up to ``patience`` seconds for an HTTP answer of any status from a port that the server's own
    processes hold. ``tick`` is told the seconds waited. A server that listens elsewhere than on the port
    it was given is found by its sockets."""
    begin = time.monotonic()
    next_look = begin + _LOOK_AT_SOCKETS
    while (waited := time.monotonic() - begin) < patience:
        status = process.poll()
        if status is not None and not belonging(running):
            return Ready("ended", exit_status=status, seconds=waited)
        if _connects(running.port) or time.monotonic() >= next_look:
            next_look = time.monotonic() + _LOOK_AT_SOCKETS
            for port, host in _places(running).items():
                if _answers(host, port, min(2.0, patience)):
                    return Ready("answers", port, host, seconds=time.monotonic() - begin)
        tick(waited)
        time.sleep(_PAUSE)
    return Ready("silent", seconds=patience)


def _places(running: Running) -> dict[int, str]:
    """The ports that the server's processes really hold, the given one first, each with its address."""
    ports = listening_ports(belonging(running))
    order = sorted(ports, key=lambda port: (port != running.port, port))
    return {port: _loopback(ports[port]) for port in order}


def _connects(port: int) -> bool:
    try:
        with socket.create_connection(("127.0.0.1", port), timeout=0.2):
            return True
    except OSError:
        return False


def _loopback(address: str) -> str:
    if address in ("0.0.0.0", "::", ""):
        return "127.0.0.1"
    return address


def _answers(host: str, port: int, timeout: float) -> bool:
    try:
        ask(f"http://{f'[{host}]' if ':' in host else host}:{port}/", timeout)
        return True
    except (OSError, http.client.HTTPException):
        return False
