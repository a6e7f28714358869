"""How package archives are reached: logins of the user's own configuration of the PHP package client.

Read are ``auth.json`` and ``config.json`` of the user's folder and the variable ``COMPOSER_AUTH``. An ``auth.json``
that a clone carries counts for nothing. A login is sent to the host that it is written for, and nowhere else.
"""

from __future__ import annotations

import base64
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from plainfall.ecosystems.php.lists.manifests import mapping
from plainfall.ecosystems.php.resolve.registry import Repository, repositories_of
from plainfall.packages.client import Connection
from plainfall.packages.logins import host_of
from plainfall.reading import foreign_json
from plainfall.surroundings import Surroundings

__all__ = ["user_connection", "user_repositories"]


def user_connection(surroundings: Surroundings) -> Connection:
    """The connection with the user's logins. Raises BadInput for a file of theirs that is no JSON."""
    logins: dict[str, str] = {}
    plain: set[str] = set()
    for document in _documents(surroundings):
        for table in ("http-basic", "bearer", "github-oauth", "gitlab-oauth"):
            for host, value in mapping(document.get(table)).items():
                header = _header(table, value)
                if header:
                    logins[f"//{host.rstrip('/')}/"] = header
        rows = document.get("repositories")
        for row in rows if isinstance(rows, list) else mapping(rows).values():
            address = str(mapping(row).get("url") or "")
            if address.startswith("http://"):
                plain.add(host_of(address))
    return Connection(logins=logins, plain_hosts=frozenset(plain))


def user_repositories(surroundings: Surroundings) -> list[Repository]:
    """The registries that the user's own configuration names. Raises BadInput."""
    return [one for document in _documents(surroundings) for one in repositories_of(document)]


def _header(table: str, value: object) -> str:
    if table == "http-basic":
        row = mapping(value)
        pair = f"{row.get('username', '')}:{row.get('password', '')}"
        return f"Basic {base64.b64encode(pair.encode()).decode()}" if pair != ":" else ""
    text = value if isinstance(value, str) else str(mapping(value).get("token") or "")
    return f"Bearer {text}" if text else ""


def _documents(surroundings: Surroundings) -> Iterator[Mapping[str, Any]]:
    """What the user's own files and variable say, the later ones over the earlier."""
    variables, home = surroundings.variables, surroundings.home
    named = variables.get("COMPOSER_HOME")
    configured = Path(variables.get("XDG_CONFIG_HOME") or home / ".config") / "composer"
    folders = [Path(named)] if named else [home / ".composer", configured]
    for folder in folders:
        for name in ("config.json", "auth.json"):
            file = folder / name
            if file.is_file():
                document = mapping(foreign_json(file.read_bytes(), str(file)))
                yield mapping(document.get("config"))
                yield document
    text = variables.get("COMPOSER_AUTH")
    if text:
        yield mapping(foreign_json(text.encode(), "COMPOSER_AUTH"))
