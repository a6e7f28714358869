"""Packages in the cache: the connection that is opened at the first fetch, what is counted, and how an archive or a
commit becomes a tree. A language's store says where its packages come from, and what is checked of them."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.errors import RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.answers import LIMITS
from plainfall.packages.cache import CachedTree, PackageCache, make_tree
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.checkouts import check_out
from plainfall.packages.client import Connection, RegistryClient
from plainfall.packages.unpacking import Unpacked, moved_into

__all__ = ["TreeStore"]


class TreeStore(Struct, dict=True):
    """``cache`` is the user's package cache, ``variables`` are the person's, ``connection`` says how
    registries are reached; ``fetched`` and ``fetched_bytes``
    count what came over the network."""

    cache: Path
    variables: Mapping[str, str]
    connection: Connection

    def __post_init__(self) -> None:
        self.fetched = self.fetched_bytes = 0
        self.trees = PackageCache(self.cache)
        self._client: RegistryClient | None = None

    @property
    def client(self) -> RegistryClient:
        """The connection; opened when it is needed first."""
        if self._client is None:
            self._client = RegistryClient(self.connection, self.variables)
        return self._client

    def close(self) -> None:
        """Closes the connections."""
        if self._client is not None:
            self._client.close()

    def whole_tree(self, key: CacheKey | None) -> CachedTree | None:
        """The tree under a key, where it is in the cache and undamaged."""
        tree = self.trees.tree(key) if key is not None else None
        return tree if tree is not None and not tree.damaged() else None

    def first_answer(self, addresses: Iterable[str]) -> tuple[bytes, str] | None:
        """The bytes at the first address that has them, and that address; None where none has. Raises the first
        address's RegistryProblem where none answers, and one did not work."""
        problem: RegistryProblem | None = None
        for address in addresses:
            try:
                page = self.client.page(address, largest=LIMITS.in_memory)
            except RegistryProblem as error:
                problem = problem or error
                continue
            if page is not None:
                self.note_fetched(len(page.body))
                return page.body, address
        if problem is not None:
            raise problem
        return None

    def note_fetched(self, size: int) -> None:
        """Counts an archive of ``size`` bytes that came over the network."""
        self.fetched += 1
        self.fetched_bytes += size

    def tree_of_commit(
        self,
        addresses: Sequence[str],
        revision: str,
        key: CacheKey,
        label: str,
        place: Evidence,
        facts: Callable[[Path, list[Unpacked]], dict[str, Any]],
        arrange: Callable[[Path], None] = lambda checkout: None,
    ) -> CachedTree:
        """The files of a git commit, after ``arrange`` did what it has to do in the checkout. Raises
        DependencyProblem where no address has the commit."""
        with self.trees.workshop() as name:
            checkout = Path(name, "checkout")
            check_out(list(addresses), revision, checkout, self.variables, place)
            arrange(checkout)
            shutil.rmtree(checkout / ".git")
            self.fetched += 1
            return make_tree(self.cache, key, label, lambda folder: moved_into(checkout, folder), facts)
