"""How registries of Ruby's packages are reached: addresses and logins of the user's own configuration.

Read are ``config`` of the user's folder of the package client and its variables (``BUNDLE_…``). A ``.bundle``
folder that a clone carries counts for nothing. A login is sent to the host that it is written for, and nowhere
else."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from pathlib import Path
from urllib.parse import unquote

from plainfall.packages.client import Connection
from plainfall.packages.logins import host_of
from plainfall.patterns import regex
from plainfall.surroundings import Surroundings

__all__ = ["mirrors_of", "user_connection"]

_LINE = regex(r"(BUNDLE_[A-Z0-9_:/.-]{1,300}): \"?([^\"\n]*?)\"?")
_MIRROR = "BUNDLE_MIRROR__"


def _settings(surroundings: Surroundings) -> Mapping[str, str]:
    """The settings by their names as variables; the environment's go over the file's."""
    variables, home = surroundings.variables, surroundings.home
    named = variables.get("BUNDLE_USER_CONFIG")
    folder = Path(variables.get("BUNDLE_USER_HOME") or home / ".bundle")
    file = Path(named) if named else folder / "config"
    found: dict[str, str] = {}
    if file.is_file():
        for line in file.read_text("utf-8", "replace").splitlines():
            match = _LINE.fullmatch(line.strip())
            if match:
                found[match.group(1)] = match.group(2)
    return {**found, **{key: value for key, value in variables.items() if key.startswith("BUNDLE_")}}


def user_connection(surroundings: Surroundings) -> Connection:
    """The connection with the user's logins."""
    logins: dict[str, str] = {}
    plain: set[str] = set()
    for key, value in _settings(surroundings).items():
        host = _host(key.removeprefix("BUNDLE_"))
        if key.startswith(_MIRROR):
            plain |= {host_of(value)} if value.startswith("http://") else set()
        elif "." in host and value and not value.startswith(("http://", "https://", "/")):
            pair = unquote(value) if ":" in value else f"{value}:"
            logins[f"//{host}/"] = f"Basic {base64.b64encode(pair.encode()).decode()}"
    return Connection(logins=logins, plain_hosts=frozenset(plain))


def mirrors_of(surroundings: Surroundings) -> dict[str, str]:
    """Registries that the user has put in the place of others: address → address, each with one slash behind."""
    found = {}
    for key, value in _settings(surroundings).items():
        if key.startswith(_MIRROR) and value.startswith(("http://", "https://")):
            named = key.removeprefix(_MIRROR)
            scheme, _, rest = named.partition("://")
            match = re.match(r"HTTPS?", named)
            if not rest and match:
                scheme, rest = match.group(), named[match.end() :].lstrip(":/_")
            address = f"{scheme.lower()}://{_host(rest.rstrip('/_'))}/"
            found[address] = f"{value.rstrip('/')}/"
    return found


def _host(name: str) -> str:
    """The host that a setting's name stands for."""
    return name.replace("___", "-").replace("__", ".").lower().strip("/")
