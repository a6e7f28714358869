"""The older index of Ruby's packages: a list of all versions, and a description of each; some registries have no
other."""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator
from threading import Lock
from typing import Any

from msgspec import Struct

from plainfall.ecosystems.ruby.lists.locks import full_name
from plainfall.ecosystems.ruby.resolve.marshal import Foreign, read_marshal
from plainfall.ecosystems.ruby.resolve.versions import is_version
from plainfall.errors import RegistryProblem
from plainfall.packages.client import RegistryClient, without_credentials

__all__ = ["Described", "OlderIndex"]

_LARGEST = 256 << 20  # bytes that a list unpacks to
_DESCRIPTION = 4 << 20
_LISTS = ("specs.4.8.gz", "prerelease_specs.4.8.gz")
_SYSTEM = re.compile(r"[\w.-]{1,60}")
# Where a description's array has its fields.
_RUBY, _RUBYGEMS, _NEEDS = 6, 7, 9


class Described(Struct, frozen=True):
    """A version as its description tells: the version, the system, needs (name → requirement), requirements for
    Ruby and its loader."""

    version: str
    system: str
    needs: dict[str, str]
    ruby: str
    rubygems: str


class OlderIndex:
    """The index of one registry, its lists asked for once."""

    def __init__(self, client: RegistryClient, address: str) -> None:
        self._client = client
        self._address = address
        self._lock = Lock()
        self._listed: dict[str, list[tuple[str, str]]] | None = None

    def of(self, name: str) -> list[Described]:
        """Every version of a package; empty where the registry has none, or no such index. Raises RegistryProblem
        for an index that cannot be read."""
        with self._lock:
            if self._listed is None:
                if self._client.page(f"{self._address}versions", span=(0, 15), largest=1 << 30) is not None:
                    self._listed = {}  # it has the compact index: that said all
                else:
                    self._listed = self._lists()
        return [self._described(name, version, system) for version, system in self._listed.get(name, [])]

    def _lists(self) -> dict[str, list[tuple[str, str]]]:
        found: dict[str, list[tuple[str, str]]] = {}
        for file in _LISTS:
            rows = self._document(file, 31, _LARGEST)
            for row in rows if isinstance(rows, list) else ():
                if not (isinstance(row, list) and len(row) == 3 and isinstance(row[0], str)):
                    continue
                version, system = _version(row[1]), str(row[2] or "ruby")
                if version and _SYSTEM.fullmatch(system):
                    found.setdefault(row[0], []).append((version, system))
        return found

    def _described(self, name: str, version: str, system: str) -> Described:
        file = f"quick/Marshal.4.8/{full_name(name, version, system)}.gemspec.rz"
        spec = self._document(file, 15, _DESCRIPTION)
        try:
            row = read_marshal(spec.value)
            needs = dict(_needs(row[_NEEDS]))
            return Described(version, system, needs, _rule(row[_RUBY]), _rule(row[_RUBYGEMS]))
        except (AttributeError, IndexError, TypeError, ValueError) as error:
            raise self._unreadable(file, str(error)) from error

    def _document(self, file: str, kind: int, largest: int) -> Any:
        page = self._client.page(f"{self._address}{file}", largest=largest)
        if page is None:
            return None
        try:
            inflate = zlib.decompressobj(kind)
            data = inflate.decompress(page.body, largest)
            if inflate.unconsumed_tail:
                raise ValueError(f"it unpacks to over {largest:,} bytes")
            return read_marshal(data)
        except (zlib.error, ValueError) as error:
            raise self._unreadable(file, str(error)) from error

    def _unreadable(self, file: str, why: str) -> RegistryProblem:
        return RegistryProblem(
            f"{without_credentials(self._address)}{file} cannot be read: {why}",
            remedy="Tell who runs the registry, or name another one in the Gemfile.",
        )


def _version(value: Any) -> str:
    """The text of a version's object; "" for what is none."""
    inner = value.value if isinstance(value, Foreign) else None
    text = inner[0] if isinstance(inner, list) and inner else None
    return text if isinstance(text, str) and is_version(text) else ""


def _rule(value: Any) -> str:
    """The requirement that an object stands for, as manifests write it."""
    inner = value.value if isinstance(value, Foreign) else None
    pairs = inner[0] if isinstance(inner, list) and inner else None
    if not isinstance(pairs, list):
        raise ValueError("it holds no requirement where one belongs")
    pieces = []
    for operator, number in pairs:
        version = _version(number)
        if not version or not isinstance(operator, str):
            raise ValueError("a requirement in it has no version")
        pieces.append(f"{operator} {version}")
    return ", ".join(pieces) or ">= 0"


def _needs(rows: Any) -> Iterator[tuple[str, str]]:
    """What has to be there when it runs; needs of its development are left out."""
    for one in rows:
        kind = one.variables.get("@type", "runtime")
        if kind == "runtime":
            yield str(one.variables["@name"]), _rule(one.variables.get("@requirement"))
