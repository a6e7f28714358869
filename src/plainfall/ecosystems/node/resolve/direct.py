"""Wishes that name a place and no range: a folder, an archive of the clone or at an address, a repository."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from plainfall.ecosystems.node.install.repositories import RepositorySource, repository_source
from plainfall.ecosystems.node.install.store import Store
from plainfall.ecosystems.node.lists.documents import plain_manifest
from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.ecosystems.node.resolve.graph import GraphPackage
from plainfall.ecosystems.node.resolve.versions import best
from plainfall.errors import BadInput, DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.checkouts import COMMIT, references_of
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes
from plainfall.reading import foreign_json

__all__ = ["Direct", "is_direct"]

_LOCAL = regex(r"(file|link|portal):|\.{1,2}/|/|~/")
_ARCHIVE = regex(r"\.(tgz|tar\.gz|tar)$")


def is_direct(wish: str) -> bool:
    """Whether a wish names a place."""
    return (
        bool(_LOCAL.match(wish)) or wish.startswith(("http://", "https://")) or _repository(wish) is not None
    )


def _repository(wish: str) -> RepositorySource | None:
    return None if wish.startswith(("npm:", "workspace:", "patch:")) else repository_source(wish)


class Direct:
    """Looks such wishes up. ``path`` is the manifest that they stand in, for people."""

    def __init__(self, store: Store, path: str) -> None:
        self._store = store
        self._path = path

    def found(
        self, name: str, wish: str, folder: str, chain: tuple[str, ...]
    ) -> tuple[str, tuple[GraphPackage, Mapping[str, Any]]]:
        """The key of what the wish names, and what it says of itself; a relative path counts from ``folder``
        (relative to the part). Raises DependencyProblem with the chain, and what the store raises."""
        repository = _repository(wish)
        if repository is not None:
            return self._archive(name, self._pinned(repository, chain), "")
        if not _LOCAL.match(wish):
            return self._archive(name, wish, "")
        inner = re.sub(r"^(file|link|portal):(//)?", "", wish)
        place = posixpath.normpath(posixpath.join(folder, inner))
        if place.startswith("/") or not (self._store.part / place).resolve().is_relative_to(
            self._store.clone.resolve()
        ):
            raise self._problem(chain, f"{name} {wish} is outside the clone")
        if _ARCHIVE.search(place):
            return self._archive(name, f"file:{place}", "")
        manifest = self._store.part / place / "package.json"
        try:
            document = _manifest(manifest)
        except (OSError, BadInput) as error:
            raise self._problem(chain, f"{name} {wish}: {place}/package.json cannot be read") from error
        return f"folder {place}", (GraphPackage(name, "", link=place), document)

    def _pinned(self, repository: RepositorySource, chain: tuple[str, ...]) -> str:
        """The address with the commit that the wish means now."""
        if COMMIT.fullmatch(repository.revision):
            return repository.pinned(repository.revision)
        known = references_of(repository.addresses, self._store.variables)
        name = repository.revision or "HEAD"
        if repository.range:
            name = best(repository.range, list(known)) or ""
        commit = known.get(name)
        if commit is None and not repository.range and re.fullmatch(r"[0-9a-f]{7,39}", name):
            return f"git+{repository.addresses[0]}#{name}"  # a short commit id: the checkout knows it
        if commit is None:
            what = f"tag in {repository.range}" if repository.range else f"revision {name}"
            raise self._problem(chain, f"{repository.addresses[0]} has no {what}")
        return repository.pinned(commit)

    def _archive(
        self, name: str, address: str, version: str
    ) -> tuple[str, tuple[GraphPackage, Mapping[str, Any]]]:
        """What an archive or a checkout says in its own manifest."""
        tree = self._store.tree(Package(f"node_modules/{name}", name, version, address))
        document = _manifest(tree.folder / "package.json")
        own = str(document.get("name") or name)
        optional = frozenset(document.get("optionalDependencies") or {})
        about = GraphPackage(own, str(document.get("version") or ""), address, optional=optional)
        return f"{own}@{address}", (about, document)

    def _problem(self, chain: tuple[str, ...], cause: str) -> DependencyProblem:
        asked = " → ".join(["package.json", *chain])
        return DependencyProblem(
            f"{cause} (asked for by {asked})",
            place=Evidence(self._path),
            remedy="Change that wish in the manifest, or restore what it names.",
        )


def _manifest(path: Path) -> dict[str, Any]:
    return plain_manifest(foreign_json(plain_bytes(path), path.name))
