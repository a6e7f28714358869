"""From a locked list to an environment that holds just that: choose, fetch, unpack, lay, take out."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from plainfall.ecosystems.python.configuration import read_sources
from plainfall.ecosystems.python.environment import VirtualEnvironment
from plainfall.ecosystems.python.fetching import Fetching, Progress, choice_key
from plainfall.ecosystems.python.laying import (
    INSTALLER,
    installed_distributions,
    is_whole,
    lay_wheel,
    recorded_paths,
    take_out,
)
from plainfall.ecosystems.python.requirements import RequirementLine, RequirementList
from plainfall.errors import DependencyProblem, disk_full_explained
from plainfall.packages.cache import CachedTree, PackageCache
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.writing import BESIDE

__all__ = ["InstallResult", "applicable", "install_locked", "layout_of"]


@dataclass
class InstallResult:
    """What was done: names with versions, by what happened to each; bytes fetched; remarks for people;
    ``archives`` maps each installed name to the SHA-256 of its wheel."""

    laid: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    taken_out: list[str] = field(default_factory=list)
    strangers: list[str] = field(default_factory=list)
    fetched: int = 0
    fetched_bytes: int = 0
    remarks: list[str] = field(default_factory=list)
    archives: dict[str, str] = field(default_factory=dict)


def applicable(lines: Sequence[RequirementLine], interpreter: Interpreter) -> list[RequirementLine]:
    """The lines whose markers hold for the interpreter, each name once.

    Raises DependencyProblem for what a complete lock cannot hold: a range, a direct reference, one name
    pinned twice to different versions, or no hash where other lines have one.
    """
    markers: dict[str, Any] = {**interpreter.facts["markers"], "extra": ""}
    chosen: dict[str, RequirementLine] = {}
    hashed = any(line.hashes for line in lines)
    for line in lines:
        if line.requirement is None or line.reference is not None:
            raise DependencyProblem(
                f"{line.evidence.text!r} is a direct reference, which cannot be installed yet",
                place=line.evidence,
                remedy="Lock a release from an index instead.",
            )
        if line.requirement.marker and not line.requirement.marker.evaluate(markers):
            continue
        if line.pinned is None:
            raise DependencyProblem(
                f"{line.requirement.name} is not pinned to one version",
                place=line.evidence,
                remedy=f"Write {line.requirement.name}==VERSION; only complete lists are installed so far.",
            )
        if hashed and not line.hashes:
            raise DependencyProblem(
                f"{line.requirement.name} has no hash, though other lines have one",
                place=line.evidence,
                remedy="Give every line its --hash, or none.",
            )
        other = chosen.get(line.name)
        if other is not None and other.pinned != line.pinned:
            raise DependencyProblem(
                f"{line.requirement.name} is pinned to {line.pinned} here and to {other.pinned} at "
                f"{other.evidence}",
                place=line.evidence,
                remedy="Take one of the two lines out.",
            )
        chosen.setdefault(line.name, line)
    return list(chosen.values())


def install_locked(
    listed: RequirementList,
    environment: VirtualEnvironment,
    interpreter: Interpreter,
    surroundings: Surroundings,
    archives: Mapping[str, str],
    progress: Progress,
) -> InstallResult:
    """Makes the environment hold the applicable lines of the list.

    What is installed already is kept; what Plainfall laid there earlier and the list no longer holds is
    taken out; what others installed beyond the list is left and named. ``archives`` is the same field of
    the run before. ``progress`` is told (done, whole, what). Raises DependencyProblem, RegistryProblem,
    ArchiveRefused or DiskFull; a later call goes on from there.
    """
    lines = applicable(listed.lines, interpreter)
    result = InstallResult()
    missing = _cleared(lines, environment, archives, result)
    if missing:
        with disk_full_explained("laying packages into the environment"):
            _lay(missing, listed, environment, interpreter, surroundings, result, progress)
    return result


def _cleared(
    lines: Sequence[RequirementLine],
    environment: VirtualEnvironment,
    archives: Mapping[str, str],
    result: InstallResult,
) -> list[RequirementLine]:
    """Takes out what must go; returns the lines that are still to be laid."""
    wanted = {line.name: line for line in lines}
    there = set()
    for leftover in environment.commands.glob(f"{BESIDE}*"):
        leftover.unlink()
    for distribution in installed_distributions(environment):
        name, version = distribution.key
        line = wanted.get(name)
        label = f"{name} {version}"
        if distribution.installer == INSTALLER:
            same = line is not None and _is_version(line, version)
            listed = line is not None and same and _still_listed(line, archives.get(name))
            if listed and is_whole(environment, distribution.dist_info):
                there.add(name)
                result.kept.append(label)
                result.archives[name] = archives.get(name, "")
                continue
            take_out(environment, distribution.dist_info)
            if line is None:
                result.taken_out.append(label)
        elif not distribution.installer:
            take_out(environment, distribution.dist_info)
        elif line is None:
            result.strangers.append(label)
        elif _is_version(line, version):
            there.add(name)
            result.kept.append(label)
        else:
            take_out(environment, distribution.dist_info)
    return [line for line in lines if line.name not in there]


def _is_version(line: RequirementLine, version: str) -> bool:
    from packaging.version import InvalidVersion, Version

    try:
        return line.requirement is not None and line.requirement.specifier.contains(
            Version(version), prereleases=True
        )
    except InvalidVersion:
        return line.pinned == version


def _still_listed(line: RequirementLine, sha256: str | None) -> bool:
    listed = line.hashes.get("sha256")
    return not listed or not sha256 or sha256 in listed


def _lay(
    missing: Sequence[RequirementLine],
    listed: RequirementList,
    environment: VirtualEnvironment,
    interpreter: Interpreter,
    surroundings: Surroundings,
    result: InstallResult,
    progress: Progress,
) -> None:
    cache = PackageCache(surroundings.cache)
    trees: dict[str, CachedTree] = {}
    unknown = []
    for line in missing:
        sha256 = cache.recall("choices", choice_key(line, interpreter)) if line.hashes else None
        tree = cache.tree(sha256) if isinstance(sha256, str) else None
        if tree is not None and not tree.damaged():
            trees[line.name] = tree
        else:
            unknown.append(line)
    if unknown:
        sources = read_sources(surroundings, interpreter, listed.options)
        fetching = Fetching(cache, surroundings, sources, interpreter, progress)
        trees.update(fetching.trees(unknown))
        result.fetched, result.fetched_bytes = fetching.fetched.count, fetching.fetched.size
        result.remarks += fetching.fetched.remarks
    made: set[str] = set()
    for number, line in enumerate(missing, 1):
        tree = trees[line.name]
        lay_wheel(environment, tree, made, requested=True)
        result.laid.append(f"{line.name} {tree.facts['version']}")
        result.archives[line.name] = tree.sha256
        progress(number, len(missing), "laid")


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
