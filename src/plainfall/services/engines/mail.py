"""The mail stand-in: a server of ours that keeps what the clone sends, and sends nothing on."""

from __future__ import annotations

import signal
import socket
import sys
from collections.abc import Sequence
from pathlib import Path

from plainfall import __version__
from plainfall.services.engine import Account, Place, Program, Reach, WithoutCopies

__all__ = ["ENGINE"]


class _Mail(WithoutCopies):
    kind = "mail"
    title = "the mail stand-in"
    stop_signal = int(signal.SIGTERM)
    restarts_for_accounts = False
    leaves_root = False  # it is this very program, which another user may not be able to read

    def programs(self, path: Sequence[str]) -> list[Program]:
        """This program's own interpreter."""
        return [Program(Path(sys.executable), __version__)]

    def made_by(self, data: Path) -> str:
        """Messages are messages."""
        return ""

    def make(self, program: Program, place: Place) -> None:
        """It needs nothing but the folder."""

    def words(self, program: Program, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """It lets anybody in: nothing that it has is worth a password on this machine."""
        return [str(program.path), "-P", "-m", "plainfall.standins.mail", str(port), str(place.data)]

    def is_ready(self, place: Place, port: int, pid: int) -> bool:
        """It greets."""
        return _greeting("127.0.0.1", port).startswith("220")

    def admit(self, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """Anybody comes in."""
        return []

    def make_database(self, host: str, port: int, account: Account) -> None:
        """There is none to make."""

    def reach(self, host: str, port: int, account: Account) -> Reach:
        """A mail server that is there already would send the clone's letters to people: it is never used."""
        greeting = _greeting(host, port)
        return Reach("other", "it may send mail on, which no clone may") if greeting else Reach("silent")


def _greeting(host: str, port: int) -> str:
    try:
        with socket.create_connection((host, port), timeout=1.0) as opened:
            return opened.recv(200).decode("utf-8", "replace")
    except OSError:
        return ""


ENGINE = _Mail()
