"""Addresses of servers that stand in source files, whatever the language: those of databases, caches and
brokers."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.sources.values import Constant

__all__ = ["MAY_STAND", "service_addresses"]

# Where such an address may stand, in the bytes of a file.
MAY_STAND = regex(
    rb"(?:postgres\w*|mysql\w*|mariadb\w*|rediss?|valkeys?|memcached?|mongodb|amqps?|mqtts?)(?:\+\w+)?://|"
    rb"(?:Redis|createClient)\(|django\.\S*backends\.(?:postg|mysql)|smtp_settings"
)
_ADDRESS = regex(
    r"""["'`]((?:postgres\w*|mysql\w*|mariadb\w*|rediss?|valkeys?|memcached?|mongodb|amqps?|mqtts?)(?:\+\w+)?://"""
    r"""[^\s"'`${}<>%()]+)["'`]""",
    re.IGNORECASE,
)
# A client of a cache that is made with nothing goes to this machine and the usual port.
_CLIENT = regex(
    r"(?:(?<![\w.])(?:redis|aioredis|redis\.asyncio)\.(?:Strict)?Redis|\bnew (?:IO)?Redis|(?<![\w.])createClient)"
    r"\(\s*(?:\)|host\s*=\s*[\"'](?:localhost|127\.0\.0\.1)[\"']\s*(?:,\s*port\s*=\s*(\d+))?)"
)
_COMMENT = regex(r"^\s*(#|//|\*|--)")
# The mail server of a Ruby application: a hash, as often as not over several lines.
_MAIL = regex(r"\bsmtp_settings\s*=\s*\{([^{}]{1,800})\}")
_MAIL_HOST = regex(r"\baddress['\"]?\s*(?::|=>)\s*['\"](localhost|127\.0\.0\.1)['\"]")
_MAIL_PORT = regex(r"\bport['\"]?\s*(?::|=>)\s*['\"]?(\d{1,5})\b")


def service_addresses(text: str, path: str) -> Iterator[Constant]:
    """Each address as a constant of the kind "service"; those in comments are left out."""
    if "smtp_settings" in text:
        yield from _mail_addresses(text, path)
    for number, line in enumerate(text.splitlines(), 1):
        if len(line) > 2000 or _COMMENT.match(line):
            continue
        for match in _ADDRESS.finditer(line):
            scheme = match.group(1).partition(":")[0]
            yield Constant("", match.group(1), "service", Evidence(path, number, scheme))  # no password in it
        client = _CLIENT.search(line)
        if client and ("createClient" not in line or "redis" in text):
            address = f"redis://localhost:{client.group(1) or 6379}"
            yield Constant("", address, "service", Evidence(path, number, client.group(0)[:60]))


def _mail_addresses(text: str, path: str) -> Iterator[Constant]:
    plain = "\n".join("" if _COMMENT.match(line) else line for line in text.splitlines())
    for match in _MAIL.finditer(plain):
        host, port = _MAIL_HOST.search(match.group(1)), _MAIL_PORT.search(match.group(1))
        if host is not None and port is not None:
            place = Evidence(path, plain.count("\n", 0, match.start()) + 1, "smtp_settings")
            yield Constant("", f"smtp://{host.group(1)}:{port.group(1)}", "service", place)
