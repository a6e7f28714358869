"""What registries of PHP packages offer: the published protocol, its second version and, to read, its first.

The list (``packages.json``) says where the versions of a package stand (``metadata-url``), and may hold packages
itself, or name further lists with their digests. Metadata of the second version is shortened: each version says
only in what it differs from the one before."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from fnmatch import fnmatchcase
from pathlib import Path
from threading import Lock
from typing import Any
from urllib.parse import urljoin

from msgspec import Struct

from plainfall.ecosystems.php.lists.manifests import MANIFEST, Locked, mapping, strings
from plainfall.ecosystems.php.resolve.own_repositories import GIT_KINDS, rows_of_archives, rows_of_git
from plainfall.ecosystems.php.resolve.versions import normalized
from plainfall.errors import DependencyProblem, HashMismatch, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.client import Connection, RegistryClient, without_credentials
from plainfall.plain_files import plain_text
from plainfall.reading import foreign_json, json_object

__all__ = ["Offers", "Repository", "repositories_of"]

_LARGEST = 64 * 1024**2  # bytes of a list
_UNSET = "__unset"


class Repository(Struct, frozen=True):
    """One entry of ``repositories``: its kind, its address or folder, and the whole entry."""

    kind: str
    address: str
    entry: Mapping[str, Any]


def repositories_of(document: Mapping[str, Any]) -> list[Repository]:
    """The repositories that a manifest, or the user's configuration, names, in their order."""
    rows = document.get("repositories")
    entries = [mapping(row) for row in (rows if isinstance(rows, list) else mapping(rows).values())]
    found = [Repository(str(one["type"]), str(one.get("url") or ""), one) for one in entries if "type" in one]
    return [one for one in found if one.address or one.kind == "package"]


class Offers:
    """The versions of packages that repositories offer, each asked once; the first that has a package counts."""

    def __init__(
        self,
        repositories: Sequence[Repository],
        part: Path,
        connection: Connection,
        variables: Mapping[str, str],
    ) -> None:
        self._client = RegistryClient(connection, variables)
        self._part = part
        self._repositories = repositories
        self._pool = ThreadPoolExecutor(8)
        self._asked: dict[str, Future[list[Locked]]] = {}
        self._lists: dict[str, dict[str, Any]] = {}
        self._variables = variables
        self._locks = {place: Lock() for place in range(len(repositories))}
        self._rows: dict[int, list[dict[str, Any]]] = {}

    def close(self) -> None:
        """Closes the connections."""
        self._pool.shutdown(cancel_futures=True)
        self._client.close()

    def prefetch(self, names: Sequence[str]) -> None:
        """Asks for packages meanwhile."""
        for name in names:
            key = name.lower()
            if key not in self._asked:
                self._asked[key] = self._pool.submit(self._versions, key)

    def of(self, name: str) -> list[Locked]:
        """Every version of a package, in no order; empty where nobody has it. Raises RegistryProblem."""
        self.prefetch([name])
        return self._asked[name.lower()].result()

    def asked(self) -> list[str]:
        """The names of the packages that were asked for by now."""
        return list(self._asked)

    def lists(self) -> None:
        """Reads the list of each registry: before threads ask for packages."""
        for one in self._repositories:
            if one.kind == "composer":
                self._list(one.address)

    def _versions(self, name: str) -> list[Locked]:
        for place, one in enumerate(self._repositories):
            if not _speaks_of(one, name):
                continue
            if one.kind == "composer":
                found = self._of_registry(one.address, name)
            elif one.kind == "path":
                found = list(self._of_folders(one.address, name))
            elif one.kind == "package":
                rows = one.entry.get("package")
                found = list(_read(name, rows if isinstance(rows, list) else [rows], one.address))
            else:
                found = list(_read(name, self._rows_of(place, one), one.address))
            if found:
                return found
        return []

    def _rows_of(self, place: int, one: Repository) -> list[dict[str, Any]]:
        """All that a repository without lists holds: read once, whoever asks first."""
        with self._locks[place]:
            if place not in self._rows:
                if one.kind == "artifact":
                    self._rows[place] = list(rows_of_archives(self._part, one.address))
                elif one.kind in GIT_KINDS:
                    self._rows[place] = rows_of_git(one.address, self._variables)
                else:
                    raise DependencyProblem(
                        f"a repository of the kind {one.kind!r} is named, and that kind is not read",
                        place=Evidence(MANIFEST),
                        remedy="composer, path, package, artifact and git repositories are; or get the "
                        "composer.lock of a teammate.",
                    )
            return self._rows[place]

    def _list(self, address: str) -> dict[str, Any]:
        if address not in self._lists:
            if not address.startswith(("https://", "http://")):
                raise DependencyProblem(
                    f"the registry {without_credentials(address)[:200]!r} is no web address",
                    place=Evidence(MANIFEST),
                    remedy="Name it with its scheme, as https://registry.example/.",
                )
            url = address if address.endswith(".json") else f"{address.rstrip('/')}/packages.json"
            page = self._client.page(url, largest=_LARGEST)
            if page is None:
                raise RegistryProblem(
                    f"no registry of PHP packages answers at {without_credentials(url)}",
                    remedy="Check the address in repositories.",
                )
            document = mapping(foreign_json(page.body, without_credentials(url)))
            document["packages"] = self._with_includes(document, url)
            self._lists[address] = document
        return self._lists[address]

    def _with_includes(self, document: Mapping[str, Any], url: str) -> dict[str, list[Any]]:
        """The packages that a list, and the lists that it includes, hold themselves."""
        found: dict[str, list[Any]] = {}
        for name, rows in mapping(document.get("packages")).items():
            found.setdefault(name.lower(), []).extend(
                rows if isinstance(rows, list) else mapping(rows).values()
            )
        for path, stated in mapping(document.get("includes")).items():
            inner = self._checked(urljoin(url, path), str(mapping(stated).get("sha1") or ""), "sha1")
            for name, rows in mapping(inner.get("packages")).items():
                found.setdefault(name.lower(), []).extend(
                    rows if isinstance(rows, list) else mapping(rows).values()
                )
        return found

    def _checked(self, url: str, digest: str, algorithm: str) -> dict[str, Any]:
        page = self._client.page(url, largest=_LARGEST)
        if page is None:
            raise RegistryProblem(
                f"nothing is at {without_credentials(url)}", remedy="Tell who runs the registry."
            )
        got = hashlib.new(algorithm, page.body).hexdigest()
        if digest and got != digest:
            raise HashMismatch(
                f"{without_credentials(url)} has the digest {got[:16]}…; the registry's list says {digest[:16]}…",
                remedy="Nothing of it was used. Run the same command again; if it stays so, tell who runs it.",
            )
        return mapping(foreign_json(page.body, without_credentials(url)))

    def _of_registry(self, address: str, name: str) -> list[Locked]:
        document = self._list(address)
        held = document["packages"].get(name)
        if held:
            return list(_read(name, held, address))
        available = document.get("available-packages")
        patterns = strings(document.get("available-package-patterns"))
        if isinstance(available, list):
            patterns += [str(one) for one in available]
        if patterns and not any(fnmatchcase(name, one.lower()) for one in patterns):
            return []
        template = document.get("metadata-url")
        if isinstance(template, str):
            found: list[Locked] = []
            for ending in ("", "~dev"):
                url = urljoin(f"{address.rstrip('/')}/", template.replace("%package%", f"{name}{ending}"))
                page = self._client.page(url, largest=_LARGEST)
                if page is not None:
                    inner = mapping(foreign_json(page.body, without_credentials(url)))
                    rows = mapping(inner.get("packages")).get(name)
                    found += _read(name, _expanded(rows, inner.get("minified")), address)
            return found
        return self._of_providers(document, address, name)

    def _of_providers(self, document: Mapping[str, Any], address: str, name: str) -> list[Locked]:
        """The first version of the protocol: lists of digests, and a document of each package by its digest."""
        base, template = f"{address.rstrip('/')}/", document.get("providers-url")
        if not isinstance(template, str):
            return []
        tables = [mapping(document.get("providers"))]
        for path, stated in mapping(document.get("provider-includes")).items():
            digest = str(mapping(stated).get("sha256") or "")
            inner = self._checked(urljoin(base, path.replace("%hash%", digest)), digest, "sha256")
            tables.append(mapping(inner.get("providers")))
        for table in tables:
            digest = str(mapping(table.get(name)).get("sha256") or "")
            if digest:
                url = urljoin(base, template.replace("%package%", name).replace("%hash%", digest))
                rows = mapping(self._checked(url, digest, "sha256").get("packages")).get(name)
                return list(
                    _read(name, [*mapping(rows).values()] if isinstance(rows, dict) else rows, address)
                )
        return []

    def _of_folders(self, pattern: str, name: str) -> Iterator[Locked]:
        """The packages in folders of the clone."""
        if pattern.startswith(("/", "~")) or ".." in pattern.split("/"):
            return  # outside of the clone's part: what lies there is not the clone's
        for file in sorted(self._part.glob(f"{pattern.rstrip('/')}/{MANIFEST}")):
            document = json_object(
                plain_text(file, "utf-8", "replace"), file.relative_to(self._part).as_posix()
            )
            if str(document.get("name", "")).lower() != name:
                continue
            folder = file.parent.relative_to(self._part).as_posix()
            version = str(document.get("version") or "dev-main")
            dist = {"type": "path", "url": folder, "reference": ""}
            yield from _read(name, [{**document, "version": version, "dist": dist}], folder)


def _speaks_of(repository: Repository, name: str) -> bool:
    """Whether a repository may be asked for a package: its entry may say which (``only``, ``exclude``)."""
    only, exclude = (strings(repository.entry.get(key)) for key in ("only", "exclude"))
    if only and not any(fnmatchcase(name, one.lower()) for one in only):
        return False
    return not any(fnmatchcase(name, one.lower()) for one in exclude)


def _expanded(rows: object, minified: object) -> list[Any]:
    """The versions, each whole."""
    listed = rows if isinstance(rows, list) else [*mapping(rows).values()]
    if minified != "composer/2.0":
        return listed
    found: list[Any] = []
    before: dict[str, Any] = {}
    for row in listed:
        before = {key: one for key, one in {**before, **mapping(row)}.items() if one != _UNSET}
        found.append(before)
    return found


def _read(name: str, rows: object, where: str) -> Iterator[Locked]:
    for row in rows if isinstance(rows, list) else ():
        entry = mapping(row)
        version = str(entry.get("version") or "")
        if str(entry.get("name", "")).lower() != name or not re.fullmatch(r"[\w.+/-]{1,200}", version):
            continue  # an entry of a registry that is about something else is nobody's
        try:
            normal = normalized(str(entry.get("version_normalized") or version))
        except ValueError:
            continue
        yield Locked(str(entry["name"]), version, normal, False, entry)
