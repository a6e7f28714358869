"""TCP ports on loopback: which are free, who holds the others."""

from __future__ import annotations

import socket
from collections.abc import Iterable

from msgspec import Struct

from plainfall.patterns import regex

__all__ = ["Holder", "free_port", "holder_of", "is_free", "listening_ports", "with_port"]

_LAST = 65_535
_ENDPOINTS = (("127.0.0.1", socket.AF_INET), ("::1", socket.AF_INET6))
_IN_COMMAND = (
    regex(r"(?P<head>--(?:http-?)?port[ =])(?P<port>\d{2,5})\b"),
    regex(r"(?P<head>(?:^|\s)-p\s?)(?P<port>\d{2,5})\b"),
    regex(r"(?P<head>(?:localhost|127\.0\.0\.1|0\.0\.0\.0|\[::1?\])?:)(?P<port>\d{4,5})\b"),
)


class Holder(Struct, frozen=True):
    """A process that listens on a port: its id (None if it belongs to another user), name, command and folder
    ("" where that is not told)."""

    pid: int | None
    name: str
    command: str
    folder: str = ""

    def __str__(self) -> str:
        if self.pid is None:
            return "a process of another user"
        command = self.command.strip()
        text = "" if command in ("", self.name) else f": {command}"
        return f"{self.name} (process {self.pid}{text}{f', in {self.folder}' if self.folder else ''})"


def is_free(port: int) -> bool:
    """Whether a server could listen on the port on IPv4 loopback and, where there is one, on IPv6."""
    for address, family in _ENDPOINTS:
        try:
            with socket.socket(family, socket.SOCK_STREAM) as probe:
                # As servers do: a port whose last connections still time out counts as free.
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                probe.bind((address, port))
                probe.listen(1)
        except OSError:
            if family == socket.AF_INET or _listens(address, port):
                return False
    return True


def _listens(address: str, port: int) -> bool:
    try:
        with socket.create_connection((address, port), timeout=0.3):
            return True
    except OSError:
        return False


def free_port(wanted: int, taken: Iterable[int] = ()) -> int:
    """The wanted port if it is free and not among ``taken``, else the next one that is."""
    avoided = set(taken)
    for port in range(wanted, min(wanted + 200, _LAST)):
        if port not in avoided and is_free(port):
            return port
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def holder_of(port: int) -> Holder | None:
    """Who listens on the port; None if nobody does."""
    import psutil

    for connection in psutil.net_connections(kind="tcp"):
        if connection.status != psutil.CONN_LISTEN or not connection.laddr or connection.laddr.port != port:
            continue
        if connection.pid is None:
            return Holder(None, "", "")
        try:
            process = psutil.Process(connection.pid)
            return Holder(connection.pid, process.name(), " ".join(process.cmdline())[:120], process.cwd())
        except psutil.Error:
            return Holder(connection.pid, "a process", "that has just ended or is another user's")
    return None


def listening_ports(pids: Iterable[int]) -> dict[int, str]:
    """The ports that these processes listen on, with the address of each."""
    import psutil

    ports: dict[int, str] = {}
    for pid in pids:
        try:
            for connection in psutil.Process(pid).net_connections(kind="tcp"):
                if connection.status == psutil.CONN_LISTEN and connection.laddr:
                    ports[connection.laddr.port] = connection.laddr.ip
        except psutil.Error:
            continue  # it ended between the look and this one
    return ports


def with_port(command: str, port: int) -> tuple[str, bool]:
    """The command line with its literal port replaced, and whether it had one."""
    for pattern in _IN_COMMAND:
        changed, count = pattern.subn(lambda match: f"{match.group('head')}{port}", command, count=1)
        if count:
            return changed, True
    return command, False
