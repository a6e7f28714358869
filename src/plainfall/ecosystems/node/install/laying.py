"""Laying packages out in ``node_modules``: links into the cache's files, commands in ``.bin``.

A fresh tree is laid next to its place and renamed into it. In a tree that is there, only what differs is laid
or taken out. ``node_modules/.plainfall.json`` says what was laid, under the user's seal for this very clone;
while it is being changed it says that, too, so that after a stop the next run lays everything anew. Nothing is
written or removed but inside the clone, wherever its links lead.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from plainfall.confinement import Confined
from plainfall.ecosystems.node.install.bins import link_commands
from plainfall.ecosystems.node.install.marks import Mark, check_ours, check_places, holder_of
from plainfall.ecosystems.node.install.store import Store
from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.ecosystems.shape import CloneAccess
from plainfall.packages.cache import CachedTree, PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.placing import Folders, Placement, place_files
from plainfall.workers import cancelled_on_error, worker_pool

__all__ = ["Laid", "lay"]

_RUNS = "+code"  # after the key of a package whose own code ran: its files are copies
_AT_ONCE = 24  # packages that a process is given, or a few more
_FEW = 40  # packages for which a second process costs more than it saves


class Laid(Struct):
    """What was done: labels, what was fetched, which packages want to run code (label → commands), and the
    names in each package's folder (by its place), the places that were laid now, and the commands of packages
    that lie within others (folder → name → path, from the part)."""

    laid: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    taken_out: list[str] = field(default_factory=list)
    fetched: int = 0
    fetched_bytes: int = 0
    wants: dict[str, dict[str, str]] = field(default_factory=dict)
    native: set[str] = field(default_factory=set)
    layout: dict[str, list[str]] = field(default_factory=dict)
    fresh: set[str] = field(default_factory=set)
    inner: dict[str, dict[str, str]] = field(default_factory=dict)


class _Facts(Struct, frozen=True):
    wants: dict[str, str]
    native: bool
    inner: dict[str, dict[str, str]]
    names: list[str]

    @classmethod
    def of(cls, facts: Mapping[str, Any], names: list[str]) -> _Facts:
        return cls(facts["wants"], facts["native"], facts.get("inner") or {}, names)


def lay(
    part: Path,
    packages: Sequence[Package],
    store: Store,
    making: Path,
    allowed: frozenset[str],
    patched: frozenset[str],
    progress: Callable[[int, int, str], None],
    access: CloneAccess,
) -> Laid:
    """Makes the part's ``node_modules`` hold the packages and nothing else. ``making`` is a folder on the
    same disk for what is under way. The files of packages whose own code may run there (``allowed``), and of
    those that a script of the clone patches, are copied. Where such code is still to run, the mark says so
    until ``code_ran`` is called.

    Raises what the store raises, BadInput for places that lie within links, PathRefused for one that leads out
    of the clone, and EnvironmentProblem for a ``node_modules`` that is not Plainfall's.
    """
    part = access.confined.make_folder(part)
    check_places(packages)
    mark = Mark.of(part, access)
    before = mark.places
    check_ours(part, mark, packages, access.confined)
    laid = Laid()
    copied = allowed | patched
    wanted = {package.place: package for package in packages}
    keys = {one.place: _key(store, one, one.name in copied) for one in packages}
    kept = {
        where
        for where, key in keys.items()
        if key
        and before.get(where) == key
        and where not in mark.unfinished
        and _is_complete(part, where, key, store, laid, access.edited)
    }
    gone = [where for where in before if where not in wanted or where not in kept]
    todo = [one for one in packages if one.place not in kept]
    fresh = not kept
    root = part
    if not (todo or gone or fresh):
        laid.layout["node_modules/.bin"] = link_commands(access.confined, part, part, packages, laid.inner)
    else:
        inside = access.confined
        if fresh:
            access.confined.remove(making)  # what a run before was stopped at
            root = Path(tempfile.mkdtemp(prefix="node-", dir=access.confined.make_folder(making)))
            inside = Confined(root)
            inside.make_folder("node_modules")
        else:
            mark.write(part, access, before, complete=False)
            _take_out(access.confined, part, gone, kept)
        _settle(root, part, todo, store, copied, laid, progress, inside)
        laid.layout["node_modules/.bin"] = link_commands(inside, root, part, packages, laid.inner)
        marked = {where: key or "" for where, key in keys.items()}
        runs = {one.place for one in todo if one.name in allowed and one.place in laid.wants}
        mark.write(root, access, marked, complete=True, unfinished=runs, inside=inside, part=part)
        if fresh:
            _into_place(root, part, ["node_modules", *wanted], access.confined)
    laid.kept = [wanted[where].label for where in sorted(kept)]
    replaced = {wanted[where].name for where in gone if where in wanted}
    laid.taken_out = sorted(
        where.rpartition("node_modules/")[2]
        for where in gone
        if where not in wanted and where not in replaced
    )
    return laid


def _is_complete(part: Path, where: str, key: str, store: Store, laid: Laid, edited: frozenset[str]) -> bool:
    """Whether a package that was laid before is there with every file, none of them edited through a link; its
    names go into the layout."""
    if key.startswith("link:"):
        return (part / where).is_symlink()
    tree = PackageCache(store.cache).tree(CacheKey.recorded("node", key.removesuffix(_RUNS)))
    if tree is None:
        return False
    root = f"{part / where}/"
    if not all(os.path.lexists(root + file.path) for file in tree.files):
        return False
    if edited and any(root + file.path in edited for file in tree.files):
        return False
    facts = _Facts.of(tree.facts, _names(file.path for file in tree.files))
    _note(laid, where, facts)
    return True


def _names(paths: Iterable[str]) -> list[str]:
    """The names directly in a package's folder."""
    return sorted({path.partition("/")[0] for path in paths})


def _key(store: Store, package: Package, runs_code: bool) -> str | None:
    """What tells whether a package is still the one that was laid."""
    if package.link is not None:
        return f"link:{package.link}"
    key = store.key(package)
    if key is None:
        return None
    return f"{key.name}{_RUNS}" if runs_code else key.name


def _take_out(clone: Confined, part: Path, gone: Iterable[str], kept: set[str]) -> None:
    """Removes packages, but for those below them that stay."""
    for where in sorted(gone, key=len, reverse=True):
        path = clone.resolve(part / where)
        if path.is_dir() and not path.is_symlink() and any(other.startswith(f"{where}/") for other in kept):
            for entry in list(path.iterdir()):
                if entry.name != "node_modules":
                    clone.remove(entry)
        else:
            clone.remove(path)


def _settle(
    root: Path,
    part: Path,
    todo: Sequence[Package],
    store: Store,
    copied: frozenset[str],
    laid: Laid,
    progress: Callable[[int, int, str], None],
    confined: Confined,
) -> None:
    """Lays the packages below ``root``, in two processes where there are many."""
    links = [one for one in todo if one.link is not None]
    archives = [one for one in todo if one.link is None]
    workers = worker_pool() if len(archives) >= _FEW else None
    done = 0
    if workers is None:
        folders = Folders(root)
        for one in archives:
            _take(laid, one, _linked(root, one, store.tree(one), copied, folders))
            done += 1
            progress(done, len(archives), "packages laid")
        laid.fetched, laid.fetched_bytes = store.fetched, store.fetched_bytes
    else:
        from concurrent.futures import as_completed

        # The same package at several places goes to the same process, which gets it once.
        alike: dict[object, list[Package]] = {}
        for one in archives:
            alike.setdefault(_what(one), []).append(one)
        chunks: list[list[Package]] = []
        for same in alike.values():
            if not chunks or len(chunks[-1]) >= _AT_ONCE:
                chunks.append([])
            chunks[-1] += same
        tasks = [workers.submit(_lay_chunk, root, chunk, store, copied) for chunk in chunks]
        with cancelled_on_error(tasks):
            for task in as_completed(tasks):
                rows, fetched, size = task.result()
                laid.fetched += fetched
                laid.fetched_bytes += size
                for package, facts in rows:
                    _take(laid, package, facts)
                done += len(rows)
                progress(done, len(archives), "packages laid")
    for one in links:
        confined.link(root / one.place, os.path.relpath(part / str(one.link), (part / one.place).parent))
        laid.laid.append(one.label)


def _what(package: Package) -> tuple[object, ...]:
    """What a package is, wherever it goes."""
    return package.name, package.version, package.address, package.integrity, package.patches


def _take(laid: Laid, package: Package, facts: _Facts) -> None:
    laid.laid.append(package.label)
    laid.fresh.add(package.place)
    _note(laid, package.place, facts)


def _note(laid: Laid, place: str, facts: _Facts) -> None:
    laid.layout[place] = facts.names
    if facts.wants:
        laid.wants[place] = facts.wants
    if facts.native:
        laid.native.add(place)
    for holder, commands in facts.inner.items():
        laid.inner[f"{place}/{holder}"] = {name: f"{place}/{path}" for name, path in commands.items()}


def _lay_chunk(
    root: Path, packages: Sequence[Package], store: Store, copied: frozenset[str]
) -> tuple[list[tuple[Package, _Facts]], int, int]:
    """Lays some packages in a worker process: what the cache has is linked at once; the rest is downloaded in
    threads, then unpacked and linked one after the other."""
    mine = store.another()
    folders = Folders(root)
    rows: list[tuple[Package, _Facts]] = []
    lacking = []
    try:
        for one in packages:
            facts = _from_cache(root, one, mine, folders) if one.name not in copied else None
            if facts is not None:
                rows.append((one, facts))
            else:
                lacking.append(one)
        if lacking:
            from concurrent.futures import ThreadPoolExecutor

            unlike = {_what(one): one for one in lacking}
            with ThreadPoolExecutor(4) as pool:
                trees = dict(zip(unlike, pool.map(mine.tree, unlike.values()), strict=True))
            for one in lacking:
                rows.append((one, _linked(root, one, trees[_what(one)], copied, folders)))
        return rows, mine.fetched, mine.fetched_bytes
    finally:
        mine.close()


def _from_cache(root: Path, package: Package, store: Store, folders: Folders) -> _Facts | None:
    """Links a package whose files are in the cache; None if they are not, or cannot be linked."""
    key = store.key(package)
    result = PackageCache(store.cache).link_tree(key, f"{root}/{package.place}/", folders) if key else None
    if result is None:
        return None
    paths, facts = result
    return _Facts.of(facts, _names(paths))


def _linked(
    root: Path, package: Package, tree: CachedTree, copied: frozenset[str], folders: Folders
) -> _Facts:
    target, source = f"{root}/{package.place}/", f"{tree.folder}/"
    placements = (Placement(source + file.path, target + file.path) for file in tree.files)
    place_files(placements, folders, copy=package.name in copied)
    tree.note_links()
    return _Facts.of(tree.facts, _names(file.path for file in tree.files))


def _into_place(root: Path, part: Path, places: Iterable[str], clone: Confined) -> None:
    """Moves the new trees (the part's own, and those in its workspaces) to their places."""
    for inner in sorted({holder_of(place) for place in places}):
        path, target = root / inner, clone.resolve(part / inner)
        if not path.is_dir():
            continue
        if os.path.lexists(target):
            aside = Path(tempfile.mkdtemp(prefix="old-", dir=root.parent))
            clone.rename(target, aside / "node_modules")
            clone.remove(aside)
        clone.rename(path, target)
    clone.remove(root.parent)
