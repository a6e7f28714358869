"""One installation: its inputs, its result, and its package supply, which a warm run never creates."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.ecosystems.python.lists.pins import Listed, Reference, Target
from plainfall.ecosystems.python.runtime.environment import VirtualEnvironment
from plainfall.ecosystems.shape import CloneAccess
from plainfall.errors import PlainfallError
from plainfall.evidence import Evidence
from plainfall.packages.cache import CachedTree
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

if TYPE_CHECKING:
    from plainfall.ecosystems.python.clients.configuration import Sources
    from plainfall.ecosystems.python.install.supply import Progress, Supply

__all__ = ["BUILD_TOOLS", "InstallResult", "Job", "Lazy"]

BUILD_TOOLS = (
    "build-tools"  # the rule of a failure: nothing that a package must be built with fits this Python
)


class Job(Struct, frozen=True):
    """One installation: the clone, the list, the environment and its interpreter, where the resolved lock
    is kept, the versions taken instead of others, the archives that were installed the time before, what may
    be touched, the day as of which versions are chosen, wishes that count where there is a choice, whether the
    interpreter's own package client is laid, too, and versions that cannot be built here ("NAME!=VERSION")."""

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
    access: CloneAccess
    as_of: str = ""
    rather: tuple[str, ...] = ()
    with_client: bool = False
    avoided: tuple[str, ...] = ()


class InstallResult(Struct):
    """What was done: names with versions, by what happened to each; bytes fetched; what was built from
    source; remarks for people; ``archives`` maps each installed name to the SHA-256 of its wheel;
    ``resolved`` tells that versions were chosen in this run, ``lock_text`` is the lock that holds them;
    ``not_built`` is why the project itself is not installed, None where it is, or was not meant to be."""

    laid: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    taken_out: list[str] = field(default_factory=list)
    unmanaged: list[str] = field(default_factory=list)
    fetched: int = 0
    fetched_bytes: int = 0
    built: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    archives: dict[str, str] = field(default_factory=dict)
    resolved: bool = False
    lock_text: str = ""
    not_built: PlainfallError | None = None


class Lazy:
    """The supply, made when it is first needed: a warm run needs none, and its imports cost time."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._made: Supply | None = None
        self._sources: Sources | None = None
        self.directs: dict[str, tuple[CachedTree, str]] = {}

    def sources(self) -> Sources:
        """Where the packages come from."""
        if self._sources is None:
            from plainfall.ecosystems.python.clients.configuration import read_sources

            job = self._job
            self._sources = read_sources(job.surroundings, job.interpreter, job.listed.options)
        return self._sources

    def get(self) -> Supply:
        if self._made is None:
            from plainfall.ecosystems.python.install.supply import Supply

            job = self._job
            self._made = Supply(
                job.clone,
                self.sources(),
                job.interpreter,
                job.surroundings,
                job.progress,
                as_of=job.as_of,
            )
        return self._made

    def origin(self) -> list[str]:
        """The sources' addresses as keys of the cache hold them."""
        return self.sources().origins(self._job.clone)

    def direct(
        self, reference: Reference, place: Evidence, hashes: Mapping[str, frozenset[str]]
    ) -> tuple[CachedTree, str]:
        """The tree of a direct reference and the text of its record; an archive must have every hash that the list
        states, in the reference or beside it."""
        from plainfall.ecosystems.python.install.references import References

        accepted = {**reference.hashes}
        for algorithm, values in hashes.items():
            accepted[algorithm] = values & accepted.get(algorithm, values)
        return References(self.get()).direct(replace(reference, hashes=accepted), place)

    def close(self, result: InstallResult) -> None:
        if self._made is not None:
            supplied = self._made.supplied
            result.fetched, result.fetched_bytes = supplied.count, supplied.size
            result.built += supplied.built
            result.remarks += supplied.remarks
            self._made.close()
