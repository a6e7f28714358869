"""Which credentials are sent where: each to the host that it is configured for, and never in the clear unless
the person's own configuration names that host without TLS."""

from __future__ import annotations

import base64
import ipaddress
import netrc
import socket
import threading
from collections.abc import Mapping
from pathlib import Path
from urllib.parse import unquote, urlsplit, urlunsplit

from plainfall.errors import RegistryProblem

__all__ = ["Logins", "host_of", "is_loopback", "may_lead", "without_credentials"]


def without_credentials(url: str) -> str:
    """The address as it may be shown: user and password left out."""
    try:
        parts = urlsplit(url)
    except ValueError:
        return "an address that cannot be read"
    if "@" not in parts.netloc:
        return url
    return urlunsplit(parts._replace(netloc=parts.netloc.rpartition("@")[2]))


def host_of(url: str) -> str:
    """An address's host in lower case, "" for none."""
    try:
        return urlsplit(url).hostname or ""
    except ValueError:
        return ""


def is_loopback(host: str) -> bool:
    """Whether a host is this machine, in any of the forms in which clients take an address (RFC 6761,
    inet_aton(3)).

    >>> names = "localhost a.localhost 127.1 2130706433 ::ffff:127.0.0.1 0.0.0.0"
    >>> all(is_loopback(one) for one in names.split())
    True
    >>> any(is_loopback(one) for one in ("registry.example", "10.0.0.1", "localhost.example", ""))
    False
    """
    plain = host.lower().rstrip(".")
    if plain == "localhost" or plain.endswith(".localhost"):
        return True
    try:
        address = ipaddress.ip_address(plain.partition("%")[0])
    except ValueError:
        try:
            address = ipaddress.ip_address(socket.inet_aton(plain))
        except (OSError, ValueError):
            return False
    mapped = getattr(address, "ipv4_mapped", None) or address
    return bool(mapped.is_loopback or mapped.is_unspecified)


def may_lead(origin: str, target: str) -> bool:
    """Whether one address may lead to another: none that is elsewhere leads to this machine, whatever name it has
    there. A name is looked up for that; one that nobody knows leads nowhere."""
    host = host_of(target)
    if is_loopback(host_of(origin)) or host_of(origin) == host:
        return True
    if is_loopback(host):
        return False
    try:
        found = {row[4][0] for row in socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)}
    except (OSError, UnicodeError):
        return True
    return not any(is_loopback(str(one)) for one in found)


class Logins:
    """The Authorization header for an address, if there is one (RFC 7617 and RFC 6750).

    ``headers`` maps the beginning of an address without its scheme (``//host/path/``) to a header;
    ``plain_hosts`` are hosts for which the person's own configuration names an address without TLS.
    """

    def __init__(
        self, headers: Mapping[str, str], plain_hosts: frozenset[str], variables: Mapping[str, str]
    ) -> None:
        self._headers = sorted(headers.items(), key=lambda one: -len(one[0]))
        self._plain_hosts = plain_hosts
        self._variables = variables
        self._netrc: netrc.netrc | None = None
        self._netrc_read = False
        self._lock = threading.Lock()

    def of(self, url: str) -> tuple[str, str | None]:
        """The address without user and password, and the header. Raises RegistryProblem for a netrc file that
        cannot be read."""
        parts = urlsplit(url)
        bare = without_credentials(url)
        if parts.username:
            # Whoever wrote the address wrote these for it.
            return bare, _basic(unquote(parts.username), unquote(parts.password or ""))
        host = parts.hostname or ""
        if parts.scheme != "https" and host not in self._plain_hosts and not is_loopback(host):
            return bare, None
        place = bare.partition(":")[2]
        for start, header in self._headers:
            if place.startswith(start):
                return bare, header
        return bare, self._of_netrc(host)

    def _of_netrc(self, host: str) -> str | None:
        with self._lock:
            if not self._netrc_read:
                self._netrc_read = True
                home = self._variables.get("HOME", "")
                path = self._variables.get("NETRC") or (f"{home}/.netrc" if home else "")
                if path and Path(path).is_file():
                    try:
                        self._netrc = netrc.netrc(path)
                    except (netrc.NetrcParseError, OSError, ValueError) as error:
                        raise RegistryProblem(
                            f"{path} cannot be read: {error}",
                            remedy="Correct the line it names; its logins may be needed for the registry.",
                        ) from error
            # A default entry is for whichever host is asked: it would go to hosts that a clone chose.
            entry = self._netrc.hosts.get(host) if self._netrc else None
        return _basic(entry[0], entry[2]) if entry else None


def _basic(user: str, password: str) -> str:
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()
