"""Resolving what a manifest asks for where no lock pins it: ranges, tags, aliases, peers.

One version of a package serves all who admit it; otherwise the newest that the range admits is taken, and the
one under the tag ``latest`` before newer ones. A peer that nobody asks for is asked for by the part itself.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeAlias
from urllib.parse import quote

from plainfall.ecosystems.node.configuration import Registries
from plainfall.ecosystems.node.graph import GraphPackage, hoisted
from plainfall.ecosystems.node.locks.package import Package
from plainfall.ecosystems.node.versions import admits, best, is_range, parse_version
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.client import RegistryClient

__all__ = ["lock_text", "resolve"]

_Wish: TypeAlias = tuple[str, str, str, tuple[str, ...], bool]
_SHORT = "application/vnd.npm.install-v1+json; q=1.0, application/json; q=0.8"


def resolve(
    manifest: Mapping[str, Any],
    path: str,
    registries: Registries,
    variables: Mapping[str, str],
    node: str,
    progress: Callable[[int, int, str], None],
) -> list[Package]:
    """The packages at their places. Raises DependencyProblem with the chain that asks for what cannot be met,
    or RegistryProblem."""
    client = RegistryClient(registries.connection, variables, connections=16)
    try:
        return _Resolver(manifest, path, registries, client, node, progress).run()
    finally:
        client.close()


class _Resolver:
    def __init__(
        self,
        manifest: Mapping[str, Any],
        path: str,
        registries: Registries,
        client: RegistryClient,
        node: str,
        progress: Callable[[int, int, str], None],
    ) -> None:
        self._manifest = manifest
        self._path = path
        self._registries = registries
        self._client = client
        self._node = node
        self._progress = progress
        self._documents: dict[str, dict[str, Any]] = {}
        self._chosen: dict[str, dict[str, dict[str, Any]]] = {}
        self._overrides = {
            str(name): str(wish)
            for table in ("overrides", "resolutions")
            for name, wish in (manifest.get(table) or {}).items()
            if isinstance(wish, str)
        }

    def run(self) -> list[Package]:
        optional = dict(self._manifest.get("optionalDependencies") or {})
        wishes = {
            **(self._manifest.get("dependencies") or {}),
            **(self._manifest.get("devDependencies") or {}),
            **optional,
        }
        needs: dict[str, dict[str, str]] = {}
        root: dict[str, str] = {}
        # (who asks: "" is the part, the name, the wish, the chain, whether it may be missing)
        level: list[_Wish] = [
            ("", name, str(wish), (name,), name in optional) for name, wish in sorted(wishes.items())
        ]
        peers: dict[str, tuple[str, tuple[str, ...]]] = {}
        while level or peers:
            if not level:
                level = [
                    ("", name, wish, chain, False)
                    for name, (wish, chain) in sorted(peers.items())
                    if name not in root
                ]
                peers = {}
                if not level:
                    break
            self._fetch({self._alias(name, wish)[0] for _, name, wish, _, _ in level})
            later: list[_Wish] = []
            for asker, name, wish, chain, may_lack in level:
                real, wanted = self._alias(name, self._overrides.get(name, wish))
                found = self._choose(real, wanted, chain, may_lack)
                if found is None:
                    continue
                key = f"{real}@{found['version']}"
                (root if asker == "" else needs.setdefault(asker, {}))[name] = key
                if key in needs:
                    continue
                needs[key] = {}
                lacking = set(found.get("optionalDependencies") or {})
                for other, inner in {
                    **(found.get("dependencies") or {}),
                    **(found.get("optionalDependencies") or {}),
                }.items():
                    later.append((key, other, str(inner), (*chain, other), other in lacking))
                meta = found.get("peerDependenciesMeta") or {}
                for other, inner in (found.get("peerDependencies") or {}).items():
                    if not (meta.get(other) or {}).get("optional") and other not in wishes:
                        peers.setdefault(other, (str(inner), (*chain, other)))
            level = later
            self._progress(len(needs), 0, "packages resolved")
        graph = {key: self._package(key, wanted) for key, wanted in needs.items()}
        return hoisted(graph, {"": root}, frozenset(optional))

    def _alias(self, name: str, wish: str) -> tuple[str, str]:
        if wish.startswith("npm:"):
            real, _, inner = wish.removeprefix("npm:").rpartition("@")
            return (real, inner) if real else (wish.removeprefix("npm:"), "*")
        return name, wish

    def _fetch(self, names: set[str]) -> None:
        lacking = sorted(names - self._documents.keys())
        with ThreadPoolExecutor(12) as pool:
            for name, document in zip(lacking, pool.map(self._document, lacking), strict=True):
                self._documents[name] = document

    def _document(self, name: str) -> dict[str, Any]:
        page = self._client.page(self._registries.of(name) + quote(name, safe="@"), accept=_SHORT)
        document = json.loads(page.body) if page is not None else {}
        return document if isinstance(document, dict) else {}

    def _choose(self, name: str, wish: str, chain: tuple[str, ...], may_lack: bool) -> dict[str, Any] | None:
        if ":" in wish or "/" in wish:
            raise self._problem(chain, f"{name} {wish} is no range of versions, and only those are resolved")
        document = self._documents.get(name, {})
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
        known[number] = versions[number]
        return versions[number]

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

    def _package(self, key: str, needs: Mapping[str, str]) -> GraphPackage:
        name, _, version = key.rpartition("@")
        about = self._chosen[name][version]
        dist = about.get("dist") or {}
        integrity = dist.get("integrity") or ""
        return GraphPackage(
            name,
            version,
            str(dist.get("tarball") or ""),
            str(integrity),
            needs,
            frozenset(about.get("optionalDependencies") or {}),
            tuple(about.get("os") or ()),
            tuple(about.get("cpu") or ()),
            tuple(about.get("libc") or ()),
        )


def lock_text(manifest: Mapping[str, Any], packages: list[Package]) -> str:
    """The packages as a lock in the open format 3."""
    tables = ("dependencies", "devDependencies", "optionalDependencies")
    top = {key: manifest[key] for key in ("name", "version", *tables) if manifest.get(key)}
    rows: dict[str, Any] = {"": top}
    for one in packages:
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
