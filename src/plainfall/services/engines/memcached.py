"""A private memcached, which keeps nothing."""

from __future__ import annotations

import signal
import socket
from collections.abc import Sequence
from pathlib import Path

from plainfall.services.engine import Account, Place, Program, Reach, WithoutCopies, found_programs

__all__ = ["ENGINE"]


class _Memcached(WithoutCopies):
    kind = "memcached"
    title = "memcached"
    stop_signal = int(signal.SIGTERM)
    restarts_for_accounts = False
    leaves_root = True

    def programs(self, path: Sequence[str]) -> list[Program]:
        """It may stand in an administrator's folder."""
        hidden = ("/usr/sbin", "/usr/local/bin", "/opt/homebrew/bin")
        return found_programs(("memcached",), path, hidden, "--version", r"memcached (\d+(?:\.\d+)*)")

    def made_by(self, data: Path) -> str:
        """It keeps none."""
        return ""

    def make(self, program: Program, place: Place) -> None:
        """It needs nothing."""

    def words(self, program: Program, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """No UDP, 32 MB."""
        return [str(program.path), "-l", "127.0.0.1", "-p", str(port), "-U", "0", "-m", "32"]

    def is_ready(self, place: Place, port: int, pid: int) -> bool:
        """It tells its version."""
        return _version("127.0.0.1", port) != ""

    def admit(self, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """It has neither roles nor databases."""
        return []

    def make_database(self, host: str, port: int, account: Account) -> None:
        """There is none to make."""

    def reach(self, host: str, port: int, account: Account) -> Reach:
        """Whatever it holds is a cache's, which may go at any time."""
        return Reach("empty" if _version(host, port) else "silent")


def _version(host: str, port: int) -> str:
    try:
        with socket.create_connection((host, port), timeout=1.0) as opened:
            opened.sendall(b"version\r\n")
            answer = opened.recv(200).decode("utf-8", "replace")
            return answer if answer.startswith("VERSION") else ""
    except OSError:
        return ""


ENGINE = _Memcached()
