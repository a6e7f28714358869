"""Trees of packages, put below a new folder: what the cache has is linked at once, the rest is fetched and unpacked
by worker processes where there are many."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol, TypeVar

from msgspec import Struct, field

from plainfall.ecosystems.shape import Progress
from plainfall.packages.cache import CachedTree, PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.placing import Folders, Placement, place_files
from plainfall.workers import cancelled_on_error, worker_pool

__all__ = ["Laying", "PlacedTree", "is_complete", "lay_trees"]

_AT_ONCE = 6  # packages of one task for a worker
_FEW = 4  # packages that are laid without workers
_Package = TypeVar("_Package")


class Laying(Struct):
    """What was done, by labels; ``keys`` tell what lies where (a place → the cache's key), ``described`` what each
    newly laid package says of itself, ``names`` the entries of each folder."""

    laid: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    taken_out: list[str] = field(default_factory=list)
    keys: dict[str, str] = field(default_factory=dict)
    described: dict[str, dict[str, Any]] = field(default_factory=dict)
    names: dict[str, list[str]] = field(default_factory=dict)
    fetched: int = 0
    fetched_bytes: int = 0


class PlacedTree(Struct, frozen=True):
    """A tree that was laid: the cache's key, and what the cache knows of the package."""

    key: str
    facts: Mapping[str, Any]


class StoreOfTrees(Protocol[_Package]):
    """What laying needs of a language's store; one travels to worker processes as ``another`` makes it."""

    cache: Path
    fetched: int
    fetched_bytes: int

    def key(self, package: _Package) -> CacheKey | None: ...

    def tree(self, package: _Package) -> CachedTree: ...

    def another(self) -> StoreOfTrees[_Package]: ...

    def close(self) -> None: ...


def is_complete(folder: Path, key: CacheKey, cache: Path, edited: frozenset[str]) -> bool:
    """Whether a package that was laid before is there with every file, none of them edited through a link
    (``edited``: the paths that were)."""
    tree = PackageCache(cache).tree(key)
    if tree is None or folder.is_symlink():
        return False
    root = f"{folder}/"
    if edited and any(root + file.path in edited for file in tree.files):
        return False
    return all(os.path.lexists(root + file.path) for file in tree.files)


def lay_trees(
    root: Path,
    wanted: Mapping[str, _Package],
    store: StoreOfTrees[_Package],
    done: Laying,
    progress: Progress,
) -> dict[str, PlacedTree]:
    """Lays the packages below ``root``, by their places; what was fetched is counted in ``done``. Raises what the
    store raises: of several failures that of the first package."""
    placed, rows = _from_cache(root, wanted, store)
    workers = worker_pool() if len(rows) >= _FEW else None
    if workers is None:
        results = [_lay_chunk(root, rows, store)] if rows else []
    else:
        chunks = [rows[start : start + _AT_ONCE] for start in range(0, len(rows), _AT_ONCE)]
        tasks = [workers.submit(_lay_chunk, root, chunk, store) for chunk in chunks]
        results = []
        with cancelled_on_error(tasks):
            for number, task in enumerate(tasks, 1):  # in the lock's order
                results.append(task.result())
                progress(min(number * _AT_ONCE, len(rows)), len(rows), "packages laid")
    for fetched, size, trees in results:
        done.fetched += fetched
        done.fetched_bytes += size
        placed |= trees
    progress(len(wanted), len(wanted), "packages laid")
    return placed


def _from_cache(
    root: Path, wanted: Mapping[str, _Package], store: StoreOfTrees[_Package]
) -> tuple[dict[str, PlacedTree], list[tuple[str, _Package]]]:
    """Links what the cache has; returns that, and what is lacking."""
    cache, folders = PackageCache(store.cache), Folders(root)
    placed: dict[str, PlacedTree] = {}
    lacking: list[tuple[str, _Package]] = []
    for place, package in wanted.items():
        key = store.key(package)
        linked = cache.link_tree(key, f"{root}/{place}/", folders) if key is not None else None
        if linked is None or key is None:
            lacking.append((place, package))
        else:
            folders.make(f"{root}/{place}")  # a package may have no files
            placed[place] = PlacedTree(key.name, linked[1])
    return placed, lacking


def _lay_chunk(
    root: Path, rows: Sequence[tuple[str, _Package]], store: StoreOfTrees[_Package]
) -> tuple[int, int, dict[str, PlacedTree]]:
    """Fetches some packages in threads and links them. Returns how many were fetched, their bytes, the trees."""
    from concurrent.futures import ThreadPoolExecutor

    mine, folders = store.another(), Folders(root)
    placed: dict[str, PlacedTree] = {}
    get: Callable[[_Package], CachedTree] = mine.tree
    try:
        with ThreadPoolExecutor(4) as pool:
            trees = list(pool.map(get, [package for _, package in rows]))
        for (place, _), tree in zip(rows, trees, strict=True):
            source, target = f"{tree.folder}/", f"{root}/{place}/"
            place_files((Placement(source + file.path, target + file.path) for file in tree.files), folders)
            folders.make(target.rstrip("/"))
            tree.note_links()
            placed[place] = PlacedTree(tree.key.name, tree.facts)
        return mine.fetched, mine.fetched_bytes, placed
    finally:
        mine.close()
