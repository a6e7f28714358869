"""Laying packages out in ``node_modules``: links into the cache's files, commands in ``.bin``.

A fresh tree is laid beside its place and renamed into it. In a tree that is there, only what differs is laid
or taken out. ``node_modules/.plainfall.json`` says what was laid; while it is being changed it says that,
too, so that after a stop the next run lays everything anew.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from plainfall.ecosystems.node.bins import link_commands
from plainfall.ecosystems.node.locks.package import Package
from plainfall.ecosystems.node.store import Store
from plainfall.errors import EnvironmentProblem
from plainfall.packages.cache import CachedTree, PackageCache
from plainfall.packages.placing import Placement, place_files
from plainfall.writing import read_json, write_json

__all__ = ["Laid", "lay"]

_MARK = ".plainfall.json"
_VERSION = 1
_RUNS = "+code"  # after the key of a package whose own code ran: its files are copies
_AT_ONCE = 24  # packages that a process is given, or a few more
_FEW = 40  # packages for which a second process costs more than it saves


@dataclass
class Laid:
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


@dataclass(frozen=True)
class _Facts:
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
    copied: frozenset[str],
    progress: Callable[[int, int, str], None],
) -> Laid:
    """Makes the part's ``node_modules`` hold the packages and nothing else. ``making`` is a folder on the
    same disk for what is under way, ``copied`` are names whose files are copied, since their own code will
    run there.

    Raises what the store raises, and EnvironmentProblem for a ``node_modules`` that is not Plainfall's.
    """
    place = part / "node_modules"
    before = _mark(place)
    _check_ours(place, before, packages)
    laid = Laid()
    wanted = {package.place: package for package in packages}
    keys = {one.place: _key(store, one, one.name in copied) for one in packages}
    kept = {
        where
        for where, key in keys.items()
        if key and before.get(where) == key and _whole(part, where, key, store, laid)
    }
    gone = [where for where in before if where not in wanted or where not in kept]
    todo = [one for one in packages if one.place not in kept]
    fresh = not kept
    root = part
    if not (todo or gone or fresh):
        laid.layout["node_modules/.bin"] = link_commands(part, part, packages, laid.inner)
    else:
        if fresh:
            shutil.rmtree(making, ignore_errors=True)  # what a run before was stopped at
            making.mkdir(parents=True)
            root = Path(tempfile.mkdtemp(prefix="node-", dir=making))
            (root / "node_modules").mkdir()
        else:
            write_json(place / _MARK, {"version": _VERSION, "complete": False, "places": before})
            _take_out(part, gone, kept)
        _settle(root, part, todo, store, copied, laid, progress, len(packages))
        laid.layout["node_modules/.bin"] = link_commands(root, part, packages, laid.inner)
        mark = {
            "version": _VERSION,
            "complete": True,
            "places": {where: key or "" for where, key in keys.items()},
        }
        write_json(root / "node_modules" / _MARK, mark)
        if fresh:
            _into_place(root, part, ["node_modules", *wanted])
    laid.kept = [wanted[where].label for where in sorted(kept)]
    replaced = {wanted[where].name for where in gone if where in wanted}
    laid.taken_out = sorted(
        where.rpartition("node_modules/")[2]
        for where in gone
        if where not in wanted and where not in replaced
    )
    return laid


def _whole(part: Path, where: str, key: str, store: Store, laid: Laid) -> bool:
    """Whether a package that was laid before is there with every file; its names go into the layout."""
    if key.startswith("link:"):
        return (part / where).is_symlink()
    tree = PackageCache(store.cache).tree(key.removesuffix(_RUNS))
    if tree is None:
        return False
    root = f"{part / where}/"
    if not all(os.path.lexists(root + file.path) for file in tree.files):
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
    return f"{key}{_RUNS}" if key and runs_code else key


def _mark(place: Path) -> dict[str, str]:
    """What was laid before; empty if nothing was, or not to the end."""
    data = read_json(place / _MARK)
    if not isinstance(data, dict) or data.get("version") != _VERSION or not data.get("complete"):
        return {}
    places: dict[str, str] = data["places"]
    return places


def _check_ours(place: Path, before: dict[str, str], packages: Sequence[Package]) -> None:
    if before or not place.exists() or (place / _MARK).exists():
        return
    if not any(place.iterdir()):
        return
    raise EnvironmentProblem(
        f"{place} is there and was not made by Plainfall",
        remedy=f"If nothing in it is yours, take it away (rm -r {place}) and run the same command again.",
    )


def _take_out(part: Path, gone: Iterable[str], kept: set[str]) -> None:
    """Removes packages, but for those below them that stay."""
    for where in sorted(gone, key=len, reverse=True):
        path = part / where
        if path.is_symlink():
            path.unlink()
        elif any(other.startswith(f"{where}/") for other in kept):
            for entry in list(path.iterdir()) if path.is_dir() else ():
                if entry.name != "node_modules":
                    shutil.rmtree(entry) if entry.is_dir() and not entry.is_symlink() else entry.unlink()
        else:
            shutil.rmtree(path, ignore_errors=True)


def _settle(
    root: Path,
    part: Path,
    todo: Sequence[Package],
    store: Store,
    copied: frozenset[str],
    laid: Laid,
    progress: Callable[[int, int, str], None],
    whole: int,
) -> None:
    """Lays the packages below ``root``, in two processes where there are many."""
    links = [one for one in todo if one.link is not None]
    archives = [one for one in todo if one.link is None]
    import multiprocessing

    count = min(os.cpu_count() or 1, 4)
    done = 0
    if len(archives) < _FEW or count < 2 or "fork" not in multiprocessing.get_all_start_methods():
        for one in archives:
            _take(laid, one, *_lay_one(root, one, store, copied))
            done += 1
            progress(done, len(archives), "packages laid")
        laid.fetched, laid.fetched_bytes = store.fetched, store.fetched_bytes
    else:
        from concurrent.futures import ProcessPoolExecutor, as_completed

        # The same package at several places goes to the same process, which gets it once.
        alike: dict[object, list[Package]] = {}
        for one in archives:
            alike.setdefault(_what(one), []).append(one)
        chunks: list[list[Package]] = []
        for same in alike.values():
            if not chunks or len(chunks[-1]) >= _AT_ONCE:
                chunks.append([])
            chunks[-1] += same
        with ProcessPoolExecutor(count, mp_context=multiprocessing.get_context("fork")) as pool:
            waiting = [pool.submit(_lay_chunk, root, chunk, store, copied) for chunk in chunks]
            try:
                for future in as_completed(waiting):
                    rows, fetched, size = future.result()
                    laid.fetched += fetched
                    laid.fetched_bytes += size
                    for package, facts in rows:
                        _take(laid, package, facts)
                    done += len(rows)
                    progress(done, len(archives), "packages laid")
            except BaseException:
                pool.shutdown(wait=True, cancel_futures=True)
                raise
    for one in links:
        target = root / one.place
        target.parent.mkdir(parents=True, exist_ok=True)
        inside = os.path.relpath(part / str(one.link), (part / one.place).parent)
        target.symlink_to(inside, target_is_directory=True)
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
    mine = Store(store.cache, store.registries, store.variables, store.part, store.clone)
    rows: list[tuple[Package, _Facts]] = []
    lacking = []
    try:
        for one in packages:
            facts = _from_cache(root, one, mine) if one.name not in copied else None
            if facts is not None:
                rows.append((one, facts))
            else:
                lacking.append(one)
        if lacking:
            from concurrent.futures import ThreadPoolExecutor

            unlike = {_what(one): one for one in lacking}
            with ThreadPoolExecutor(4) as pool:
                trees = dict(zip(unlike, pool.map(mine.tree, unlike.values()), strict=True))
            made: set[str] = set()
            for one in lacking:
                rows.append((one, _linked(root, one, trees[_what(one)], copied, made)))
        return rows, mine.fetched, mine.fetched_bytes
    finally:
        mine.close()


def _from_cache(root: Path, package: Package, store: Store) -> _Facts | None:
    """Links a package whose files are in the cache; None if they are not, or cannot be linked."""
    key = store.key(package)
    found = PackageCache(store.cache).link_tree(key, f"{root}/{package.place}/") if key else None
    if found is None:
        return None
    paths, facts = found
    return _Facts.of(facts, _names(paths))


def _lay_one(root: Path, package: Package, store: Store, copied: frozenset[str]) -> tuple[_Facts]:
    return (_linked(root, package, store.tree(package), copied, set()),)


def _linked(root: Path, package: Package, tree: CachedTree, copied: frozenset[str], made: set[str]) -> _Facts:
    target = f"{root}/{package.place}/"
    source = f"{tree.folder}/"
    if package.name in copied:
        for file in tree.files:
            os.makedirs(os.path.dirname(target + file.path), exist_ok=True)
            shutil.copy2(source + file.path, target + file.path)
    else:
        place_files((Placement(source + file.path, target + file.path) for file in tree.files), made)
    return _Facts.of(tree.facts, _names(file.path for file in tree.files))


def _into_place(root: Path, part: Path, places: Iterable[str]) -> None:
    """Moves the new trees (the part's own, and those in its workspaces) to their places."""
    for inner in sorted({f"{place.partition('node_modules')[0]}node_modules" for place in places}):
        path, target = root / inner, part / inner
        if not path.is_dir():
            continue
        if target.is_symlink() or target.exists():
            aside = Path(tempfile.mkdtemp(prefix="old-", dir=root.parent))
            os.rename(target, aside / "node_modules")
            shutil.rmtree(aside, ignore_errors=True)
        target.parent.mkdir(parents=True, exist_ok=True)
        os.rename(path, target)
    shutil.rmtree(root.parent, ignore_errors=True)
