"""From a locked list to an environment that holds just that: choose, fetch, unpack, lay, take out."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainfall.ecosystems.python.configuration import Source, Sources, read_sources
from plainfall.ecosystems.python.environment import VirtualEnvironment
from plainfall.ecosystems.python.laying import (
    INSTALLER,
    installed_distributions,
    is_whole,
    lay_wheel,
    recorded_paths,
    take_out,
)
from plainfall.ecosystems.python.requirements import RequirementLine, RequirementList
from plainfall.ecosystems.python.wheel import describe_wheel
from plainfall.errors import DependencyProblem, PlainfallError, disk_full_explained
from plainfall.packages.cache import CachedTree, PackageCache, unpack_into_cache
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.writing import BESIDE, digest_of

if TYPE_CHECKING:
    from concurrent.futures import Executor, Future

    from plainfall.ecosystems.python.finding import Finder
    from plainfall.packages.client import RegistryClient

__all__ = ["InstallResult", "applicable", "install_locked", "layout_of"]

_AT_ONCE = 8  # connections; a registry's server gives little more to one client beyond this
_WORTH_A_PROCESS = 100_000  # bytes of an archive; a smaller one is unpacked where it arrives

Progress = Callable[[int, int, str], None]


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


@dataclass(frozen=True)
class _Chosen:
    """A wheel to have: by its SHA-256 if that is known, else by its address."""

    line: RequirementLine
    version: str
    sha256: str | None
    filename: str
    url: str
    size: int | None


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
        sha256 = cache.recall("choices", _choice_key(line, interpreter)) if line.hashes else None
        tree = cache.tree(sha256) if isinstance(sha256, str) else None
        if tree is not None and not tree.damaged():
            trees[line.name] = tree
        else:
            unknown.append(line)
    if unknown:
        sources = read_sources(surroundings, interpreter, listed.options)
        fetching = _Fetching(cache, surroundings, sources, interpreter, result, progress)
        trees.update(fetching.trees(unknown))
    made: set[str] = set()
    for number, line in enumerate(missing, 1):
        tree = trees[line.name]
        lay_wheel(environment, tree, made, requested=True)
        result.laid.append(f"{line.name} {tree.facts['version']}")
        result.archives[line.name] = tree.sha256
        progress(number, len(missing), "laid")


def _choice_key(line: RequirementLine, interpreter: Interpreter) -> str:
    hashes = {name: sorted(values) for name, values in line.hashes.items()}
    return digest_of("python", line.name, line.pinned, hashes, interpreter.identity)


class _Fetching:
    """Chooses, fetches and unpacks what the cache lacks: the network in threads, unpacking in processes."""

    def __init__(
        self,
        cache: PackageCache,
        surroundings: Surroundings,
        sources: Sources,
        interpreter: Interpreter,
        result: InstallResult,
        progress: Progress,
    ) -> None:
        self._cache = cache
        self._surroundings = surroundings
        self._sources = sources
        self._interpreter = interpreter
        self._result = result
        self._progress = progress
        self._lock = threading.Lock()
        self._bytes = 0
        self._whole = 0

    def trees(self, lines: Sequence[RequirementLine]) -> dict[str, CachedTree]:
        """The unpacked wheel for each line's name. The first failure ends the rest and is raised."""
        from concurrent.futures import ThreadPoolExecutor

        from plainfall.ecosystems.python.finding import Finder
        from plainfall.ecosystems.python.tags import supported_tags
        from plainfall.packages.client import RegistryClient

        workers = self._workers()
        client = RegistryClient(self._sources.connection, self._surroundings.variables, connections=_AT_ONCE)
        facts = self._interpreter.facts
        finder = Finder(client, self._sources, supported_tags(facts), facts)
        self._check_constraints(lines)
        try:
            with ThreadPoolExecutor(_AT_ONCE) as pool:
                pages = [pool.submit(self._choose, finder, line) for line in lines]
                chosen = self._gathered(pages)
                self._whole = sum(choice.size or 0 for choice in chosen)
                fetches = [pool.submit(self._have, client, workers, choice) for choice in chosen]
                unpacked = self._gathered(fetches)
            trees = [item.result() if hasattr(item, "result") else item for item in unpacked]
        finally:
            client.close()
            if workers is not None:
                workers.shutdown(wait=True, cancel_futures=True)
        for line, tree in zip(lines, trees, strict=True):
            self._check_identity(line, tree)
            if line.hashes:
                self._cache.remember("choices", _choice_key(line, self._interpreter), tree.sha256)
        return {line.name: tree for line, tree in zip(lines, trees, strict=True)}

    def _workers(self) -> Executor | None:
        """Processes for unpacking, started before any thread is (forking a threaded process is unsafe)."""
        count = min(os.cpu_count() or 1, 4)
        if count < 2:
            return None
        import multiprocessing
        from concurrent.futures import ProcessPoolExecutor

        method = "fork" if "fork" in multiprocessing.get_all_start_methods() else None
        workers = ProcessPoolExecutor(count, mp_context=multiprocessing.get_context(method))
        workers.submit(os.getpid).result()
        return workers

    def _gathered(self, futures: Sequence[Future[Any]]) -> list[Any]:
        from concurrent.futures import FIRST_EXCEPTION, wait

        done, waiting = wait(futures, return_when=FIRST_EXCEPTION)
        if waiting:
            for future in waiting:
                future.cancel()
        errors = [error for future in futures if future in done and (error := future.exception())]
        if errors:
            raise errors[0]
        return [future.result() for future in futures]

    def _choose(self, finder: Finder, line: RequirementLine) -> _Chosen:
        version = line.pinned or ""
        found = finder.pinned(line, version)
        if found.remark:
            self._result.remarks.append(found.remark)
        sha256 = found.file.hashes.get("sha256")
        return _Chosen(line, version, sha256, found.file.filename, found.file.url, found.file.size)

    def _have(self, client: RegistryClient, workers: Executor | None, choice: _Chosen) -> Any:
        """The tree of a chosen wheel, or the future of its unpacking."""
        listed = choice.line.hashes
        expected = dict(listed) or ({"sha256": frozenset([choice.sha256])} if choice.sha256 else {})
        archive = self._cache.archive(choice.sha256) if choice.sha256 else None
        sha256 = choice.sha256
        if archive is None or sha256 is None:
            archive, sha256 = self._fetch(client, choice, expected)
        tree = self._cache.tree(sha256)
        if tree is not None and not tree.damaged():
            return tree
        folder = self._cache.folder
        if workers is None or archive.stat().st_size < _WORTH_A_PROCESS:
            return unpack_into_cache(folder, archive, sha256, describe_wheel)
        return workers.submit(unpack_into_cache, folder, archive, sha256, describe_wheel)

    def _fetch(
        self, client: RegistryClient, choice: _Chosen, expected: Mapping[str, frozenset[str]]
    ) -> tuple[Path, str]:
        key = digest_of(choice.url, choice.sha256)
        partial = self._cache.partial(key)
        if choice.url.startswith("file:"):
            from plainfall.packages.client import copy_local

            sha256 = copy_local(choice.url, partial, expected)
        else:
            try:
                sha256 = client.download(choice.url, partial, expected, self._received)
            except PlainfallError as error:
                error.place = error.place or choice.line.evidence
                raise
        with self._lock:
            self._result.fetched += 1
            self._result.fetched_bytes += partial.stat().st_size
        return self._cache.keep_archive(partial, choice.filename, sha256), sha256

    def _received(self, count: int) -> None:
        with self._lock:
            self._bytes += count
            self._progress(self._bytes, max(self._whole, self._bytes), "bytes fetched")

    def _check_constraints(self, lines: Sequence[RequirementLine]) -> None:
        from plainfall.ecosystems.python.requirements import read_requirements

        for source in self._sources.constraints:
            held = {line.name: line for line in lines}
            text = _constraint_text(source)
            for limit in read_requirements(source.address, lambda _, text=text: text, {}).lines:  # type: ignore[misc]
                line = held.get(limit.name)
                if line is None or limit.requirement is None or line.pinned is None:
                    continue
                if not limit.requirement.specifier.contains(line.pinned, prereleases=True):
                    raise DependencyProblem(
                        f"{line.name} {line.pinned} is locked, but your configuration limits it to "
                        f"{limit.requirement.specifier} ({limit.evidence})",
                        place=line.evidence,
                        remedy=f"Change the limit, or take the constraint out of {source.evidence}.",
                    )

    def _check_identity(self, line: RequirementLine, tree: CachedTree) -> None:
        if tree.facts["name"] != line.name:
            raise DependencyProblem(
                f"the archive that is offered as {line.name} says inside that it is {tree.facts['name']}",
                place=line.evidence,
                remedy="The index is wrong or hostile: do not use it before you know which.",
            )


def _constraint_text(source: Source) -> str:
    from plainfall.errors import BadInput

    try:
        return Path(source.address).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            f"the constraint file {source.address} cannot be read: {error}", place=source.evidence
        ) from error


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
