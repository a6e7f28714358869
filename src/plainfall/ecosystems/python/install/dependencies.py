"""From a dependency list to an environment that holds just that: resolve, get, lay, take out."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence

from msgspec.structs import replace
from packaging.utils import canonicalize_name

from plainfall.confinement import PARTIAL
from plainfall.ecosystems.python.clients.bundled import client_pin
from plainfall.ecosystems.python.install.belonging import contested_files, paths_of_others
from plainfall.ecosystems.python.install.bytecode import bytecode_placements, compile_later, note_bytecode
from plainfall.ecosystems.python.install.job import InstallResult, Job, Lazy
from plainfall.ecosystems.python.install.laying import (
    INSTALLER,
    installed_distributions,
    is_complete,
    lay_wheel,
    recorded_paths,
    take_out,
)
from plainfall.ecosystems.python.lists.pins import Pin, choice_key
from plainfall.ecosystems.python.resolve.resolve_wishes import direct_pins, pins_of_wishes
from plainfall.ecosystems.python.runtime.environment import VirtualEnvironment
from plainfall.errors import DependencyProblem, HashMismatch, disk_full_explained
from plainfall.failure_facts import PackageNotBuilt
from plainfall.failure_kinds import FailureKind
from plainfall.packages.cache import CachedTree, PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.placing import Folders, place_files

__all__ = ["install", "layout_of"]

_OLDER = 12  # versions that are passed over in one installation


def install(job: Job) -> InstallResult:
    """Makes the environment hold what the list says.

    What is installed already is kept; what Plainfall laid there earlier and the list no longer leads to is
    taken out; what others installed beyond the list is left and named. Raises DependencyProblem,
    RegistryProblem, ArchiveRefused, CommandFailed of a build, or DiskFull; a later call goes on from there.
    """
    result = InstallResult()
    lazy = Lazy(job)
    try:
        with disk_full_explained("getting packages"):
            try:
                result = _with_older(job, lazy, result)
            except (DependencyProblem, HashMismatch):
                # A resolution of ours that the index no longer agrees with is no reason to fail.
                if job.listed.pins is not None or result.resolved or not job.lock.is_file():
                    raise
                job.access.confined.remove(job.lock)
                result = _with_older(job, lazy, result)
    finally:
        lazy.close(result)
    return result


def _with_older(job: Job, lazy: Lazy, outer: InstallResult) -> InstallResult:
    """Installs; where nothing that a chosen version must be built with fits this Python, an older version of that
    package is chosen, as if its index had said so. Where it fails, ``outer`` learns whether versions were
    chosen."""
    remarks: list[str] = []
    while True:
        result = InstallResult(remarks=list(remarks))
        try:
            _install(job, lazy, result)
            return result
        except DependencyProblem as error:
            if not isinstance(error.facts, PackageNotBuilt):
                raise
            name, version = error.facts.package, error.facts.version
            listed = job.listed.pins is not None or any(
                line.name == canonicalize_name(name) and "==" in str(line.requirement)
                for line in job.listed.wishes
            )
            if error.rule != FailureKind.BUILD_TOOLS or not version or listed or len(job.avoided) >= _OLDER:
                raise
            job.access.confined.remove(job.lock)
            job = replace(job, avoided=(*job.avoided, f"{name}!={version}"))
            remarks.append(f"{name} {version} cannot be built here ({error.cause}): an older one was taken")
        finally:
            outer.resolved = result.resolved


def _install(job: Job, lazy: Lazy, result: InstallResult) -> None:
    pins = _pins(job, lazy, result)
    if job.with_client and all(pin.name != "pip" for pin in pins):
        pins = [*pins, client_pin(job.interpreter.path)]
    for pin in pins:
        if pin.reference is not None and pin.name not in lazy.directs:
            lazy.directs[pin.name] = lazy.direct(pin.reference, pin.evidence, pin.hashes)
    missing = _cleared(job, pins, lazy, result)
    if missing:
        _lay(job, missing, lazy, result)
    if result.lock_text:
        # Kept only now: a resolution whose archives turn out to be bad must not be taken again.
        job.access.confined.write(job.lock, result.lock_text)


def _pins(job: Job, lazy: Lazy, result: InstallResult) -> list[Pin]:
    """The pins of a complete lock, or those that the wishes resolve to."""
    listed = job.listed
    if listed.pins is None:
        return pins_of_wishes(job, lazy, result)
    pins = []
    for pin in listed.pins:
        if pin.name in job.instead:
            pin = replace(pin, version=job.instead[pin.name], hashes={}, files=())
        pins.append(pin)
    own = [line for line in listed.wishes if line.is_own]
    _, itself = direct_pins(job, own, listed.path.rpartition("/")[0], lazy, result)
    names = {pin.name for pin in pins}
    return [*pins, *(pin for pin in itself if canonicalize_name(pin.name) not in names)]


def _cleared(job: Job, pins: Sequence[Pin], lazy: Lazy, result: InstallResult) -> list[Pin]:
    """Takes out what must go; returns the pins that are still to be laid."""
    wanted = {pin.name: pin for pin in pins}
    environment = job.environment
    existing = set()
    for leftover in environment.commands.glob(f"{PARTIAL}*"):
        job.access.confined.remove(leftover)
    installed = installed_distributions(environment)
    infos = [one.dist_info for one in installed]
    edited = _edited_distributions(job)

    def take(info: str) -> None:
        take_out(environment, info, paths_of_others(environment, infos, info))
        infos.remove(info)

    for distribution in installed:
        name, version = distribution.key
        pin = wanted.get(name)
        label = f"{name} {version}"
        if distribution.installer == INSTALLER:
            same = pin is not None and _is_installed(pin, version, job.archives.get(name), lazy)
            if (
                same
                and distribution.dist_info not in edited
                and is_complete(environment, distribution.dist_info)
            ):
                existing.add(name)
                result.kept.append(label)
                result.archives[name] = job.archives.get(name, "")
                continue
            take(distribution.dist_info)
            if pin is None:
                result.taken_out.append(label)
        elif not distribution.installer:
            take(distribution.dist_info)
        elif pin is None:
            result.unmanaged.append(label)
        elif _same_version(pin.version, version):
            existing.add(name)
            result.kept.append(label)
        else:
            take(distribution.dist_info)
    return [pin for pin in pins if pin.name not in existing]


def _is_installed(pin: Pin, version: str, sha256: str | None, lazy: Lazy) -> bool:
    if pin.reference is not None:
        return bool(sha256) and lazy.directs[pin.name][0].sha256 == sha256
    listed = pin.hashes.get("sha256")
    # A wheel that was built here has a hash that no list knows.
    fits = not listed or not sha256 or sha256 in listed or sha256.startswith("built-")
    return _same_version(pin.version, version) and fits


def _same_version(wanted: str, version: str) -> bool:
    from packaging.version import InvalidVersion, Version

    try:
        here, existing = Version(wanted), Version(version)
    except InvalidVersion:
        return wanted == version
    return here == existing or (here.local is None and here.public == existing.public)


def _lay(job: Job, missing: Sequence[Pin], lazy: Lazy, result: InstallResult) -> None:
    cache = PackageCache(job.surroundings.cache)
    trees: dict[str, CachedTree] = {name: tree for name, (tree, _) in lazy.directs.items()}
    unknown = []
    if any(pin.name not in trees for pin in missing):
        for pin in missing:
            if pin.name in trees:
                continue
            sha256 = _chosen_before(cache, pin, job, lazy) if pin.hashes else None
            tree = cache.tree(CacheKey.recorded("python", sha256)) if isinstance(sha256, str) else None
            if tree is not None and not tree.damaged():
                trees[pin.name] = tree
            else:
                unknown.append(pin)
    if unknown:
        trees.update(lazy.get().trees(unknown))
    folders = Folders(job.environment.folder)
    kept = [(one.key[0], one.dist_info) for one in installed_distributions(job.environment)]
    contested = contested_files(job.environment, {pin.name: trees[pin.name] for pin in missing}, kept)
    result.remarks += _contested_words(contested)
    without_bytecode = []
    wished = {line.name for line in job.listed.wishes} | lazy.directs.keys()
    for number, pin in enumerate(missing, 1):
        tree = trees[pin.name]
        url = lazy.directs[pin.name][1] if pin.name in lazy.directs else None
        requested = job.listed.pins is not None or pin.name in wished
        not_laid = contested.get(pin.name, {})
        lay_wheel(job.environment, tree, folders, requested=requested, direct_url=url, not_laid=not_laid)
        compiled = bytecode_placements(tree, job.interpreter, job.environment.packages)
        if not not_laid:
            place_files(compiled, folders)
            note_bytecode(tree, job.interpreter)
        tree.note_links()
        if not compiled:
            without_bytecode.append(tree)
        result.laid.append(f"{pin.name} {tree.facts['version']}")
        listed = pin.hashes.get("sha256")
        built = listed is not None and tree.sha256 not in listed
        result.archives[pin.name] = f"built-{tree.sha256}" if built else tree.sha256
        job.progress(number, len(missing), "laid")
    if not job.surroundings.variables.get("PYTHONDONTWRITEBYTECODE"):
        compile_later(job.interpreter, without_bytecode, job.environment.packages, job.surroundings)


def _chosen_before(cache: PackageCache, pin: Pin, job: Job, lazy: Lazy) -> str | None:
    """The wheel that was taken for the same pin: one that the list names by its digest, else one from the same
    registries."""
    result = cache.recall(choice_key(pin, job.interpreter))
    if isinstance(result, str) and result in pin.hashes.get("sha256", ()):
        return result
    result = cache.recall(choice_key(pin, job.interpreter, lazy.origin() or ["no registry"]))
    return result if isinstance(result, str) else None


def _edited_distributions(job: Job) -> set[str]:
    """The .dist-info folders of distributions with a file that was edited through a link."""
    if not job.access.edited:
        return set()
    environment = job.environment
    results = set()
    for one in installed_distributions(environment):
        paths = recorded_paths(environment, one.dist_info)
        if any(os.path.normpath(environment.packages / path) in job.access.edited for path in paths):
            results.add(one.dist_info)
    return results


def _contested_words(contested: Mapping[str, Mapping[str, str]]) -> list[str]:
    rows = []
    for name, files in contested.items():
        for owner in sorted(set(files.values())):
            paths = [path.removeprefix("../../../") for path, other in files.items() if other == owner]
            more = f" and {len(paths) - 3} more" if len(paths) > 3 else ""
            rows.append(f"{name} holds files of {owner}, which were not laid: {', '.join(paths[:3])}{more}")
    return rows


def layout_of(environment: VirtualEnvironment) -> dict[str, list[str]]:
    """The files that every installed distribution's RECORD lists, without bytecode: folder relative to the
    environment → names. Comparing it with the disk tells whether anything was taken away since."""
    root = str(environment.folder)
    layout: dict[str, list[str]] = {}
    folders: dict[str, str] = {}
    for distribution in installed_distributions(environment):
        for path in recorded_paths(environment, distribution.dist_info):
            if path.endswith(".pyc"):
                continue
            folder, _, name = path.rpartition("/")
            if folder not in folders:
                place = os.path.normpath(os.path.join(environment.packages, folder))
                folders[folder] = os.path.relpath(place, root)
            layout.setdefault(folders[folder], []).append(name)
    return layout
