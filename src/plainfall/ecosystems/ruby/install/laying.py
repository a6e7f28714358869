"""Puts Ruby's packages into a part's own home of packages: linked from the cache, each moved into place as a whole,
with the gemspec that the loader reads and small files that run its programs."""

from __future__ import annotations

import os
import posixpath
import re
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from plainfall.confinement import Confined
from plainfall.ecosystems.ruby.install.store import Store
from plainfall.ecosystems.ruby.lists.locks import Locked
from plainfall.ecosystems.ruby.resolve.metadata import gemspec_text, ruby_text
from plainfall.ecosystems.shape import CloneAccess, Progress
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.placing import Folders, Placement, place_files
from plainfall.workers import cancelled_on_error, worker_pool

__all__ = ["Laying", "lay", "place_of", "write_descriptions"]

_AT_ONCE = 6  # packages of one task for a worker
_FEW = 4  # packages that are laid without workers


class Laying(Struct):
    """What was done, by labels; ``keys`` tell what lies where (a place below the home → the cache's key),
    ``described`` what each newly laid package says of itself, ``names`` the entries of each folder."""

    laid: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    taken_out: list[str] = field(default_factory=list)
    keys: dict[str, str] = field(default_factory=dict)
    described: dict[str, dict[str, Any]] = field(default_factory=dict)
    names: dict[str, list[str]] = field(default_factory=dict)
    fetched: int = 0
    fetched_bytes: int = 0


def place_of(package: Locked) -> str:
    """The folder of a package below the home of packages, as the loader looks for it."""
    if package.source.kind == "git":
        base = re.sub(
            r"\.git$", "", package.source.remotes[0].rstrip("/").replace(":", "/").rpartition("/")[2]
        )
        plain = re.sub(r"[^A-Za-z0-9_.-]", "_", base).lstrip(".") or "repository"
        return f"bundler/gems/{plain}-{package.source.revision[:12]}"
    return f"gems/{package.full_name}"


def lay(
    home: Path,
    wanted: Mapping[str, Locked],
    store: Store,
    making: Path,
    before: Mapping[str, str],
    progress: Progress,
    access: CloneAccess,
) -> Laying:
    """Makes the home hold the packages (``wanted`` by their places below it) and nothing else of what ``before``
    tells was laid. Raises what the store raises, and PathRefused."""
    confined = access.confined
    confined.own_folder(home)
    done = Laying()
    kept = [
        place
        for place, one in wanted.items()
        if (key := store.key(one)) is not None
        and before.get(place) == key.name
        and _is_complete(home, place, key, store, access.edited)
    ]
    todo = {place: one for place, one in wanted.items() if place not in kept}
    if todo:
        confined.remove(making)  # what a run before was stopped at
        root = Path(tempfile.mkdtemp(prefix="ruby-", dir=confined.make_folder(making)))
        _settle(root, todo, store, done, progress)
    for place in sorted(before):
        if place not in wanted and _is_place(place) and confined.remove(home / place):
            done.taken_out.append(posixpath.basename(place))
            confined.remove(home / f"specifications/{posixpath.basename(place)}.gemspec")
    for place in sorted(todo):
        confined.remove(home / place)
        confined.rename(root / place, home / place)
    if todo:
        confined.remove(making)
    done.laid += list(dict.fromkeys(one.label for one in todo.values()))
    done.kept = [wanted[place].label for place in kept]
    for place in wanted:
        done.keys.setdefault(place, before.get(place, ""))
        done.names[place] = sorted(os.listdir(home / place)) if (home / place).is_dir() else []
    return done


def _is_place(place: str) -> bool:
    return re.fullmatch(r"(gems|bundler/gems)/[A-Za-z0-9_][\w.+-]*", place) is not None


def _is_complete(home: Path, place: str, key: CacheKey, store: Store, edited: frozenset[str]) -> bool:
    """Whether a package that was laid before is there with every file, none of them edited through a link."""
    tree = PackageCache(store.cache).tree(key)
    if tree is None or (home / place).is_symlink():
        return False
    root = f"{home / place}/"
    if edited and any(root + file.path in edited for file in tree.files):
        return False
    return all(os.path.lexists(root + file.path) for file in tree.files)


def _settle(root: Path, wanted: Mapping[str, Locked], store: Store, done: Laying, progress: Progress) -> None:
    """Lays the packages below ``root``: what the cache has is linked at once, the rest is fetched and unpacked by
    worker processes where there are many."""
    cache, folders = PackageCache(store.cache), Folders(root)
    rows: list[tuple[str, Locked]] = []
    for place, one in wanted.items():
        key = store.key(one)
        linked = cache.link_tree(key, f"{root}/{place}/", folders) if key is not None else None
        if linked is None or key is None:
            rows.append((place, one))
        else:
            folders.make(f"{root}/{place}")  # a package may have no files
            _note(done, place, key.name, linked[1])
    workers = worker_pool() if len(rows) >= _FEW else None
    chunks = [rows[start : start + _AT_ONCE] for start in range(0, len(rows), _AT_ONCE)]
    if workers is None:
        results = [_lay_chunk(root, rows, store)] if rows else []
    else:
        tasks = [workers.submit(_lay_chunk, root, chunk, store) for chunk in chunks]
        results = []
        with cancelled_on_error(tasks):
            for number, task in enumerate(
                tasks, 1
            ):  # in the lock's order: of several failures the first is named
                results.append(task.result())
                progress(min(number * _AT_ONCE, len(rows)), len(rows), "packages laid")
    for fetched, size, laid in results:
        done.fetched += fetched
        done.fetched_bytes += size
        for place, (name, facts) in laid.items():
            _note(done, place, name, facts)
    progress(len(wanted), len(wanted), "packages laid")


def _note(done: Laying, place: str, key: str, facts: Mapping[str, Any]) -> None:
    done.keys[place] = key
    if "spec" in facts:
        done.described[place] = facts["spec"]


def _lay_chunk(
    root: Path, rows: Sequence[tuple[str, Locked]], store: Store
) -> tuple[int, int, dict[str, tuple[str, dict[str, Any]]]]:
    """Fetches some packages in threads and links them. Returns how many were fetched, their bytes, and the key and
    facts of each."""
    from concurrent.futures import ThreadPoolExecutor

    mine = Store(store.cache, store.connection, store.variables, store.mirrors, store.lock, store.ruby)
    folders, laid = Folders(root), {}
    try:
        with ThreadPoolExecutor(4) as pool:
            trees = list(pool.map(mine.tree, [one for _, one in rows]))
        for (place, _), tree in zip(rows, trees, strict=True):
            source, target = f"{tree.folder}/", f"{root}/{place}/"
            place_files((Placement(source + file.path, target + file.path) for file in tree.files), folders)
            folders.make(target.rstrip("/"))
            tree.note_links()
            laid[place] = (tree.key.name, tree.facts)
        return mine.fetched, mine.fetched_bytes, laid
    finally:
        mine.close()


def write_descriptions(
    confined: Confined,
    home: Path,
    described: Mapping[str, Mapping[str, Any]],
    rubygems: str,
    before: Mapping[str, Sequence[str]],
    wanted: Sequence[str],
) -> dict[str, list[str]]:
    """Writes gemspecs and programs of newly laid packages, and takes away the programs of those that are gone;
    returns the programs of each package's place."""
    programs = {place: list(names) for place, names in before.items() if place in wanted}
    for place, facts in described.items():
        confined.write(
            home / f"specifications/{posixpath.basename(place)}.gemspec", gemspec_text(facts, rubygems)
        )
        programs[place] = [str(one) for one in facts["executables"]]
        for name in programs[place]:
            confined.write(home / "bin" / name, _program(facts["name"], name), mode=0o755)
    still = {name for names in programs.values() for name in names}
    for names in before.values():
        for name in names:
            if name not in still and re.fullmatch(r"[\w.+!?-]{1,100}", name):
                confined.remove(home / "bin" / name)
    return programs


def _program(package: str, name: str) -> str:
    told = f"{ruby_text(package)}, {ruby_text(name)}"
    return (
        "#!/usr/bin/env ruby\n# Written by Plainfall: runs a program of an installed package.\n\n"
        "require 'rubygems'\n\n"
        f"load Gem.activate_bin_path({told}, '>= 0.a')\n"
    )
