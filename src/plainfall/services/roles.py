"""What a setting's key is to a service, by the words in it."""

from __future__ import annotations

import re

from msgspec import Struct

from plainfall.formats.values import plain_key
from plainfall.patterns import regex
from plainfall.services.shape import kind_named, kinds

__all__ = ["Role", "role_of"]


def _by_word() -> dict[str, tuple[str, ...]]:
    """Words in keys, each with the kinds of service that it may mean, the likeliest first."""
    ranked: dict[str, list[tuple[int, str]]] = {}
    for kind in kinds():
        for word, rank in kind.key_words.items():
            ranked.setdefault(word, []).append((rank, kind.name))
    return {word: tuple(name for _, name in sorted(rows)) for word, rows in ranked.items()}


_KINDS = _by_word()
_PIECES = {
    "host": "HOST HOSTNAME SERVER",
    "port": "PORT",
    "user": "USER USERNAME USR LOGIN",
    "password": "PASSWORD PASSWD PASS PWD",
    "name": "NAME DATABASE DB DBNAME DATABASE_NAME DB_NAME",
    "address": "URL URI DSN ADDRESS ADDR CONNECTION_STRING CONNECTION_STR CONN_STRING CONN_STR BACKEND "
    "CONNECTION_URL",
}
_PIECE_WORDS = sorted((word for words in _PIECES.values() for word in words.split()), key=len, reverse=True)
_ROLE = regex(
    rf"^(?:.*_)?(?P<service>{'|'.join(sorted(_KINDS, key=len, reverse=True))})_?"
    rf"(?P<piece>{'|'.join(_PIECE_WORDS)})$"
)
_BARE_ADDRESS = regex(r"^(?:.*_)?(?P<service>DATABASE|REDIS|MONGO|MONGODB|RABBITMQ)$")


class Role(Struct, frozen=True):
    """What a key is to a service: the kinds of service that it may be about, and the piece ("host", "port",
    "user", "password", "name", "address")."""

    kinds: tuple[str, ...]
    piece: str


def role_of(key: str) -> Role | None:
    """What a key of any kind of file is to a service; None if its name tells of none."""
    name = re.sub(r"^(DEFAULT|DEVELOPMENT|DEV)_", "", plain_key(key)).replace("SQL_ALCHEMY", "SQLALCHEMY")
    name = re.sub(
        r"(?<=SQLALCHEMY)_CONN(ECTION)?$", "_URL", name
    )  # of other names DB_CONNECTION is a driver's
    match = _ROLE.match(name)
    if not match:
        bare = _BARE_ADDRESS.match(name) if "." not in key else None
        return Role(_KINDS[bare.group("service")], "address") if bare else None
    piece = next(piece for piece, words in _PIECES.items() if match.group("piece") in words.split())
    meant = tuple(one for one in _KINDS[match.group("service")] if not _is_about_else(one, name))
    if any(pattern and re.search(pattern, name) for pattern in (kind_named(one).host_keys for one in meant)):
        piece = "host"
    return Role(meant, piece) if meant else None


def _is_about_else(kind: str, name: str) -> bool:
    pattern = kind_named(kind).not_keys
    return bool(pattern) and re.search(pattern, name) is not None
