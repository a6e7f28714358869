"""Where packages come from: the user's standard configuration of the Python package client.

Environment variables ``PIP_*``, then the configuration files in their usual places (the last one wins), as
the client's documentation lists them. Where no index is named, the client that the interpreter bundles is
asked for its default, once for each interpreter, and the answer is remembered.
"""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Iterator, Mapping
from pathlib import Path

from msgspec import Struct, field

from plainfall.ecosystems.python.clients.bundled import bundled_client
from plainfall.ecosystems.python.lists.requirements import IndexOptions
from plainfall.errors import BadInput, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.answers import limits_for
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import Connection
from plainfall.packages.logins import host_of
from plainfall.processes import run
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

__all__ = ["Source", "Sources", "read_sources"]

_LISTS = {"extra-index-url", "find-links", "trusted-host", "constraint"}
_TRUE = {"1", "true", "yes", "on", "y", "t"}


class Source(Struct, frozen=True):
    """An index address or a folder or page of archives, and where it is set."""

    address: str
    evidence: Evidence


class Sources(Struct, frozen=True):
    """All that the configuration says: indexes in order, folders or pages of archives, constraint files,
    and how to connect."""

    indexes: tuple[Source, ...] = ()
    links: tuple[Source, ...] = ()
    constraints: tuple[Source, ...] = ()
    connection: Connection = field(default_factory=Connection)

    @property
    def addresses(self) -> list[str]:
        """Where packages come from, in order."""
        return [source.address for source in (*self.links, *self.indexes)]

    def origins(self, clone: Path) -> list[str]:
        """The addresses as they stand in keys of the cache: a folder on this machine is another one for another
        clone."""
        status = os.stat(clone)
        here = f"{os.path.realpath(clone)} {status.st_dev}:{status.st_ino}"
        return [
            one if "://" in one and not one.startswith("file:") else f"{one} of {here}"
            for one in self.addresses
        ]


def read_sources(surroundings: Surroundings, interpreter: Interpreter, options: IndexOptions) -> Sources:
    """The sources for one dependency list: the indexes and folders that it names win over the user's
    configuration; all else (proxies, certificates, trust) is the user's alone.

    Raises BadInput for a configuration file that cannot be read, RegistryProblem if no index is set
    anywhere and the interpreter has no client to ask.
    """
    values = _configured(surroundings)
    extra = [Source(url, place) for url, place in options.extra] or _list(values, "extra-index-url")
    links = [Source(url, place) for url, place in options.links] + _list(values, "find-links")
    trusted = frozenset(source.address for source in _list(values, "trusted-host"))
    own = [values["index-url"][0]] if "index-url" in values else []
    own += [source.address for name in ("extra-index-url", "find-links") for source in _list(values, name)]
    no_index = options.no_index or _single(values, "no-index").lower() in _TRUE
    indexes: list[Source] = []
    if not no_index:
        indexes = [_index(values, options, surroundings, interpreter), *extra]
    timeout = max(0.1, _number(values, "timeout", 15.0))
    connection = Connection(
        proxy=_single(values, "proxy") or None,
        certificates=_single(values, "cert") or None,
        client_certificate=_single(values, "client-cert") or None,
        trusted_hosts=trusted,
        timeout=timeout,
        limits=limits_for(timeout),
        retries=int(_number(values, "retries", 4.0)),
        plain_hosts=frozenset(host_of(address) for address in own if address.startswith("http://")),
    )
    return Sources(tuple(indexes), tuple(links), tuple(_list(values, "constraint")), connection)


def _index(
    values: Mapping[str, tuple[str, Evidence]],
    options: IndexOptions,
    surroundings: Surroundings,
    interpreter: Interpreter,
) -> Source:
    if options.index:
        return Source(*options.index)
    if "index-url" in values:
        return Source(*values["index-url"])
    return Source(_client_default(surroundings, interpreter), Evidence(f"{interpreter.file} -m pip", 0))


def _client_default(surroundings: Surroundings, interpreter: Interpreter) -> str:
    cache = PackageCache(surroundings.cache)
    key = CacheKey.of_machine("registries", "python", interpreter.identity)
    remembered = cache.recall(key)
    if isinstance(remembered, str):
        return remembered
    environment = {**surroundings.for_project(), "COLUMNS": "400", "PIP_CONFIG_FILE": "/dev/null"}
    # The one that is installed beside the interpreter, else the one that it bundles (many systems install none).
    wheel = bundled_client(interpreter.file)
    match = None
    for client in (["-m", "pip"], [f"{wheel}/pip"] if wheel else []):
        command = [str(interpreter.file), "-E", "-s", *client, "install", "--help"]
        try:
            text = run(command, environment, seconds=60).output if client else ""
        except (OSError, subprocess.TimeoutExpired) as error:
            text = str(error)
        match = re.search(r"\(default:?\s+(https?://\S+?)\)", re.sub(r"\s+", " ", text))
        if match:
            break
    if not match:
        raise RegistryProblem(
            f"no package index is configured, and {interpreter.path} has no client that could name one",
            remedy="Set PIP_INDEX_URL, or index-url in the user's pip.conf, to your package index.",
        )
    cache.remember(key, match.group(1))
    return match.group(1)


def _configured(surroundings: Surroundings) -> dict[str, tuple[str, Evidence]]:
    """Every option with its value and place; variables win over files."""
    values: dict[str, tuple[str, Evidence]] = {}
    for path in _files(surroundings):
        values.update(_read(path))
    for name, value in surroundings.variables.items():
        if name.startswith("PIP_") and name != "PIP_CONFIG_FILE" and value:
            option = name[len("PIP_") :].lower().replace("_", "-")
            values[option] = (value, Evidence(f"${name}"))
    return values


def _files(surroundings: Surroundings) -> Iterator[Path]:
    variables, home = surroundings.variables, surroundings.home
    named = variables.get("PIP_CONFIG_FILE")
    if named == "/dev/null":
        return
    folders = variables.get("XDG_CONFIG_DIRS") or "/etc/xdg"
    yield from (Path(folder, "pip", "pip.conf") for folder in reversed(folders.split(":")) if folder)
    yield Path("/etc/pip.conf")
    yield home / ".pip" / "pip.conf"
    yield home / "Library" / "Application Support" / "pip" / "pip.conf"
    yield Path(variables.get("XDG_CONFIG_HOME") or home / ".config", "pip", "pip.conf")
    if named:
        yield Path(named)


def _read(path: Path) -> dict[str, tuple[str, Evidence]]:
    try:
        text = path.read_text("utf-8")
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"cannot be read: {error}", place=Evidence(str(path))) from error
    import configparser  # rarely needed, and slow to import

    parser = configparser.RawConfigParser()
    try:
        parser.read_string(text, str(path))
    except configparser.Error as error:
        line = getattr(error, "lineno", 0) or 0
        raise BadInput(
            f"is no configuration file: {str(error).splitlines()[0]}",
            place=Evidence(str(path), line),
            remedy="Correct this line; the package indexes may be named in this file.",
        ) from error
    values = {}
    for section in ("global", "install"):
        if parser.has_section(section):
            for option, value in parser.items(section):
                line = next(
                    (n for n, row in enumerate(text.splitlines(), 1) if row.strip().startswith(option)), 0
                )
                values[option.replace("_", "-")] = (value.strip(), Evidence(str(path), line))
    return values


def _list(values: Mapping[str, tuple[str, Evidence]], option: str) -> list[Source]:
    if option not in values:
        return []
    value, place = values[option]
    return [Source(address, place) for address in value.split()]


def _single(values: Mapping[str, tuple[str, Evidence]], option: str) -> str:
    return values[option][0] if option in values else ""


def _number(values: Mapping[str, tuple[str, Evidence]], option: str, otherwise: float) -> float:
    text = _single(values, option)
    if not text:
        return otherwise
    try:
        return float(text)
    except ValueError as error:
        raise BadInput(
            f"{option} is {text!r}, which is no number", place=values[option][1], remedy="Write seconds."
        ) from error
