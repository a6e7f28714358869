"""A private MQTT broker (MQTT 3.1.1)."""

from __future__ import annotations

import signal
import socket
from collections.abc import Sequence
from pathlib import Path

from plainfall.services.engine import Account, Place, Program, Reach, WithoutCopies, found_programs

__all__ = ["ENGINE"]

_CONFIGURATION = "private.conf"
# CONNECT, for a clean session of "plainfall"; a broker answers CONNACK (3.1, 3.2).
_CONNECT = b"\x10\x15\x00\x04MQTT\x04\x02\x00\x0a\x00\x09plainfall"


class _Mqtt(WithoutCopies):
    """Anybody on this machine comes in, with whatever name and password the clone has."""

    kind = "mqtt"
    title = "MQTT broker"
    stop_signal = int(signal.SIGTERM)
    restarts_for_accounts = False
    leaves_root = True

    def programs(self, path: Sequence[str]) -> list[Program]:
        """It may stand in an administrator's folder."""
        hidden = ("/usr/sbin", "/usr/local/sbin", "/opt/homebrew/sbin")
        return found_programs(("mosquitto",), path, hidden, "-h", r"mosquitto version (\d+(?:\.\d+)*)")

    def made_by(self, data: Path) -> str:
        """What it keeps are messages for those who are away."""
        return ""

    def make(self, program: Program, place: Place) -> None:
        """It needs nothing but the folder."""

    def words(self, program: Program, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """A file says all: nothing of the system's configuration is read."""
        rows = [
            f"listener {port} 127.0.0.1",
            "allow_anonymous true",
            "persistence true",
            f"persistence_location {place.data}/",
            "log_dest stderr",
        ]
        file = place.write(_CONFIGURATION, "\n".join([*rows, ""]))
        return [str(program.path), "-c", str(file)]

    def is_ready(self, place: Place, port: int, pid: int) -> bool:
        """It lets somebody in."""
        return _answers("127.0.0.1", port)

    def admit(self, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """Anybody comes in."""
        return []

    def make_database(self, host: str, port: int, account: Account) -> None:
        """There is none to make."""

    def reach(self, host: str, port: int, account: Account) -> Reach:
        """Whose messages another one passes on cannot be told."""
        return Reach("other", "a broker of somebody's") if _answers(host, port) else Reach("silent")


def _answers(host: str, port: int) -> bool:
    try:
        with socket.create_connection((host, port), timeout=1.0) as opened:
            opened.sendall(_CONNECT)
            return opened.recv(4)[:1] == b"\x20"
    except OSError:
        return False


ENGINE = _Mqtt()
