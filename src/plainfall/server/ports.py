"""TCP ports on loopback: which are free, who holds the others."""

from __future__ import annotations

import os
import pwd
import re
import socket
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct

from plainfall.patterns import regex

__all__ = [
    "Holder",
    "free_port",
    "holder_of",
    "is_free",
    "is_this_users",
    "listening_ports",
    "port_in",
    "with_port",
]

_LAST = 65_535
_LISTENS = "0A"  # TCP_LISTEN, in hex
_FIRST_PERSON = 1000  # UID_MIN of login.defs(5): accounts below belong to the system
_ENDPOINTS = (("127.0.0.1", socket.AF_INET), ("::1", socket.AF_INET6))
_IN_COMMAND = (
    regex(r"(?P<head>--(?:http-?|server\.)?port[ =])(?P<port>\d{2,5})\b"),
    regex(r"(?P<head>(?:^|\s)-p\s?)(?P<port>\d{2,5})\b"),
)
# An address to listen on, as a word of a command line or as an option's value; what else has a host and a port is
# somebody else's (a database's, a broker's).
_ADDRESS = regex(
    r"(?P<head>(?P<scheme>https?://)?(?:localhost|127\.0\.0\.1|0\.0\.0\.0|\[::1?\]|\*)?:)(?P<port>\d{4,5})(?P<tail>/?)"
)
_LISTENS_BY = regex(
    r"-{1,2}(?:[ablHSu]|bind|bind[-_]addr(?:ess)?|listen|listen[-_]addr(?:ess)?|host|addr(?:ess)?|http|http[-_]addr(?:ess)?|"
    r"socket|http[-_]socket|web|web[-_]addr(?:ess)?|server|serve|endpoint|urls?|tcp)"
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


def is_this_users(port: int) -> bool:
    """Whether what listens on the port belongs to this user, or to an account of the system (as servers that a
    distribution installs do), and not to another person. Nobody listening counts as such."""
    owners = _owners_of_listeners(port)
    # Root's own servers run as nobody.
    unprivileged = pwd.getpwnam("nobody").pw_uid if os.geteuid() == 0 else os.geteuid()
    return all(one == os.geteuid() or one < _FIRST_PERSON or one == unprivileged for one in owners)


def _owners_of_listeners(port: int) -> list[int]:
    """The users whose sockets listen on a port, by the system's own table (proc(5)); where there is none
    (macOS), by the processes that this user may look at."""
    owners: list[int] = []
    for table in ("/proc/net/tcp", "/proc/net/tcp6"):
        try:
            lines = Path(table).read_text("ascii").splitlines()[1:]
        except OSError:
            continue
        for line in lines:
            words = line.split()
            if len(words) > 7 and words[3] == _LISTENS and int(words[1].rpartition(":")[2], 16) == port:
                owners.append(int(words[7]))
    if not Path("/proc/net/tcp").exists():
        holder = holder_of(port)
        return [] if holder is None else [os.geteuid() if holder.pid is not None else -1]
    return owners


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
    """The command line with the literal port that it listens on replaced, and whether it had one.

    >>> with_port("rain serve --store redis://localhost:6379/0 --bind 0.0.0.0:8000", 8123)
    ('rain serve --store redis://localhost:6379/0 --bind 0.0.0.0:8123', True)
    >>> with_port("rain serve --broker localhost:5672", 8123)
    ('rain serve --broker localhost:5672', False)
    >>> with_port("python manage.py runserver 127.0.0.1:8000", 8123)
    ('python manage.py runserver 127.0.0.1:8123', True)
    """
    for pattern in _IN_COMMAND:
        changed, count = pattern.subn(lambda match: f"{match.group('head')}{port}", command, count=1)
        if count:
            return changed, True
    return _with_address(command, port)


def port_in(command: str) -> int:
    """The literal port that a command line says it listens on, 0 for none.

    >>> port_in("rain serve --store redis://localhost:6379/0 --bind 0.0.0.0:8000")
    8000
    >>> port_in("rain serve --store redis://localhost:6379/0")
    0
    """
    changed, has_one = with_port(command, _LAST)
    words = re.findall(r"\d+", command) if has_one else []
    return next(
        (int(word) for word, other in zip(words, re.findall(r"\d+", changed), strict=False) if word != other),
        _LAST if has_one else 0,
    )


def _with_address(command: str, port: int) -> tuple[str, bool]:
    """The command line with the port of the address that it listens on replaced."""
    pieces = re.split(r"(\s+)", command)
    words = [number for number, piece in enumerate(pieces) if piece and not piece.isspace()]
    for place, number in enumerate(words):
        piece = pieces[number]
        before = pieces[words[place - 1]] if place else ""
        option, joined, value = piece.partition("=")
        if not joined:
            option, value = (before if before.startswith("-") and "=" not in before else ""), piece
        match = _ADDRESS.fullmatch(value.strip("'\""))
        if match is None or (option and _LISTENS_BY.fullmatch(option) is None):
            continue
        if match.group("scheme") and not option:
            continue  # a word that opens a page, or waits for one
        changed = value.replace(match.group(0), f"{match.group('head')}{port}{match.group('tail')}")
        pieces[number] = f"{option}={changed}" if joined else changed
        return "".join(pieces), True
    return command, False
