"""Getting packages: chosen, fetched, built where there is no wheel, unpacked into the package cache.

The network is asked in threads; archives are unpacked in processes; builds run one after the other.
"""

from __future__ import annotations

import re
import shutil
import threading
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from plainfall.ecosystems.python.clients.configuration import Sources
from plainfall.ecosystems.python.install.building import build_wheel_from
from plainfall.ecosystems.python.install.wheel import describe_wheel
from plainfall.ecosystems.python.lists.pins import Pin, Target, choice_key
from plainfall.ecosystems.python.lists.requirements import RequirementLine
from plainfall.ecosystems.python.resolve.finding import Finder, admits_python
from plainfall.ecosystems.python.resolve.limits import check_limits, user_limits
from plainfall.ecosystems.python.resolve.metadata import MetadataSource
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.ecosystems.python.runtime.environment import VirtualEnvironment
from plainfall.ecosystems.python.runtime.tags import supported_tags
from plainfall.errors import BuildFailed, DependencyProblem, DiskFull, PlainfallError
from plainfall.evidence import Evidence
from plainfall.failure_facts import not_built
from plainfall.failure_kinds import FailureKind
from plainfall.packages.cache import CachedTree, PackageCache, unpack_into_cache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import RegistryClient, check_hashes, copy_local
from plainfall.packages.digests import Digest
from plainfall.packages.placing import Folders
from plainfall.packages.source_archives import unpack_source
from plainfall.plain_files import plain_digest, plain_text
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.workers import worker_pool

if TYPE_CHECKING:
    from concurrent.futures import Future

__all__ = ["Progress", "SourceArchive", "Supplied", "Supply"]

_AT_ONCE = 8  # connections; a registry's server gives little more to one client beyond this
_WORTH_A_PROCESS = 100_000  # bytes of an archive; a smaller one is unpacked where it arrives
_GROWTH = 4  # how much larger than its archives an unpacked stack usually is

Progress = Callable[[int, int, str], None]


_BUILD_INTERFACE = (
    "2019-06-01"  # by that day the build tools had the interface that builds go through (PEP 517)
)


class Supplied(Struct):
    """What was fetched: how many archives, their bytes; what was built; remarks for people."""

    count: int = 0
    size: int = 0
    built: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


class SourceArchive(Struct, frozen=True):
    """A fetched source package that is still to be built; ``filename`` is its own name, ``day`` the one on which it
    was published (ISO 8601, "" where nobody says)."""

    archive: Path
    sha256: str
    filename: str
    pin: Pin
    day: str = ""


class Supply:
    """Everything that gets packages for one interpreter from one set of sources. ``close`` it at the end.

    ``clone`` is what paths of references count from; ``chain`` names the builds under way, so that a
    package that needs itself to be built is told.
    """

    def __init__(
        self,
        clone: Path,
        sources: Sources,
        interpreter: Interpreter,
        surroundings: Surroundings,
        progress: Progress,
        chain: tuple[str, ...] = (),
        as_of: str = "",
    ) -> None:
        self.clone = clone
        self._sources = sources
        self.interpreter = interpreter
        self.surroundings = surroundings
        self._progress = progress
        self._chain = chain
        self._lock = threading.Lock()
        self._bytes = 0
        self._whole = 0
        self._workers = worker_pool()
        self._unpacking: list[Future[CachedTree]] = []
        self.supplied = Supplied()
        # What a build comes to depends on its tools, and so on where those are from: a wheel that was built with
        # the registry of one clone is not taken for a clone with another.
        self.origin = sources.origins(clone)
        self.cache = PackageCache(surroundings.cache)
        self.client = RegistryClient(sources.connection, surroundings.variables, connections=_AT_ONCE)
        self._as_of = as_of
        tags = supported_tags(interpreter.facts)
        self.finder = Finder(self.client, sources, tags, interpreter.facts, as_of)
        self.metadata = MetadataSource(
            self.client, self.cache, self._metadata_by_building, (interpreter.identity, as_of, *self.origin)
        )

    def close(self) -> None:
        """Ends threads and connections; what is still unpacked is cancelled or waited for."""
        self.finder.close()
        self.client.close()
        for task in self._unpacking:
            if not task.cancel():
                task.exception()

    def trees(self, pins: Sequence[Pin]) -> dict[str, CachedTree]:
        """The unpacked wheel of each pin, by name. The first failure ends the rest and is raised:
        DependencyProblem, RegistryProblem, ArchiveRefused, CommandFailed of a build, DiskFull."""
        from concurrent.futures import ThreadPoolExecutor

        check_limits(pins, self._sources)
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            chosen = self._gathered([pool.submit(self._choose, pin) for pin in pins])
            self._whole = sum(file.size or 0 for file in chosen)
            self._check_room()
            fetches = [pool.submit(self._have, pin, file) for pin, file in zip(pins, chosen, strict=True)]
            had = self._gathered(fetches)
        trees = {}
        for pin, item in zip(pins, had, strict=True):
            if isinstance(item, SourceArchive):
                tree = self.built(item)
            else:
                tree = item.result() if hasattr(item, "result") else item
            self._check_identity(pin, tree)
            if pin.hashes:
                named = tree.key.name in pin.hashes.get("sha256", ())
                origin = () if named else self.origin or ["no registry"]
                self.cache.remember(choice_key(pin, self.interpreter, origin), tree.key.name)
            trees[pin.name] = tree
        return trees

    @staticmethod
    def _gathered(futures: Sequence[Future[Any]]) -> list[Any]:
        from concurrent.futures import FIRST_EXCEPTION, wait

        done, waiting = wait(futures, return_when=FIRST_EXCEPTION)
        for future in waiting:
            future.cancel()
        errors = [error for future in futures if future in done and (error := future.exception())]
        if errors:
            raise errors[0]
        return [future.result() for future in futures]

    def _choose(self, pin: Pin) -> IndexFile:
        result = self.finder.pinned(pin)
        if result.remark:
            with self._lock:
                self.supplied.remarks += (result.remark,)
        return result.file

    def _check_room(self) -> None:
        free = shutil.disk_usage(self._existing(self.cache.folder)).free
        if self._whole and self._whole * (_GROWTH + 1) > free:
            raise DiskFull(
                f"{self._whole / 1e6:,.0f} MB are to be fetched, which unpack to about "
                f"{self._whole * _GROWTH / 1e6:,.0f} MB; {free / 1e6:,.0f} MB are free in "
                f"{self.cache.folder}",
                remedy="Free some space, or move the package cache with PLAINFALL_CACHE=FOLDER. "
                "Nothing was fetched.",
            )

    @staticmethod
    def _existing(folder: Path) -> Path:
        while not folder.exists():
            folder = folder.parent
        return folder

    def _have(self, pin: Pin, file: IndexFile) -> Any:
        """The tree of a chosen archive, or the future of its unpacking, or a source still to be built."""
        stated = file.hashes.get("sha256")
        expected = dict(pin.hashes) or ({"sha256": frozenset([stated])} if stated else {})
        archive, sha256 = self.fetch(pin.evidence, file, expected)
        if not file.filename.endswith(".whl"):
            return SourceArchive(archive, sha256, file.filename, pin, file.uploaded[:10])
        tree = self.cache.tree(CacheKey.of_content("python", Digest("sha256", sha256)))
        if tree is not None and not tree.damaged():
            return tree
        arguments = (self.cache.folder, archive, sha256, file.filename, describe_wheel)
        if self._workers is None or archive.stat().st_size < _WORTH_A_PROCESS:
            return unpack_into_cache(*arguments)
        task = self._workers.submit(unpack_into_cache, *arguments)
        self._unpacking.append(task)
        return task

    def fetch(
        self, place: Evidence, file: IndexFile, expected: Mapping[str, frozenset[str]]
    ) -> tuple[Path, str]:
        """The archive of a file and its SHA-256, from the cache or its address, each listed hash checked either
        way. Raises HashMismatch, RegistryProblem."""
        stated = file.hashes.get("sha256")
        archive = self.cache.archive(stated) if stated else None
        if archive is not None and stated is not None:
            others = {name: values for name, values in expected.items() if values != {stated}}
            if others:
                check_hashes(file.url, archive, others)
            return archive, stated
        with self.cache.partial(CacheKey.of_statement("archive", [file.url], stated)) as partial:
            try:
                if file.url.startswith("file:"):
                    sha256 = copy_local(file.url, partial, expected)
                else:
                    sha256 = self.client.download(file.url, partial, expected, self._received)
            except PlainfallError as error:
                error.place = error.place or place
                raise
            with self._lock:
                self.supplied.count += 1
                self.supplied.size += partial.stat().st_size
            return self.cache.keep_archive(partial, sha256), sha256

    def _received(self, count: int) -> None:
        with self._lock:
            self._bytes += count
            self._progress(self._bytes, max(self._whole, self._bytes), "bytes fetched")

    def built(self, source: SourceArchive) -> CachedTree:
        """The wheel of a source package; one that was built for this interpreter before is taken again. Where
        its build fails with the tools of today, it is tried with those of the day on which it was published."""
        key = self.product_key("archive", source.sha256)
        tree = self.remembered(key)
        if tree is not None:
            return tree
        label = f"{source.pin.name} {source.pin.version}".strip()
        try:
            return self._built_with(source, key, label)
        except (BuildFailed, DependencyProblem) as failure:
            if not source.day or source.day >= (self._as_of or datetime.now(UTC).date().isoformat()):
                raise
            try:
                tree = self._built_with(source, key, label, max(source.day, _BUILD_INTERFACE))
            except (BuildFailed, DependencyProblem):
                raise failure from None
        with self._lock:
            self.supplied.remarks += (f"{label} was built with the tools of {source.day}: newer ones fail",)
        return tree

    def _built_with(self, source: SourceArchive, key: CacheKey, label: str, day: str = "") -> CachedTree:
        """The wheel, with build tools as of a day ("": as of the run's)."""
        with self.cache.workshop() as name:
            folder = Path(name, "source")
            folder.mkdir()
            top = unpack_source(source.archive, folder, source.filename)
            return self.build(top, Path(name), key, label, source.pin.evidence, editable=False, day=day)

    def product_key(self, *material: object) -> CacheKey:
        """The key of a wheel that is built of something with the tools of these registries, as of this day."""
        return CacheKey.of_product(
            "built",
            material=material,
            tools=[self._as_of],
            runtime=self.interpreter.identity,
            registries=self.origin,
            allowed=True,
        )

    def remembered(self, key: CacheKey) -> CachedTree | None:
        """The wheel that was built under a key before, if it is here."""
        sha256 = self.cache.recall(key)
        tree = self.cache.tree(CacheKey.recorded("python", sha256)) if isinstance(sha256, str) else None
        return tree if tree is not None and not tree.damaged() else None

    def build(
        self,
        source: Path,
        work: Path,
        key: CacheKey,
        label: str,
        place: Evidence,
        *,
        editable: bool,
        day: str = "",
    ) -> CachedTree:
        """Builds a folder into a wheel, with tools as of ``day``, and keeps it under a key. Raises BuildFailed,
        DependencyProblem for its tools."""
        if label in self._chain:
            way = " → ".join((*self._chain, label))
            raise DependencyProblem(f"building {label} needs {label} itself: {way}", place=place)
        self._progress(0, 0, f"building {label}")

        def provide(texts: Sequence[str], environment: VirtualEnvironment) -> None:
            self._provide(texts, environment, label, place, day)

        try:
            wheel = build_wheel_from(
                source,
                work,
                self.interpreter,
                self.surroundings,
                provide,
                editable=editable,
                label=label,
                place=place,
            )
        except PlainfallError as error:
            if error.log:
                error.log = str(self.cache.keep_log(error.log, label))
            raise
        sha256 = plain_digest(wheel).hex()
        name = wheel.name
        archive = self.cache.keep_archive(wheel, sha256)
        tree = unpack_into_cache(self.cache.folder, archive, sha256, name, describe_wheel)
        self.cache.remember(key, sha256)
        self.supplied.built += (label,)
        return tree

    def _provide(
        self, texts: Sequence[str], environment: VirtualEnvironment, label: str, place: Evidence, day: str
    ) -> None:
        """Installs build requirements, resolved by the same means, into a build environment."""
        from plainfall.ecosystems.python.install.laying import lay_wheel

        folders = Folders(environment.folder)
        for tree in self.trees_for(texts, f"{label}'s build requirements", place, label, day).values():
            lay_wheel(environment, tree, folders, requested=False)

    def trees_for(
        self, texts: Sequence[str], title: str, place: Evidence, label: str = "", day: str = ""
    ) -> dict[str, CachedTree]:
        """The trees of requirements and of what they need, resolved apart from all else, by name; as of a
        ``day``, where one is said."""
        from plainfall.ecosystems.python.lists.manifests import requirement_at
        from plainfall.ecosystems.python.resolve.resolving import resolve

        if not texts:
            return {}
        lines = [requirement_at(text, Evidence(title, 0)) for text in texts]
        target = Target(self.interpreter.facts["markers"])
        lines = [line for line in lines if line.requirement and target.holds(line.requirement.marker)]
        inner = Supply(
            self.clone,
            self._sources,
            self.interpreter,
            self.surroundings,
            self._progress,
            (*self._chain, label or title),
            day or (max(self._as_of, _BUILD_INTERFACE) if self._as_of else ""),
        )
        try:
            try:
                result = resolve(lines, (), {}, inner.finder, inner.metadata, target)
            except DependencyProblem as error:
                error.rule = error.rule or FailureKind.BUILD_TOOLS
                if not error.facts.named:
                    error.facts = not_built(label)
                raise
            return inner.trees([Pin(one.name, one.version, place) for one in result])
        finally:
            inner.close()

    def _metadata_by_building(self, file: IndexFile) -> str:
        place = Evidence(file.filename)
        expected = {name: frozenset([value]) for name, value in file.hashes.items()}
        archive, sha256 = self.fetch(place, file, expected)
        static = self._static_metadata(archive, file.filename)
        if static is not None:
            return static
        name, _, rest = file.filename.rpartition("-")
        version = re.sub(r"\.(tar\.\w+|tgz|zip)$", "", rest)
        pin = Pin(name, version, place)
        tree = self.built(SourceArchive(archive, sha256, file.filename, pin, file.uploaded[:10]))
        return plain_text(tree.folder / str(tree.facts["dist_info"]) / "METADATA", "utf-8", "replace")

    def _static_metadata(self, archive: Path, filename: str) -> str | None:
        """PKG-INFO, where it vouches for its requirements (PEP 643)."""
        from plainfall.ecosystems.python.resolve.metadata import parse_metadata

        with self.cache.workshop() as name:
            folder = Path(name, "source")
            folder.mkdir()
            info = unpack_source(archive, folder, filename) / "PKG-INFO"
            text = plain_text(info, "utf-8", "replace") if info.is_file() else ""
        return text if text and not parse_metadata(text).dynamic else None

    def user_limits(self) -> list[RequirementLine]:
        """The constraints of the user's own configuration. Raises BadInput."""
        return user_limits(self._sources)

    def _check_identity(self, pin: Pin, tree: CachedTree) -> None:
        if tree.facts["name"] != pin.name:
            raise DependencyProblem(
                f"the archive that is offered as {pin.name} says inside that it is {tree.facts['name']}",
                place=pin.evidence,
                remedy="The index is wrong or hostile: do not use it before you know which.",
            )
        wanted, here = str(tree.facts["requires_python"]), self.interpreter.version
        if wanted and not admits_python(wanted, here):
            raise DependencyProblem(
                f"{pin.name} {tree.facts['version']} is for Python {wanted}, and this is {here}",
                place=pin.evidence,
                remedy="Use another Python (--runtime PATH), or take another release for this clone (--instead).",
            )
