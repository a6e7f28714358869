"""What registries of Ruby's packages offer: the published compact index, a text for each package with a line for
each version (what it needs, the checksum of its archive, which Ruby it is for); else the older one."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from threading import Lock

from msgspec import Struct

from plainfall.ecosystems.ruby.lists.locks import full_name
from plainfall.ecosystems.ruby.resolve.older_index import OlderIndex
from plainfall.ecosystems.ruby.resolve.versions import is_version, requirement
from plainfall.errors import DependencyProblem, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.client import Connection, RegistryClient, without_credentials
from plainfall.patterns import regex

__all__ = ["Offer", "Offers"]

_LARGEST = 64 * 1024**2  # bytes of one package's text
_NAME = regex(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,200}")
_SUM = regex(r"[0-9a-f]{64}")


class Offer(Struct, frozen=True):
    """One version of a package for one system: what it needs, the Ruby and the loader that it is for, the SHA-256
    of its archive ("" if it is not said), and the registry."""

    name: str
    version: str
    system: str
    needs: Mapping[str, str]
    ruby: str
    rubygems: str
    checksum: str
    registry: str

    @property
    def full_name(self) -> str:
        """What its files are called."""
        return full_name(self.name, self.version, self.system)


class Offers:
    """The versions that registries offer, each package asked once; all registries that have it count, the first
    that has it first."""

    def __init__(
        self,
        registries: Sequence[str],
        connection: Connection,
        variables: Mapping[str, str],
        mirrors: Mapping[str, str] | None = None,
    ) -> None:
        self.registries = [_slashed(one) for one in dict.fromkeys(registries)]
        self._mirrors = mirrors or {}
        self.older = False  # whether registries are asked for their older index where they have no other
        self._older: dict[str, OlderIndex] = {}
        self._client = RegistryClient(connection, variables)
        self._pool = ThreadPoolExecutor(8)
        self._asked: dict[tuple[str, str], Future[list[Offer]]] = {}
        self._lock = Lock()

    def close(self) -> None:
        """Closes the connections."""
        self._pool.shutdown(cancel_futures=True)
        self._client.close()

    @property
    def client(self) -> RegistryClient:
        """The connections, for archives."""
        return self._client

    def address_of(self, registry: str) -> str:
        """Where a registry is reached: the user may have put another in its place."""
        return self._mirrors.get(_slashed(registry), _slashed(registry))

    def prefetch(self, names: Sequence[str], registries: Sequence[str] = ()) -> None:
        """Asks for packages meanwhile."""
        with self._lock:
            for name in names:
                for registry in map(_slashed, registries or self.registries):
                    if (registry, name) not in self._asked:
                        self._asked[registry, name] = self._pool.submit(self._versions, registry, name)

    def of(self, name: str, registries: Sequence[str] = ()) -> list[Offer]:
        """Every version of a package, in no order; empty where nobody has it. Raises RegistryProblem."""
        self.prefetch([name], registries)
        for registry in map(_slashed, registries or self.registries):
            found = self._asked[registry, name].result()
            if found:
                return found
        return []

    def _versions(self, registry: str, name: str) -> list[Offer]:
        if not _NAME.fullmatch(name):
            return []
        address = self.address_of(registry)
        if not address.startswith(("https://", "http://")):
            raise DependencyProblem(
                f"the registry {without_credentials(address)[:200]!r} is no web address",
                place=Evidence("Gemfile"),
                remedy='Name it with its scheme, as source "https://registry.example".',
            )
        page = self._client.page(f"{address}info/{name}", largest=_LARGEST)
        if page is None:
            return self._of_older(registry, address, name) if self.older else []
        if page.body.lstrip()[:1] == b"<":
            raise RegistryProblem(
                f"{without_credentials(address)}info/{name} answers with a page, not with a package's versions",
                remedy="Check the registry's address; behind a login, write yours into your own configuration.",
            )
        return [
            offer
            for line in page.body.decode("utf-8", "replace").splitlines()
            if (offer := _offer(name, line, _slashed(registry))) is not None
        ]

    def _of_older(self, registry: str, address: str, name: str) -> list[Offer]:
        with self._lock:
            index = self._older.setdefault(address, OlderIndex(self._client, address))
        return [
            Offer(name, one.version, one.system, one.needs, one.ruby, one.rubygems, "", _slashed(registry))
            for one in index.of(name)
            if all(_NAME.fullmatch(other) and _is_rule(rule) for other, rule in one.needs.items())
            and _is_rule(one.ruby) and _is_rule(one.rubygems)
        ]  # fmt: skip


def _slashed(address: str) -> str:
    return f"{address.rstrip('/')}/"


def _offer(name: str, line: str, registry: str) -> Offer | None:
    """The offer of a line; None for a line that is none."""
    stated, _, rest = line.partition(" ")
    version, _, system = stated.partition("-")
    if not version or not is_version(version) or not re.fullmatch(r"[\w.-]{0,60}", system):
        return None
    needed, _, facts = rest.partition("|")
    needs = {}
    for piece in needed.split(","):
        other, joined, rule = piece.strip().partition(":")
        if joined and _NAME.fullmatch(other) and _is_rule(rule):
            needs[other] = rule.replace("&", ", ")
        elif piece.strip():
            return None  # what it needs cannot be read: it is not offered
    told = {key.strip(): value.strip() for key, _, value in (one.partition(":") for one in facts.split(","))}
    ruby, rubygems = (told.get(key, ">= 0").replace("&", ", ") for key in ("ruby", "rubygems"))
    checksum = told.get("checksum", "")
    return Offer(
        name, version, system or "ruby", needs, ruby if _is_rule(ruby) else ">= 0",
        rubygems if _is_rule(rubygems) else ">= 0", checksum if _SUM.fullmatch(checksum) else "", registry,
    )  # fmt: skip


def _is_rule(text: str) -> bool:
    try:
        requirement(text)
    except ValueError:
        return False
    return True
