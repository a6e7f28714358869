"""Where Node packages come from: the user's standard configuration of the Node package client.

Environment variables ``npm_config_*`` (in either case), then the rc files of the user and the machine;
``${NAME}`` in them stands for a variable. Of the project's own rc files only the addresses of registries are used
(``registry`` and ``@scope:registry``): variables are put into them, and logins that they carry are used, for the
hosts that the person allowed. Where no registry is set, the client that the runtime bundles is asked for its
default, once, and the answer is remembered. Tokens are sent to the address that they are set for, and shown
nowhere.
"""

from __future__ import annotations

import base64
import re
import subprocess
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct, field

from plainfall.ecosystems.node.runtime.interpreters import node_interpreters
from plainfall.errors import BadInput, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.answers import limits_for
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import Connection
from plainfall.packages.consent import VARIABLE, Withheld, expanded, host_in
from plainfall.packages.logins import host_of
from plainfall.plain_files import plain_text
from plainfall.processes import run
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

__all__ = ["Registries", "project_withholds", "read_registries"]

_LARGEST = 1 << 20  # bytes of an rc file


class Registries(Struct, frozen=True):
    """The default registry's address, those of scopes (``@scope`` → address), both with a slash at the end,
    how to connect, settings of the project's own files that were refused, and the keys there that count only
    in the user's own files."""

    default: str
    scopes: Mapping[str, str] = field(default_factory=dict)
    connection: Connection = field(default_factory=Connection)
    withheld: tuple[Withheld, ...] = ()
    ignored: tuple[tuple[str, Evidence], ...] = ()

    def of(self, name: str) -> str:
        """The registry for a package name."""
        scope = name.partition("/")[0] if name.startswith("@") else ""
        return self.scopes.get(scope, self.default)


def read_registries(
    surroundings: Surroundings,
    interpreter: Interpreter,
    folders: Sequence[Path],
    hosts: frozenset[str] = frozenset(),
    otherwise: str = "",
) -> Registries:
    """The configuration for a project whose rc files lie in ``folders``, the nearest first; ``hosts`` are those
    that its files may have the person's variables for; ``otherwise`` is the default registry where none is set,
    which gets no login.

    Raises BadInput for a file that cannot be read, RegistryProblem if no registry is set anywhere and the
    interpreter has no client to ask."""
    own = _own_values(surroundings)
    project = _project(surroundings, folders, hosts)
    # The environment wins over files, and the project's files over the user's.
    environment = _environment(surroundings)
    values = {**own, **project.addresses, **environment}
    registry = values.get("registry") or otherwise or _client_default(surroundings, interpreter)
    scopes = {
        key.removesuffix(":registry"): _slashed(value)
        for key, value in values.items()
        if key.startswith("@") and key.endswith(":registry")
    }
    personal = {**own, **environment}
    strict = personal.get("strict-ssl", "true").lower() != "false"
    named = [
        value for key, value in personal.items() if key == "registry" or (key.endswith(":registry") and value)
    ]
    timeout = max(0.1, _number(personal, "fetch-timeout", 30_000) / 1000)
    connection = Connection(
        proxy=personal.get("https-proxy") or personal.get("proxy") or None,
        certificates=personal.get("cafile") or None,
        trusted_hosts=frozenset() if strict else frozenset(host_of(address) for address in named),
        timeout=timeout,
        limits=limits_for(timeout),
        retries=int(_number(personal, "fetch-retries", 3)),
        logins={} if otherwise else {**_logins(project.logins), **_logins(personal)},
        plain_hosts=frozenset(host_of(address) for address in named if address.startswith("http://")),
    )
    return Registries(_slashed(registry), scopes, connection, project.withheld, project.ignored)


def project_withholds(
    surroundings: Surroundings, folders: Sequence[Path], hosts: frozenset[str]
) -> tuple[Withheld, ...]:
    """Settings of the project's rc files that need the user's permission for a host, and have none. Raises
    BadInput."""
    return _project(surroundings, folders, hosts).withheld


class _Project(Struct):
    """The settings of the project's rc files."""

    addresses: dict[str, str] = field(default_factory=dict)
    logins: dict[str, str] = field(default_factory=dict)
    withheld: tuple[Withheld, ...] = ()
    ignored: tuple[tuple[str, Evidence], ...] = ()


def _project(surroundings: Surroundings, folders: Sequence[Path], hosts: frozenset[str]) -> _Project:
    result = _Project()
    variables = surroundings.variables
    for folder in reversed(folders):
        for key, value, place in _rows(folder / ".npmrc"):
            names = tuple(dict.fromkeys(VARIABLE.findall(value)))
            address = key == "registry" or (key.startswith("@") and key.endswith(":registry"))
            host = host_in(value if address else key)
            if address and re.match(r"https?://", value) and (not names or host in hosts):
                result.addresses[key] = expanded(value, variables)
            elif address and names and host:
                result.withheld += (Withheld(host, names, place),)
            elif key.startswith("//") and host in hosts:
                result.logins[key] = expanded(value, variables)
            elif key.startswith("//") and host:
                result.withheld += (Withheld(host, names, place),)
            else:
                result.ignored += ((key, place),)
    return result


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
            try:
                password = base64.b64decode(value + "==").decode("utf-8", "replace")
            except ValueError:
                continue  # what is no base64 is no password
            pair = base64.b64encode(f"{user}:{password}".encode()).decode()
            logins.setdefault(place, f"Basic {pair}")
    return logins


def _own_values(surroundings: Surroundings) -> dict[str, str]:
    """The settings of the user's files and the machine's."""
    variables = {name.lower(): value for name, value in surroundings.variables.items()}
    values: dict[str, str] = {}
    for path in (
        Path(variables.get("npm_config_globalconfig") or "/etc/npmrc"),
        Path(variables.get("npm_config_userconfig") or surroundings.home / ".npmrc"),
    ):
        for key, value, _ in _rows(path):
            values[key] = expanded(value, surroundings.variables)
    return values


def _environment(surroundings: Surroundings) -> dict[str, str]:
    values = {}
    for name, value in surroundings.variables.items():
        if name.lower().startswith("npm_config_") and value:
            option = name[len("npm_config_") :]
            option = option if option.startswith(("//", "@")) else option.lower().replace("_", "-")
            values[option] = value
    return values


def _rows(path: Path) -> Iterator[tuple[str, str, Evidence]]:
    """The options of an rc file in order; none if it does not exist. Raises BadInput."""
    if not path.is_file():
        return
    try:
        if path.stat().st_size > _LARGEST:
            raise BadInput(
                "it is larger than 1 MiB, too large for what it should be", place=Evidence(str(path))
            )
        text = plain_text(path, "utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"cannot be read: {error}", place=Evidence(str(path))) from error
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        if not stripped or stripped[0] in "#;[":
            continue
        key, joined, value = stripped.partition("=")
        if joined:
            yield key.strip(), value.strip().strip("\"'"), Evidence(str(path), number)


def _client_default(surroundings: Surroundings, interpreter: Interpreter) -> str:
    cache = PackageCache(surroundings.cache)
    key = CacheKey.of_machine("registries", "node", interpreter.identity)
    remembered = cache.recall(key)
    if isinstance(remembered, str):
        return remembered
    text = ""
    # A runtime that was fetched has no client of its own: that of any other one here knows a registry, too.
    for one in (interpreter, *node_interpreters(surroundings)):
        client = one.facts.get("client") if isinstance(one, Interpreter) else None
        if not client or not isinstance(one, Interpreter):
            continue
        command = [str(one.file), f"{client}/bin/npm-cli.js", "config", "get", "registry"]
        environment = {**surroundings.for_project(), "npm_config_userconfig": "/dev/null"}
        try:
            text = run(command, environment, seconds=60).output.strip()
        except (OSError, subprocess.TimeoutExpired):
            continue  # the next one may work
        if re.match(r"https?://\S+$", text):
            break
    if not re.match(r"https?://\S+$", text):
        raise RegistryProblem(
            f"no package registry is configured, and neither {interpreter.path} nor another Node here has a "
            "client that could name one",
            remedy="Write registry=ADDRESS into ~/.npmrc, or set npm_config_registry.",
        )
    cache.remember(key, text)
    return text
