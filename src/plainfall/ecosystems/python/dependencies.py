"""From a dependency list to an environment that holds just that: resolve, get, lay, take out."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import replace

from plainfall.ecosystems.python.bytecode import bytecode_placements, compile_later
from plainfall.ecosystems.python.environment import VirtualEnvironment
from plainfall.ecosystems.python.job import InstallResult, Job, Lazy
from plainfall.ecosystems.python.laying import (
    INSTALLER,
    installed_distributions,
    is_whole,
    lay_wheel,
    recorded_paths,
    take_out,
)
from plainfall.ecosystems.python.pins import Pin, choice_key
from plainfall.ecosystems.python.wished import pins_of_wishes
from plainfall.errors import DependencyProblem, HashMismatch, disk_full_explained
from plainfall.packages.cache import CachedTree, PackageCache
from plainfall.packages.placing import place_files
from plainfall.writing import BESIDE, write_whole

__all__ = ["install", "layout_of"]


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
                _install(job, lazy, result)
            except (DependencyProblem, HashMismatch):
                # A resolution of ours that the index no longer agrees with is no reason to fail.
                if job.listed.pins is not None or result.resolved or not job.lock.is_file():
                    raise
                job.lock.unlink()
                result = InstallResult()
                _install(job, lazy, result)
    finally:
        lazy.close(result)
    return result


def _install(job: Job, lazy: Lazy, result: InstallResult) -> None:
    pins = _pins(job, lazy, result)
    for pin in pins:
        if pin.reference is not None and pin.name not in lazy.directs:
            lazy.directs[pin.name] = lazy.direct(pin.reference, pin.evidence)
    missing = _cleared(job, pins, lazy, result)
    if missing:
        _lay(job, missing, lazy, result)
    if result.lock_text:
        # Kept only now: a resolution whose archives turn out to be bad must not be taken again.
        job.lock.parent.mkdir(parents=True, exist_ok=True)
        write_whole(job.lock, result.lock_text)


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
    return pins


def _cleared(job: Job, pins: Sequence[Pin], lazy: Lazy, result: InstallResult) -> list[Pin]:
    """Takes out what must go; returns the pins that are still to be laid."""
    wanted = {pin.name: pin for pin in pins}
    environment = job.environment
    there = set()
    for leftover in environment.commands.glob(f"{BESIDE}*"):
        leftover.unlink()
    for distribution in installed_distributions(environment):
        name, version = distribution.key
        pin = wanted.get(name)
        label = f"{name} {version}"
        if distribution.installer == INSTALLER:
            same = pin is not None and _is_installed(pin, version, job.archives.get(name), lazy)
            if same and is_whole(environment, distribution.dist_info):
                there.add(name)
                result.kept.append(label)
                result.archives[name] = job.archives.get(name, "")
                continue
            take_out(environment, distribution.dist_info)
            if pin is None:
                result.taken_out.append(label)
        elif not distribution.installer:
            take_out(environment, distribution.dist_info)
        elif pin is None:
            result.strangers.append(label)
        elif _same_version(pin.version, version):
            there.add(name)
            result.kept.append(label)
        else:
            take_out(environment, distribution.dist_info)
    return [pin for pin in pins if pin.name not in there]


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
        here, there = Version(wanted), Version(version)
    except InvalidVersion:
        return wanted == version
    return here == there or (here.local is None and here.public == there.public)


def _lay(job: Job, missing: Sequence[Pin], lazy: Lazy, result: InstallResult) -> None:
    cache = PackageCache(job.surroundings.cache)
    trees: dict[str, CachedTree] = {name: tree for name, (tree, _) in lazy.directs.items()}
    unknown = []
    if any(pin.name not in trees for pin in missing):
        for pin in missing:
            if pin.name in trees:
                continue
            sha256 = cache.recall("choices", choice_key(pin, job.interpreter)) if pin.hashes else None
            tree = cache.tree(sha256) if isinstance(sha256, str) else None
            if tree is not None and not tree.damaged():
                trees[pin.name] = tree
            else:
                unknown.append(pin)
    if unknown:
        trees.update(lazy.get().trees(unknown))
    made: set[str] = set()
    without_bytecode = []
    for number, pin in enumerate(missing, 1):
        tree = trees[pin.name]
        url = lazy.directs[pin.name][1] if pin.name in lazy.directs else None
        requested = job.listed.pins is not None or pin.evidence.path in job.listed.files
        lay_wheel(job.environment, tree, made, requested=requested, direct_url=url)
        compiled = bytecode_placements(tree, job.interpreter, job.environment.packages)
        place_files(compiled, made)
        if not compiled:
            without_bytecode.append(tree)
        result.laid.append(f"{pin.name} {tree.facts['version']}")
        listed = pin.hashes.get("sha256")
        built = listed is not None and tree.sha256 not in listed
        result.archives[pin.name] = f"built-{tree.sha256}" if built else tree.sha256
        job.progress(number, len(missing), "laid")
    if not job.surroundings.variables.get("PYTHONDONTWRITEBYTECODE"):
        compile_later(job.environment.python, without_bytecode, job.environment.packages)


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
