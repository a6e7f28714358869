"""Choosing, fetching and unpacking what the package cache lacks: the network in threads, unpacking in
processes."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainfall.ecosystems.python.configuration import Source, Sources
from plainfall.ecosystems.python.requirements import RequirementLine, read_requirements
from plainfall.ecosystems.python.wheel import describe_wheel
from plainfall.errors import BadInput, DependencyProblem, PlainfallError
from plainfall.packages.cache import CachedTree, PackageCache, unpack_into_cache
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.writing import digest_of

if TYPE_CHECKING:
    from concurrent.futures import Executor, Future

    from plainfall.ecosystems.python.finding import Finder
    from plainfall.packages.client import RegistryClient

__all__ = ["Fetched", "Fetching", "Progress", "choice_key"]

_AT_ONCE = 8  # connections; a registry's server gives little more to one client beyond this
_WORTH_A_PROCESS = 100_000  # bytes of an archive; a smaller one is unpacked where it arrives

Progress = Callable[[int, int, str], None]


@dataclass
class Fetched:
    """What was fetched: how many archives, their bytes, remarks for people."""

    count: int = 0
    size: int = 0
    remarks: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Chosen:
    """A wheel to have: by its SHA-256 if that is known, else by its address."""

    line: RequirementLine
    version: str
    sha256: str | None
    filename: str
    url: str
    size: int | None


def choice_key(line: RequirementLine, interpreter: Interpreter) -> str:
    hashes = {name: sorted(values) for name, values in line.hashes.items()}
    return digest_of("python", line.name, line.pinned, hashes, interpreter.identity)


class Fetching:
    """Chooses, fetches and unpacks what the cache lacks: the network in threads, unpacking in processes."""

    def __init__(
        self,
        cache: PackageCache,
        surroundings: Surroundings,
        sources: Sources,
        interpreter: Interpreter,
        progress: Progress,
    ) -> None:
        self._cache = cache
        self._surroundings = surroundings
        self._sources = sources
        self._interpreter = interpreter
        self.fetched = Fetched()
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
                self._cache.remember("choices", choice_key(line, self._interpreter), tree.sha256)
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
            self.fetched.remarks += (found.remark,)
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
            self.fetched.count += 1
            self.fetched.size += partial.stat().st_size
        return self._cache.keep_archive(partial, choice.filename, sha256), sha256

    def _received(self, count: int) -> None:
        with self._lock:
            self._bytes += count
            self._progress(self._bytes, max(self._whole, self._bytes), "bytes fetched")

    def _check_constraints(self, lines: Sequence[RequirementLine]) -> None:
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
    try:
        return Path(source.address).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            f"the constraint file {source.address} cannot be read: {error}", place=source.evidence
        ) from error
