"""Where Node packages come from: the user's standard configuration of the Node package client.

Environment variables ``npm_config_*`` (in either case), then the rc files: the project's, the user's, the
machine's; ``${NAME}`` in them stands for a variable. Where no registry is set, the client that the runtime
bundles is asked for its default, once, and the answer is remembered. Tokens are sent to the address that they
are set for, and shown nowhere.
"""

from __future__ import annotations

import base64
import re
import subprocess
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

from plainfall.errors import BadInput, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.cache import PackageCache
from plainfall.packages.client import Connection
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

__all__ = ["Registries", "read_registries"]


@dataclass(frozen=True)
class Registries:
    """The default registry's address, those of scopes (``@scope`` → address), both with a slash at the end,
    and how to connect."""

    default: str
    scopes: Mapping[str, str] = field(default_factory=dict)
    connection: Connection = field(default_factory=Connection)

    def of(self, name: str) -> str:
        """The registry for a package name."""
        scope = name.partition("/")[0] if name.startswith("@") else ""
        return self.scopes.get(scope, self.default)


def read_registries(surroundings: Surroundings, interpreter: Interpreter, folders: list[Path]) -> Registries:
    """The configuration for a project whose rc files lie in ``folders``, the nearest first.

    Raises BadInput for a file that cannot be read, RegistryProblem if no registry is set anywhere and the
    interpreter has no client to ask.
    """
    values = _configured(surroundings, folders)
    registry = values.get("registry") or _client_default(surroundings, interpreter)
    scopes = {
        key.removesuffix(":registry"): _slashed(value)
        for key, value in values.items()
        if key.startswith("@") and key.endswith(":registry")
    }
    strict = values.get("strict-ssl", "true").lower() != "false"
    hosts = {urlsplit(address).hostname or "" for address in (registry, *scopes.values())}
    connection = Connection(
        proxy=values.get("https-proxy") or values.get("proxy") or None,
        certificates=values.get("cafile") or None,
        trusted_hosts=frozenset() if strict else frozenset(hosts),
        timeout=_number(values, "fetch-timeout", 30_000) / 1000,
        retries=int(_number(values, "fetch-retries", 3)),
        logins=_logins(values),
    )
    return Registries(_slashed(registry), scopes, connection)


def _slashed(address: str) -> str:
    return address if address.endswith("/") else f"{address}/"


def _number(values: Mapping[str, str], name: str, default: float) -> float:
    try:
        return float(values.get(name, default))
    except ValueError:
        return default


def _logins(values: Mapping[str, str]) -> dict[str, str]:
    """``//host/path/`` to the Authorization header: tokens, pairs, user and password (RFC 6750, RFC 7617)."""
    logins: dict[str, str] = {}
    for key, value in values.items():
        place, _, what = key.rpartition(":")
        if not place.startswith("//") or not value:
            continue
        place = _slashed(place)
        if what == "_authToken":
            logins[place] = f"Bearer {value}"
        elif what == "_auth":
            logins.setdefault(place, f"Basic {value}")
        elif what == "_password":
            user = values.get(f"{key.rpartition(':')[0]}:username", "")
            password = base64.b64decode(value + "==").decode("utf-8", "replace")
            pair = base64.b64encode(f"{user}:{password}".encode()).decode()
            logins.setdefault(place, f"Basic {pair}")
    return logins


def _configured(surroundings: Surroundings, folders: list[Path]) -> dict[str, str]:
    values: dict[str, str] = {}
    for path in reversed(list(_files(surroundings, folders))):
        values.update(_read(path, surroundings.variables))
    for name, value in surroundings.variables.items():
        if name.lower().startswith("npm_config_") and value:
            option = name[len("npm_config_") :]
            option = option if option.startswith(("//", "@")) else option.lower().replace("_", "-")
            values[option] = value
    return values


def _files(surroundings: Surroundings, folders: list[Path]) -> Iterator[Path]:
    """The rc files, the strongest first."""
    yield from (folder / ".npmrc" for folder in folders)
    variables = {name.lower(): value for name, value in surroundings.variables.items()}
    yield Path(variables.get("npm_config_userconfig") or surroundings.home / ".npmrc")
    yield Path(variables.get("npm_config_globalconfig") or "/etc/npmrc")


def _read(path: Path, variables: Mapping[str, str]) -> dict[str, str]:
    try:
        text = path.read_text("utf-8")
    except (FileNotFoundError, NotADirectoryError):
        return {}
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"cannot be read: {error}", place=Evidence(str(path))) from error
    values = {}
    for line in text.splitlines():
        stripped = line.strip()
        if not stripped or stripped[0] in "#;[":
            continue
        key, joined, value = stripped.partition("=")
        if joined:
            plain = value.strip().strip("\"'")
            values[key.strip()] = re.sub(
                r"\$\{([^}?]+)\??\}", lambda found: variables.get(found.group(1), ""), plain
            )
    return values


def _client_default(surroundings: Surroundings, interpreter: Interpreter) -> str:
    cache = PackageCache(surroundings.cache)
    key = f"node-{interpreter.identity}"
    remembered = cache.recall("registries", key)
    if isinstance(remembered, str):
        return remembered
    client = interpreter.facts.get("client")
    said = ""
    if client:
        command = [str(interpreter.file), f"{client}/bin/npm-cli.js", "config", "get", "registry"]
        environment = {**surroundings.for_project(), "npm_config_userconfig": "/dev/null"}
        try:
            said = subprocess.run(
                command, capture_output=True, text=True, timeout=60, env=environment, check=False, cwd="/"
            ).stdout.strip()
        except (OSError, subprocess.TimeoutExpired):
            said = ""
    if not re.match(r"https?://\S+$", said):
        raise RegistryProblem(
            f"no package registry is configured, and {interpreter.found} has no client that could name one",
            remedy="Write registry=ADDRESS into ~/.npmrc, or set npm_config_registry.",
        )
    cache.remember("registries", key, said)
    return said
