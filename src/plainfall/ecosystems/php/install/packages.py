"""Installs the packages of a PHP part's lock."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.ecosystems.php.clients.configuration import user_connection, user_repositories
from plainfall.ecosystems.php.install.autoload import ROOT, Laid, in_order, read_autoload, scanned_folders
from plainfall.ecosystems.php.install.bins import write_bins
from plainfall.ecosystems.php.install.classmap import Rows, scan
from plainfall.ecosystems.php.install.installed import records
from plainfall.ecosystems.php.install.laying import lay
from plainfall.ecosystems.php.install.loader import loader_files
from plainfall.ecosystems.php.install.places import bin_folder, place_of, vendor_folder
from plainfall.ecosystems.php.install.plugins import plugin_remarks, write_runtime_entry
from plainfall.ecosystems.php.install.store import Store
from plainfall.ecosystems.php.lists.manifests import (
    LOCK,
    Lock,
    Locked,
    fingerprint,
    is_platform,
    mapping,
    mismatches,
    read_lock,
)
from plainfall.ecosystems.php.runtime.interpreters import extensions_of
from plainfall.ecosystems.php.runtime.platform import unfit
from plainfall.ecosystems.shape import Foreseen, Installation, InstallJob
from plainfall.ecosystems.shared.lock_fit import refuse_unfit_lock
from plainfall.errors import DependencyProblem, EnvironmentProblem
from plainfall.evidence import Evidence
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.plain_files import plain_text
from plainfall.repository import repository_of
from plainfall.workers import cancelled_on_error, worker_pool
from plainfall.writing import digest_of

__all__ = ["foreseen", "install"]

_LEXER = 1  # changes with what the lexer finds


def foreseen(job: InstallJob, document: Mapping[str, Any]) -> Foreseen | None:
    """What the lock comes to on this machine; None without one."""
    if job.listed.kind != "lock":
        return None
    lock = read_lock(job.clone, job.listed.path)
    _check_fits(document, lock)
    _, lock, _ = _without_what_does_not_fit(document, lock, job)
    return Foreseen(tuple(one.label for one in lock.packages if not one.is_meta))


def install(job: InstallJob, document: Mapping[str, Any], environment: str) -> Installation:
    """Makes the folder of installed packages what the lock says. ``document`` is the manifest, ``environment`` the
    environment's folder, from which the layout counts. Raises what reading, store and laying raise."""
    part, inside, whole = job.folder, job.access.confined, document
    inner = "" if part == job.clone else part.relative_to(job.clone).as_posix()
    lock = read_lock(job.clone, job.listed.path if job.listed.kind == "lock" else _resolved(job, document))
    _check_fits(document, lock)
    document, lock, left_out = _without_what_does_not_fit(document, lock, job)
    vendor, bins = vendor_folder(document, inner), bin_folder(document, inner)
    names = [one.name for one in lock.packages]
    wanted = {place_of(one, document, names, inner): one for one in lock.packages if not one.is_meta}
    places = {one.name: place for place, one in wanted.items()}
    connection, variables = user_connection(job.surroundings), job.surroundings.variables
    store = Store(job.surroundings.cache, variables, connection, lock.path, part, job.clone)
    before = {str(key): str(one) for key, one in job.memory.get("laid", {}).items()}
    making = job.clone / ".plainfall" / "laying" / digest_of(str(part))[:12]
    for place in dict.fromkeys(
        vendor if one.startswith(f"{vendor}/") else one for one in [f"{vendor}/", *wanted]
    ):
        if not os.path.lexists(part / place):
            job.making(part / place)
    try:
        done = lay(part, wanted, vendor, store, making, before, job.progress, job.access)
    finally:
        store.close()
    laid = [Laid(one.name, one.entry, place, _tree_key(done.keys[place])) for place, one in wanted.items()]
    laid += [Laid(one.name, one.entry, f"{vendor}/{one.name}") for one in lock.packages if one.is_meta]
    root = Laid(str(document.get("name") or ROOT), document, "")
    classes = _Classes(part, job.surroundings.cache)
    classes.prepare(root, laid)
    autoload = read_autoload(root, [one for one in laid if one.name in places], classes.of)
    files = {
        **records(document, lock.packages, places, vendor, dev=not left_out),
        **loader_files(autoload, root, lock.packages, vendor),
    }
    _check_replaceable(inside, part / vendor, files)
    entry = files.pop("autoload.php")
    for name, text in files.items():
        _write(inside, part / vendor / name, text)
    runtime = write_runtime_entry(inside, part, vendor, document, places)
    for name in ("autoload_static.php", "autoload_files.php", "include_paths.php", "platform_check.php"):
        if f"composer/{name}" not in files:
            inside.remove(part / vendor / "composer" / name)
    _write(inside, part / vendor / "autoload.php", entry)
    ordered = [one for one in in_order(laid) if one.name in places]
    programs = write_bins(inside, part, ordered, bins, vendor, job.memory.get("programs", []))
    remarks = [*left_out, *_remarks(whole, lock), *plugin_remarks(lock.packages)]
    layout = {
        place: entries for place, entries in done.names.items() if not done.keys[place].startswith("link:")
    }
    layout |= {f"{vendor}/composer": sorted(name.partition("/")[2] for name in files)}
    layout[vendor] = ["autoload.php", *([runtime] if runtime else [])]
    if programs:
        layout[bins] = programs
    return Installation(
        laid=tuple(done.laid),
        kept=tuple(done.kept),
        taken_out=tuple(done.taken_out),
        fetched=done.fetched,
        fetched_bytes=done.fetched_bytes,
        remarks=tuple(remarks),
        resolved=job.listed.kind != "lock",
        memory={"laid": done.keys, "programs": programs},
        layout={
            os.path.relpath(part / place, part / environment): entries for place, entries in layout.items()
        },
    )


def _resolved(job: InstallJob, document: Mapping[str, Any]) -> str:
    """The path of the lock that the manifest was resolved to before, if it asks for the same; else it is resolved
    now, and the lock kept. Raises what resolving raises."""
    from plainfall.ecosystems.php.resolve.registry import Offers, repositories_of
    from plainfall.ecosystems.php.resolve.resolving import Machine, lock_text, resolve

    interpreter = job.choice.taken
    tables = (
        "require",
        "require-dev",
        "minimum-stability",
        "prefer-stable",
        "repositories",
        "config",
        "autoload",
    )
    asked = digest_of({name: document.get(name) for name in tables}, interpreter.version)
    kept, mark = job.state / LOCK, job.state / "asked.json"
    if not kept.is_file() or not mark.is_file() or plain_text(mark, "utf-8") != asked:
        wishes = {name for table in ("require", "require-dev") for name in mapping(document.get(table))}
        repositories = [*repositories_of(document), *user_repositories(job.surroundings)]
        if not repositories and not all(map(is_platform, wishes)):
            raise DependencyProblem(
                "the manifest asks for packages, no lock says which versions, and no registry is configured here",
                place=job.listed.evidence,
                remedy="Get the composer.lock of a teammate, or name a registry under repositories in config.json "
                'of your own configuration folder ({"repositories": [{"type": "composer", "url": "https://…"}]}).',
            )
        offers = Offers(
            repositories, job.folder, user_connection(job.surroundings), job.surroundings.variables
        )
        try:
            machine = Machine(interpreter.version, extensions_of(interpreter))
            packages = resolve(document, job.listed.path, offers, machine)
        finally:
            offers.close()
        job.access.confined.write(kept, lock_text(document, packages))
        job.access.confined.write(mark, asked)
    return kept.relative_to(job.clone).as_posix()


def _tree_key(key: str) -> str:
    return "" if key.startswith("link:") else key


def _check_replaceable(inside: Any, vendor: Path, names: Iterable[str]) -> None:
    """Raises EnvironmentProblem where a file of the project has the name of one that is to be written."""
    repository = repository_of(inside.root)
    made = (vendor / "composer" / "installed.json").is_file()  # by us, or by another client
    for name in names:
        file = vendor / name
        is_tracked = repository is not None and repository.is_tracked(file)
        if is_tracked or (name == "autoload.php" and os.path.lexists(file) and not made):
            raise EnvironmentProblem(
                f"{vendor.name}/{name} is the project's own file, and the packages' loader would take its place",
                place=Evidence(
                    str(file.relative_to(inside.root)) if file.is_relative_to(inside.root) else name
                ),
                remedy="Nothing of it was changed. Name another folder for packages in the manifest (vendor-dir).",
            )


def _write(inside: Any, file: Path, text: str) -> None:
    if file.is_symlink() or not file.is_file() or plain_text(file, "utf-8", "replace") != text:
        inside.write(file, text)


def _check_fits(document: Mapping[str, Any], lock: Lock) -> None:
    refuse_unfit_lock(mismatches(document, lock), lock.path)


def _without_what_does_not_fit(
    document: Mapping[str, Any], lock: Lock, job: InstallJob
) -> tuple[Mapping[str, Any], Lock, list[str]]:
    """Manifest and lock as they are; or without all that is for development alone, where this PHP cannot take a
    package of it, with that in words."""
    interpreter = job.choice.taken
    extensions = extensions_of(interpreter)
    stood_for = {name for one in lock.packages for name in one.stands_for}
    dev = [one for one in lock.packages if one.is_dev]
    reasons = [why for one in dev if (why := unfit(one, interpreter.version, extensions, stood_for))]
    if not reasons:
        return document, lock, []
    more = f" (and {len(reasons) - 2} more)" if len(reasons) > 2 else ""
    said = (
        f"{len(dev)} packages for development alone are left out: {'; '.join(reasons[:2])}{more}; here is PHP "
        f"{interpreter.version}"
    )
    used = [one for one in lock.packages if not one.is_dev]
    kept = {key: value for key, value in document.items() if key not in ("require-dev", "autoload-dev")}
    return kept, replace(lock, packages=tuple(used)), [said]


def _remarks(document: Mapping[str, Any], lock: Lock) -> list[str]:
    found = []
    if lock.fingerprint and len(lock.fingerprint) == 32 and fingerprint(document) != lock.fingerprint:
        found.append(
            f"{lock.path} was written for another state of the manifest; it still fits what is asked for"
        )
    unsaid = [one.label for one in lock.packages if not one.is_meta and _is_unsaid(one)]
    if unsaid:
        names = ", ".join(unsaid[:6]) + (f" and {len(unsaid) - 6} more" if len(unsaid) > 6 else "")
        found.append(f"the lock has neither checksum nor commit of {names}: what came could not be checked")
    return found


def _is_unsaid(package: Locked) -> bool:
    if package.dist.get("type") == "path":
        return False
    return not (
        package.dist.get("shasum") or package.dist.get("reference") or package.source.get("reference")
    )


class _Classes:
    """The classes of packages: those of cached trees are remembered, and looked for by several processes."""

    def __init__(self, part: Path, cache: Path) -> None:
        self._part = part
        self._cache = PackageCache(cache)
        self._known: dict[tuple[str, str], Rows] = {}

    def prepare(self, root: Laid, packages: Sequence[Laid]) -> None:
        """Looks for what nobody has looked for yet."""
        lacking: list[tuple[Laid, str]] = []
        for package in packages:
            for inner in scanned_folders(root, package):
                known = self._cache.recall(self._name(package, inner)) if package.key else None
                if isinstance(known, list):
                    self._known[package.folder, inner] = [(str(path), [*names]) for path, names in known]
                else:
                    lacking.append((package, inner))
        workers = worker_pool() if len(lacking) > 3 else None
        if workers is None:
            found = [scan(self._files(one), inner) for one, inner in lacking]
        else:
            tasks = [workers.submit(scan, self._files(one), inner) for one, inner in lacking]
            with cancelled_on_error(tasks):
                found = [task.result() for task in tasks]
        for (package, inner), rows in zip(lacking, found, strict=True):
            self._known[package.folder, inner] = rows
            if package.key:
                self._cache.remember(self._name(package, inner), rows)

    def of(self, package: Laid, inner: str) -> Rows:
        """The rows of a path of a package."""
        key = (package.folder, inner)
        if key not in self._known:
            self._known[key] = scan(self._part / package.folder, inner)
        return self._known[key]

    def _name(self, package: Laid, inner: str) -> CacheKey:
        material = [package.key, inner]
        return CacheKey.of_product(
            "php-classes", material=material, tools=[_LEXER], runtime="", registries=[], allowed=True
        )

    def _files(self, package: Laid) -> Path:
        """Where a package's files are read: those of the cache, whose content no program of the clone chose; else
        (a folder of the clone) the laid ones."""
        tree = self._cache.tree(CacheKey.recorded("php", package.key)) if package.key else None
        return tree.folder if tree is not None else self._part / package.folder
