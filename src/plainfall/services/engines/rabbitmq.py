"""A private RabbitMQ: its manual's chapters on configuration, definitions and networking."""

from __future__ import annotations

import json
import os
import re
import signal
import socket
from collections.abc import Sequence
from pathlib import Path

from plainfall.patterns import regex
from plainfall.services.engine import Account, Place, Program, Reach, WithoutCopies, is_of_the_machine

__all__ = ["ENGINE"]

_NAME = regex(r"rabbitmq_server-(\d+(?:\.\d+)*)")


class _RabbitMq(WithoutCopies):
    """It runs without its port mapper, which would leave the session and stay: no other node is ever looked for."""

    kind = "rabbitmq"
    title = "RabbitMQ"
    stop_signal = int(signal.SIGTERM)
    restarts_for_accounts = True
    leaves_root = True

    def programs(self, path: Sequence[str]) -> list[Program]:
        """The script in the search path wants a certain user; the one below the libraries does not."""
        patterns = (
            "usr/lib/rabbitmq/lib/rabbitmq_server-*/sbin/rabbitmq-server",
            "opt/rabbitmq_server-*/sbin/rabbitmq-server",
            "opt/homebrew/Cellar/rabbitmq/*/sbin/rabbitmq-server",
        )
        found = []
        for one in (file for pattern in patterns for file in Path("/").glob(pattern)):
            match = _NAME.search(str(one)) or re.search(r"/rabbitmq/(\d+(?:\.\d+)*)/", str(one))
            if match and is_of_the_machine(Path(os.path.realpath(one))):
                found.append(Program(one, match.group(1)))
        return sorted(found, key=lambda one: one.order, reverse=True)

    def made_by(self, data: Path) -> str:
        """Newer ones read what older ones wrote, and say so themselves where they do not."""
        return ""

    def make(self, program: Program, place: Place) -> None:
        """It needs nothing but the folder."""

    def words(self, program: Program, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """Users and their virtual hosts stand in a file of definitions, which it takes in at each start."""
        hosts = sorted({"/", *(one.database for one in accounts if one.database)})
        users = {one.user or "guest": one.password or one.user or "guest" for one in accounts} or {
            "guest": "guest"
        }
        everything = {"configure": ".*", "write": ".*", "read": ".*"}
        definitions = {
            "users": [
                {"name": name, "password": word, "tags": "administrator"} for name, word in users.items()
            ],
            "vhosts": [{"name": host} for host in hosts],
            "permissions": [{"user": name, "vhost": host, **everything} for name in users for host in hosts],
        }
        place.write("definitions.json", json.dumps(definitions))
        rows = [f"listeners.tcp.1 = 127.0.0.1:{port}", f"load_definitions = {place.data}/definitions.json"]
        rows += ["log.console = true", "log.file = false", "loopback_users = none"]
        place.write("rabbitmq.conf", "\n".join([*rows, ""]))
        place.write("enabled_plugins", "[].\n")
        distance = _free()
        mapper = f"-start_epmd false -erl_epmd_port {distance} -kernel inet_dist_use_interface {{127,0,0,1}}"
        variables = {
            "HOME": str(place.data),
            "RABBITMQ_NODENAME": f"plainfall{port}@localhost",
            "RABBITMQ_MNESIA_BASE": str(place.data / "mnesia"),
            "RABBITMQ_LOG_BASE": str(place.data / "log"),
            "RABBITMQ_CONFIG_FILE": str(place.data / "rabbitmq.conf"),
            "RABBITMQ_CONF_ENV_FILE": "/dev/null",
            "RABBITMQ_ADVANCED_CONFIG_FILE": str(place.data / "none.config"),
            "RABBITMQ_ENABLED_PLUGINS_FILE": str(place.data / "enabled_plugins"),
            "RABBITMQ_DIST_PORT": str(distance),
            "RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS": mapper,
        }
        return ["env", *(f"{name}={value}" for name, value in variables.items()), str(program.path)]

    def is_ready(self, place: Place, port: int, pid: int) -> bool:
        """It offers to talk."""
        return _answers("127.0.0.1", port)

    def admit(self, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """It took them in at its start."""
        return [f"user {one.user}" for one in accounts if one.user]

    def make_database(self, host: str, port: int, account: Account) -> None:
        """There is none to make."""

    def reach(self, host: str, port: int, account: Account) -> Reach:
        """Whose messages another one passes on cannot be told."""
        return Reach("other", "a broker of somebody's") if _answers(host, port) else Reach("silent")


def _free() -> int:
    with socket.socket() as opened:
        opened.bind(("127.0.0.1", 0))
        return int(opened.getsockname()[1])


def _answers(host: str, port: int) -> bool:
    """Whether it answers the protocol's header (AMQP 0-9-1, 4.2.2) with a method frame."""
    try:
        with socket.create_connection((host, port), timeout=1.0) as opened:
            opened.sendall(b"AMQP\x00\x00\x09\x01")
            return opened.recv(8)[:1] == b"\x01"
    except OSError:
        return False


ENGINE = _RabbitMq()
