"""A private Redis, or one of the servers that speak its protocol."""

from __future__ import annotations

import signal
import socket
from collections.abc import Sequence
from pathlib import Path

from plainfall.services.engine import Account, Place, Program, Reach, WithoutCopies, found_programs

__all__ = ["ENGINE"]

_CONFIGURATION = "private.conf"


class _Redis(WithoutCopies):
    """What it holds outlives a kill: every write goes to its log of commands."""

    kind = "redis"
    title = "Redis"
    stop_signal = int(signal.SIGTERM)
    restarts_for_accounts = True
    leaves_root = True

    def programs(self, path: Sequence[str]) -> list[Program]:
        """Its forks have names of their own."""
        hidden = ("/opt/homebrew/bin", "/usr/local/bin", "/usr/sbin")
        return found_programs(
            ("redis-server", "valkey-server", "keydb-server"), path, hidden, "--version", r"v=(\d+(?:\.\d+)*)"
        )

    def made_by(self, data: Path) -> str:
        """Newer ones read what older ones wrote, and say so themselves where they do not."""
        return ""

    def make(self, program: Program, place: Place) -> None:
        """It needs nothing but the folder."""

    def words(self, program: Program, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """A password stands in a file, which other users cannot read as they can a command line."""
        password = next((one.password for one in accounts if one.password), "")
        rows = ["bind 127.0.0.1", f"port {port}", "appendonly yes", 'save ""', "daemonize no"]
        rows += [f"dir {_quoted(str(place.data))}"]
        rows += [f"requirepass {_quoted(password)}"] if password else []
        file = place.write(_CONFIGURATION, "\n".join([*rows, ""]))
        return [str(program.path), str(file)]

    def is_ready(self, place: Place, port: int, pid: int) -> bool:
        """It answers, if only that it wants a password."""
        return any(one.startswith(("+PONG", "-NOAUTH")) for one in _asked("127.0.0.1", port, ["PING"]))

    def admit(self, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """It has neither roles nor databases to make."""
        return []

    def make_database(self, host: str, port: int, account: Account) -> None:
        """There is none to make."""

    def reach(self, host: str, port: int, account: Account) -> Reach:
        """What is in the numbered database that is meant."""
        login = [["AUTH", account.password]] if account.password else []
        number = account.database if account.database.isdigit() else "0"
        rows = _asked(host, port, *login, ["SELECT", number], ["DBSIZE"])
        if not rows:
            return Reach("silent")
        if any(not row.startswith(("+OK", ":")) for row in rows):
            return Reach("other", rows[0][:80])
        count = int(rows[-1][1:] or 0) if rows[-1].startswith(":") else 0
        return Reach("filled", f"{count:,} keys") if count else Reach("empty")


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n") + '"'


def _asked(host: str, port: int, *commands: Sequence[str]) -> list[str]:
    """The one line that each command answers (the serialisation protocol, version 2: words with their lengths, so
    that none can be taken for another command); none where nothing answers within a second."""
    data = b""
    for words in commands:
        data += f"*{len(words)}\r\n".encode()
        for word in words:
            data += f"${len(word.encode())}\r\n".encode() + word.encode() + b"\r\n"
    try:
        with socket.create_connection((host, port), timeout=1.0) as opened:
            opened.sendall(data)
            answer = b""
            while answer.count(b"\r\n") < len(commands) and (piece := opened.recv(4096)):
                answer += piece
            return answer.decode("utf-8", "replace").splitlines()
    except OSError:
        return []


ENGINE = _Redis()
