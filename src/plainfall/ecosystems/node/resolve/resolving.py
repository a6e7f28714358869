"""Resolving what manifests ask for where no lock pins it: ranges, tags, aliases, peers, workspaces, and what
comes from elsewhere than a registry.

One version of a package serves all who admit it; otherwise the newest that the range admits is taken, and the
one under the tag ``latest`` before newer ones. A peer that nobody asks for is asked for by the part itself.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from urllib.parse import quote

from msgspec import Struct
from msgspec.structs import replace

from plainfall.ecosystems.node.install.store import Store
from plainfall.ecosystems.node.lists.documents import plain_manifest, tags_of, versions_of
from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.ecosystems.node.resolve.direct import Direct, is_direct
from plainfall.ecosystems.node.resolve.graph import GraphPackage, hoisted
from plainfall.ecosystems.node.resolve.overrides import Overrides
from plainfall.ecosystems.node.resolve.versions import admits, best, is_range, parse_version
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.client import RegistryClient
from plainfall.reading import foreign_json

__all__ = ["TABLES", "lock_text", "resolve"]

TABLES = ("dependencies", "devDependencies", "optionalDependencies")
_SHORT = "application/vnd.npm.install-v1+json; q=1.0, application/json; q=0.8"


class _Wish(Struct, frozen=True):
    """Who asks (the key of a package, or of a folder with a manifest), for which name, how it is worded, the
    names that led there, and whether it may be missing."""

    asker: str
    name: str
    text: str
    chain: tuple[str, ...]
    may_lack: bool = False


def resolve(
    manifest: Mapping[str, Any],
    path: str,
    members: Mapping[str, Mapping[str, Any]],
    store: Store,
    node: str,
    progress: Callable[[int, int, str], None],
) -> list[Package]:
    """The packages at their places. ``members`` are the manifests of the part's workspaces by folder; the
    store knows the registries, and gets what a registry does not describe. Raises DependencyProblem with the
    chain that asks for what cannot be met, RegistryProblem, or what the store raises."""
    client = RegistryClient(store.registries.connection, store.variables, connections=16)
    try:
        return _Resolver(manifest, path, members, store, client, node, progress).run()
    finally:
        client.close()


class _Resolver:
    def __init__(
        self,
        manifest: Mapping[str, Any],
        path: str,
        members: Mapping[str, Mapping[str, Any]],
        store: Store,
        client: RegistryClient,
        node: str,
        progress: Callable[[int, int, str], None],
    ) -> None:
        self._manifest = manifest
        self._path = path
        self._store = store
        self._client = client
        self._node = node
        self._progress = progress
        self._documents: dict[str, dict[str, Any]] = {}
        self._chosen: dict[str, dict[str, dict[str, Any]]] = {}
        self._overrides = Overrides(manifest)
        self._roots: dict[str, Mapping[str, Any]] = {"": manifest, **members}
        self._members = {str(one["name"]): folder for folder, one in members.items() if one.get("name")}
        self._direct = Direct(store, path)
        # What each package says of itself, by its key; what it needs; and what the folders need.
        self._about: dict[str, GraphPackage] = {}
        self._needs: dict[str, dict[str, str]] = {}
        self._root_needs: dict[str, dict[str, str]] = {}
        self._peers: dict[str, tuple[str, tuple[str, ...]]] = {}

    def run(self) -> list[Package]:
        level = [wish for folder, document in self._roots.items() for wish in _wishes(folder, document)]
        level += [_Wish("/", name, "workspace:*", (name,)) for name in sorted(self._members)]
        while level or self._peers:
            if not level:
                mine = self._root_needs.get("", {})
                level = [
                    _Wish("/", name, text, chain)
                    for name, (text, chain) in sorted(self._peers.items())
                    if name not in mine
                ]
                self._peers = {}
            self._fetch(level)
            level = [later for wish in level for later in self._meet(wish)]
            self._progress(len(self._needs), 0, "packages resolved")
        graph = {key: self._with_needs(key) for key in self._about}
        optional = frozenset(self._manifest.get("optionalDependencies") or {})
        return hoisted(graph, {folder: self._root_needs.get(folder, {}) for folder in self._roots}, optional)

    def _with_needs(self, key: str) -> GraphPackage:
        return replace(self._about[key], needs=self._needs.get(key, {}))

    def _meet(self, wish: _Wish) -> list[_Wish]:
        """Notes what a wish is met with; returns the wishes of what was not met before."""
        result = self._found(wish)
        if result is None:
            return []
        key, about = result
        if wish.asker.startswith("/"):
            self._root_needs.setdefault(wish.asker[1:], {})[wish.name] = key
        else:
            self._needs.setdefault(wish.asker, {})[wish.name] = key
        if key in self._about:
            return []
        self._about[key] = about[0]
        if about[0].link is not None:
            folder, document = about[0].link, about[1]
            if folder in self._roots or folder.startswith("../"):
                return []
            self._roots[folder] = document
            return _wishes(folder, {**document, "devDependencies": {}})
        return self._wishes_of(key, about[1], wish.chain)

    def _wishes_of(self, key: str, document: Mapping[str, Any], chain: tuple[str, ...]) -> list[_Wish]:
        lacking = document.get("optionalDependencies") or {}
        both = {**(document.get("dependencies") or {}), **lacking}
        meta = document.get("peerDependenciesMeta") or {}
        asked = {name for table in TABLES for name in self._manifest.get(table) or {}}
        for name, text in (document.get("peerDependencies") or {}).items():
            if not (meta.get(name) or {}).get("optional") and name not in asked:
                self._peers.setdefault(name, (str(text), (*chain, name)))
        return [_Wish(key, name, str(text), (*chain, name), name in lacking) for name, text in both.items()]

    def _found(self, wish: _Wish) -> tuple[str, tuple[GraphPackage, Mapping[str, Any]]] | None:
        """The key of what meets a wish, with what it says of itself; None if it may be missing, and is."""
        text = self._overrides.of(wish.name, wish.text, wish.chain)
        member = self._members.get(wish.name)
        if member is not None:
            document = self._roots[member]
            version = str(document.get("version") or "0.0.0")
            if text.startswith("workspace:") or (is_range(text) and admits(text, version)):
                link = GraphPackage(wish.name, "", link=member)
                return f"folder {member}", (link, document)
        if is_direct(text):
            folder = wish.asker[1:] if wish.asker.startswith("/") else ""
            return self._direct.found(wish.name, text, folder, wish.chain)
        real, wanted = _alias(wish.name, text)
        about = self._choose(real, wanted, wish.chain, wish.may_lack)
        return (f"{real}@{about['version']}", (_of_registry(real, about), about)) if about else None

    def _fetch(self, level: list[_Wish]) -> None:
        """Gets the registry's documents for a whole level at once."""
        names = set()
        for wish in level:
            text = self._overrides.of(wish.name, wish.text, wish.chain)
            if wish.name not in self._members and not is_direct(text):
                names.add(_alias(wish.name, text)[0])
        lacking = sorted(names - self._documents.keys())
        with ThreadPoolExecutor(12) as pool:
            for name, document in zip(lacking, pool.map(self._document, lacking), strict=True):
                self._documents[name] = document

    def _document(self, name: str) -> dict[str, Any]:
        address = self._store.registries.of(name) + quote(name, safe="@")
        page = self._client.page(address, accept=_SHORT)
        document = foreign_json(page.body, page.url) if page is not None else {}
        return {"versions": versions_of(document), "dist-tags": tags_of(document)}

    def _choose(self, name: str, wish: str, chain: tuple[str, ...], may_lack: bool) -> dict[str, Any] | None:
        if ":" in wish or "/" in wish:
            raise self._problem(chain, f"{name} {wish} is neither a range of versions nor an address")
        if name not in self._documents:
            self._documents[name] = self._document(name)
        document = self._documents[name]
        versions: dict[str, dict[str, Any]] = document.get("versions") or {}
        tags = document.get("dist-tags") or {}
        known = self._chosen.setdefault(name, {})
        if not is_range(wish):
            number = tags.get(wish)
        else:
            number = best(wish, list(known)) or self._newest(wish, versions, tags.get("latest"))
        if number is None or number not in versions:
            if may_lack:
                return None
            have = ", ".join(list(versions)[-4:]) if versions else "nothing of that name"
            raise self._problem(chain, f"no version of {name} is admitted by {wish}; the registry has {have}")
        known[number] = plain_manifest(versions[number], number)
        return known[number]

    def _newest(self, wish: str, versions: Mapping[str, Any], latest: str | None) -> str | None:
        if latest is not None and admits(wish, latest) and self._fits(versions.get(latest)):
            return latest
        usable = [
            one for one, about in versions.items() if parse_version(one) and not about.get("deprecated")
        ]
        fitting = [one for one in usable if self._fits(versions[one])]
        return best(wish, fitting) or best(wish, usable) or best(wish, list(versions))

    def _fits(self, about: Any) -> bool:
        """Whether a version is for this runtime, by its own word."""
        engines = about.get("engines") if isinstance(about, dict) else None
        wanted = engines.get("node") if isinstance(engines, dict) else None
        return not isinstance(wanted, str) or not is_range(wanted) or admits(wanted, self._node)

    def _problem(self, chain: tuple[str, ...], cause: str) -> DependencyProblem:
        asked = " → ".join(["package.json", *chain])
        return DependencyProblem(
            f"{cause} (asked for by {asked})",
            place=Evidence(self._path),
            remedy="Change that wish, or override it in the manifest.",
        )


def _wishes(folder: str, document: Mapping[str, Any]) -> list[_Wish]:
    optional = document.get("optionalDependencies") or {}
    every = {name: str(text) for table in TABLES for name, text in (document.get(table) or {}).items()}
    return [_Wish(f"/{folder}", name, every[name], (name,), name in optional) for name in sorted(every)]


def _alias(name: str, wish: str) -> tuple[str, str]:
    if wish.startswith("npm:"):
        real, _, inner = wish.removeprefix("npm:").rpartition("@")
        return (real, inner) if real else (wish.removeprefix("npm:"), "*")
    return name, wish


def _of_registry(name: str, about: Mapping[str, Any]) -> GraphPackage:
    dist = about.get("dist") or {}
    return GraphPackage(
        name,
        str(about["version"]),
        str(dist.get("tarball") or ""),
        str(dist.get("integrity") or ""),
        {},
        frozenset(about.get("optionalDependencies") or {}),
        tuple(about.get("os") or ()),
        tuple(about.get("cpu") or ()),
        tuple(about.get("libc") or ()),
    )


def lock_text(manifest: Mapping[str, Any], packages: list[Package]) -> str:
    """The packages as a lock in the open format 3."""
    top = {key: manifest[key] for key in ("name", "version", *TABLES) if manifest.get(key)}
    rows: dict[str, Any] = {"": top}
    for one in packages:
        if one.link is not None:
            rows[one.place] = {"resolved": one.link, "link": True}
            continue
        row: dict[str, Any] = {"name": one.name, "version": one.version, "resolved": one.address}
        row |= {"integrity": one.integrity} if one.integrity else {}
        row |= {
            key: list(value) for key, value in (("os", one.os), ("cpu", one.cpu), ("libc", one.libc)) if value
        }
        row |= {"optional": True} if one.optional else {}
        row |= {"dependencies": dict.fromkeys(one.needs, "*")} if one.needs else {}
        rows[one.place] = row
    document = {"lockfileVersion": 3, "requires": True, "resolved_by": "plainfall", "packages": rows}
    return json.dumps(document, indent=1)
