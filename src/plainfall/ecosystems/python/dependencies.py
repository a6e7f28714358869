"""From a dependency list to an environment that holds just that: resolve, get, lay, take out."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from plainfall.ecosystems.python.bytecode import bytecode_placements, compile_later
from plainfall.ecosystems.python.environment import VirtualEnvironment
from plainfall.ecosystems.python.laying import (
    INSTALLER,
    installed_distributions,
    is_whole,
    lay_wheel,
    recorded_paths,
    take_out,
)
from plainfall.ecosystems.python.pins import Listed, Pin, Reference, Target, choice_key
from plainfall.errors import DependencyProblem, HashMismatch, disk_full_explained
from plainfall.evidence import Evidence
from plainfall.packages.cache import CachedTree, PackageCache
from plainfall.packages.placing import place_files
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.survey.walk import Tree
from plainfall.writing import BESIDE, digest_of, digest_of_files, write_whole

if TYPE_CHECKING:
    from plainfall.ecosystems.python.requirements import RequirementLine
    from plainfall.ecosystems.python.resolving import Direct
    from plainfall.ecosystems.python.supply import Progress, Supply

__all__ = ["InstallResult", "Job", "install", "layout_of"]


@dataclass(frozen=True)
class Job:
    """One installation: the clone, the list, the environment and its interpreter, where the resolved lock
    is kept, the versions taken instead of others, the archives that were installed the time before."""

    clone: Path
    listed: Listed
    environment: VirtualEnvironment
    interpreter: Interpreter
    surroundings: Surroundings
    target: Target
    lock: Path
    instead: Mapping[str, str]
    archives: Mapping[str, str]
    progress: Progress


@dataclass
class InstallResult:
    """What was done: names with versions, by what happened to each; bytes fetched; what was built from
    source; remarks for people; ``archives`` maps each installed name to the SHA-256 of its wheel;
    ``resolved`` tells that versions were chosen in this run, ``lock_text`` is the lock that holds them."""

    laid: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    taken_out: list[str] = field(default_factory=list)
    strangers: list[str] = field(default_factory=list)
    fetched: int = 0
    fetched_bytes: int = 0
    built: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    archives: dict[str, str] = field(default_factory=dict)
    resolved: bool = False
    lock_text: str = ""


class _Lazy:
    """The supply, made when it is first needed: a warm run needs none, and its imports cost time."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._made: Supply | None = None
        self.directs: dict[str, tuple[CachedTree, str]] = {}

    def get(self) -> Supply:
        if self._made is None:
            from plainfall.ecosystems.python.configuration import read_sources
            from plainfall.ecosystems.python.supply import Supply

            job = self._job
            sources = read_sources(job.surroundings, job.interpreter, job.listed.options)
            self._made = Supply(job.clone, sources, job.interpreter, job.surroundings, job.progress)
        return self._made

    def direct(self, reference: Reference, place: Evidence) -> tuple[CachedTree, str]:
        from plainfall.ecosystems.python.references import References

        return References(self.get()).direct(reference, place)

    def close(self, result: InstallResult) -> None:
        if self._made is not None:
            supplied = self._made.supplied
            result.fetched, result.fetched_bytes = supplied.count, supplied.size
            result.built += supplied.built
            result.remarks += supplied.remarks
            self._made.close()


def install(job: Job) -> InstallResult:
    """Makes the environment hold what the list says.

    What is installed already is kept; what Plainfall laid there earlier and the list no longer leads to is
    taken out; what others installed beyond the list is left and named. Raises DependencyProblem,
    RegistryProblem, ArchiveRefused, CommandFailed of a build, or DiskFull; a later call goes on from there.
    """
    result = InstallResult()
    lazy = _Lazy(job)
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


def _install(job: Job, lazy: _Lazy, result: InstallResult) -> None:
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


def _pins(job: Job, lazy: _Lazy, result: InstallResult) -> list[Pin]:
    """The pins of a complete lock, or those that the wishes resolve to."""
    listed = job.listed
    if listed.pins is None:
        return _resolved(job, lazy, result)
    pins = []
    for pin in listed.pins:
        if pin.name in job.instead:
            pin = replace(pin, version=job.instead[pin.name], hashes={}, files=())
        pins.append(pin)
    return pins


def _resolved(job: Job, lazy: _Lazy, result: InstallResult) -> list[Pin]:
    """Takes the kept resolution if its inputs are the same, else resolves and keeps the result."""
    listed = job.listed
    if not listed.wishes:
        return []
    folder = listed.path.rpartition("/")[0]
    directs, indexed = _split(listed.wishes)
    inputs = digest_of(
        [str(line.requirement) for line in indexed],
        [(line.reference, line.editable) for line in directs],
        [str(line.requirement) for line in listed.constraints],
        listed.prereleases,
        str(listed.options),
        digest_of_files(job.clone, [*listed.files, *_manifests(directs, folder)]),
        sorted(job.instead.items()),
        job.target.markers.get("python_version"),
        job.interpreter.facts["platform"],
    )
    obtained = _direct_pins(job, directs, folder, lazy)
    kept = _kept_lock(job, inputs)
    if kept is not None:
        return [*kept, *obtained]
    from plainfall.ecosystems.python.lists.pylock import write_pylock
    from plainfall.ecosystems.python.resolving import resolve

    supply = lazy.get()
    known = {position: _as_direct(pin, lazy) for position, pin in enumerate(obtained)}
    wishes = [*directs, *indexed]
    limits = [*listed.constraints, *supply.user_limits()]
    found = resolve(
        wishes,
        limits,
        known,
        supply.finder,
        supply.metadata,
        job.target,
        prereleases=listed.prereleases,
        instead=job.instead,
    )
    result.resolved = True
    chosen = [one for one in found if one.direct is None]
    rows = [(one.name, one.version, [f for f in one.files if f.hashes.get("sha256")]) for one in chosen]
    line = job.target.markers.get("python_version", "")
    if all(files for _, _, files in rows):
        result.lock_text = write_pylock(rows, f"=={line}.*" if line else "", inputs)
    pins = []
    for one, (_, _, files) in zip(chosen, rows, strict=True):
        digests = frozenset(file.hashes["sha256"] for file in files)
        place = one.evidence or listed.wishes[0].evidence
        pins.append(Pin(one.name, one.version, place, {"sha256": digests} if digests else {}, tuple(files)))
    return [*pins, *obtained]


def _split(wishes: Sequence[RequirementLine]) -> tuple[list[RequirementLine], list[RequirementLine]]:
    direct = [line for line in wishes if line.reference is not None]
    return direct, [line for line in wishes if line.reference is None]


def _manifests(directs: Sequence[RequirementLine], folder: str) -> list[str]:
    """The manifests of local references: their requirements are inputs too."""
    places = [
        os.path.normpath(os.path.join(folder, line.reference or ""))
        for line in directs
        if "://" not in (line.reference or "")
    ]
    return [f"{place}/{name}" for place in places for name in ("pyproject.toml", "setup.py", "setup.cfg")]


def _direct_pins(job: Job, directs: Sequence[RequirementLine], folder: str, lazy: _Lazy) -> list[Pin]:
    if not directs:
        return []
    from plainfall.ecosystems.python.references import reference_of

    pins = []
    for line in directs:
        reference = reference_of(line, folder)
        tree, text = lazy.direct(reference, line.evidence)
        name = str(tree.facts["name"])
        lazy.directs[name] = tree, text
        pins.append(Pin(name, str(tree.facts["version"]), line.evidence, reference=reference))
    return pins


def _as_direct(pin: Pin, lazy: _Lazy) -> Direct:
    from packaging.requirements import Requirement

    from plainfall.ecosystems.python.resolving import Direct

    tree = lazy.directs[pin.name][0]
    requires = tuple(Requirement(text) for text in tree.facts["requires"])
    return Direct(pin.name, pin.version, requires, pin.evidence)


def _kept_lock(job: Job, inputs: str) -> list[Pin] | None:
    if not job.lock.is_file() or f'inputs = "{inputs}"' not in job.lock.read_text("utf-8"):
        return None
    from plainfall.ecosystems.python.lists.pylock import read_pylock

    tree = Tree(job.lock.parent, ())
    pins = read_pylock(tree, job.lock.name, job.target).pins
    return list(pins) if pins is not None else None


def _cleared(job: Job, pins: Sequence[Pin], lazy: _Lazy, result: InstallResult) -> list[Pin]:
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


def _is_installed(pin: Pin, version: str, sha256: str | None, lazy: _Lazy) -> bool:
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


def _lay(job: Job, missing: Sequence[Pin], lazy: _Lazy, result: InstallResult) -> None:
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
