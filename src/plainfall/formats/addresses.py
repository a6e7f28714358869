"""Addresses with a user, a password and a name in them: taken apart, and put together again."""

from __future__ import annotations

import re
from urllib.parse import quote, unquote

from msgspec import Struct
from msgspec.structs import replace

from plainfall.patterns import regex

__all__ = ["Address", "is_local", "parse_address"]

_ADDRESS = regex(
    r"^(?P<scheme>[A-Za-z][\w+.-]*)://"
    r"(?:(?P<user>[^:@/\s]*)(?::(?P<password>[^@/\s]*))?@)?"
    r"(?P<host>\[[0-9A-Fa-f:.]+\]|[^:/?#\s@]*)(?::(?P<port>\d+))?(?P<rest>[/?#]\S*)?$"
)
_LOCAL = regex(r"^(localhost|127(\.\d+){3}|0\.0\.0\.0|\[?::1?\]?|host\.docker\.internal)$", re.IGNORECASE)


class Address(Struct, frozen=True):
    """RFC 3986's pieces: ``user`` and ``password`` decoded, None where there is none; ``rest`` is path, query
    and fragment as written."""

    scheme: str
    user: str | None
    password: str | None
    host: str
    port: int | None
    rest: str

    @property
    def name(self) -> str:
        """The first piece of the path: a database's name."""
        return (
            unquote(re.split(r"[?#]", self.rest.lstrip("/"), maxsplit=1)[0]) if self.rest[:1] == "/" else ""
        )

    def with_name(self, name: str) -> Address:
        """The same address for another database."""
        tail = self.rest[len(re.split(r"[?#]", self.rest, maxsplit=1)[0]) :]
        return replace(self, rest=f"/{quote(name, safe='')}{tail}")

    def __str__(self) -> str:
        login = ""
        if self.user is not None or self.password is not None:
            login = quote(self.user or "", safe="")
            login += f":{quote(self.password, safe='')}" if self.password is not None else ""
            login += "@"
        port = f":{self.port}" if self.port is not None else ""
        return f"{self.scheme}://{login}{self.host}{port}{self.rest}"


def parse_address(text: str) -> Address | None:
    """The address in a text, or None if the full text is none."""
    match = _ADDRESS.match(text.strip())
    if not match:
        return None
    user, password = match.group("user"), match.group("password")
    return Address(
        match.group("scheme"),
        unquote(user) if user is not None else None,
        unquote(password) if password is not None else None,
        match.group("host"),
        int(match.group("port")) if match.group("port") else None,
        match.group("rest") or "",
    )


def is_local(host: str) -> bool:
    """Whether a host name means this machine."""
    return _LOCAL.match(host) is not None
